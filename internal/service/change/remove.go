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
	going, _ := ctx.Value(goingKey{}).(map[string]bool)
	routes := slices.DeleteFunc(records.View().RoutesTo(id), func(r string) bool { return going[r] })
	if len(routes) == 0 {
		return nil
	}
	return problem.New(problem.Conflict, "%s to %s: %s", words.Many(len(routes), "route leads", "routes lead"), a, strings.Join(routes, ", ")).Next("remove what leads there first: ferry remove %s", routes[0])
}
