package change

import (
	"context"
	"slices"
	"strings"

	"steadyferry/internal/core/address"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/words"
	"steadyferry/internal/engine/catalog"
)

type goingKey struct{}

// WithGoing says of a preview what goes before it, by its addresses: that is in the way of
// nothing.
func WithGoing(ctx context.Context, going map[string]bool) context.Context {
	return context.WithValue(ctx, goingKey{}, going)
}

// NoRoutesTo says why a channel or an endpoint stays: routes lead there.
func NoRoutesTo(ctx context.Context, records *catalog.Catalog, id int64, a address.Address) error {
	routes := staying(ctx, records.View().RoutesTo(id))
	if len(routes) == 0 {
		return nil
	}
	return problem.New(problem.Conflict, "%s to %s: %s", words.Many(len(routes), "route leads", "routes lead"), a, strings.Join(routes, ", ")).Next("remove what leads there first: ferry remove %s", routes[0])
}

// NoRoutesFromDead says why a group or a route stays: routes read its dead letters.
func NoRoutesFromDead(ctx context.Context, records *catalog.Catalog, group int64, a address.Address) error {
	view := records.View()
	dead := view.DeadOf[group]
	if dead == nil {
		return nil
	}
	var routes []string
	for _, g := range view.Routes[dead.ID] {
		routes = append(routes, dead.Reader(g.Name))
	}
	if routes = staying(ctx, routes); len(routes) == 0 {
		return nil
	}
	return problem.New(problem.Conflict, "%s the dead letters of %s: %s", words.Many(len(routes), "route reads", "routes read"), a, strings.Join(routes, ", ")).Next("remove what reads them first: ferry remove %s", routes[0])
}

// staying leaves out routes that go before, and puts the rest in order.
func staying(ctx context.Context, routes []string) []string {
	going, _ := ctx.Value(goingKey{}).(map[string]bool)
	routes = slices.DeleteFunc(routes, func(r string) bool { return going[r] })
	slices.Sort(routes)
	return routes
}
