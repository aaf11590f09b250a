package routes

import (
	"context"
	"errors"
	"log/slog"
	"strings"
	"time"

	"github.com/google/uuid"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/route"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/part"
)

// New makes a route that begins at a position of its source.
func (rs *Routes) New(ctx context.Context, who string, a address.Address, from address.Position, settings setting.Change) (*catalog.Group, error) {
	if err := access.Check(ctx, access.Route, a.String()); err != nil {
		return nil, err
	}
	if err := address.CheckReader(a.Group); err != nil {
		return nil, problem.New(problem.Invalid, "the route: %v", err).Field("group")
	}
	t, name, err := rs.sourceOf(ctx, a)
	if err != nil {
		return nil, err
	}
	if err := access.CheckUnmasked(ctx, access.SeeContent, t.Record().Address()); err != nil {
		return nil, err
	}
	offsets, err := rs.begins(ctx, t, name, from)
	if err != nil {
		return nil, err
	}
	if err := setting.Groups.Fits(settings, setting.Route, a.String()); err != nil {
		return nil, err
	}
	g := &catalog.Group{ChannelID: t.ID, Name: name}
	setting.Groups.Apply(&g.Group, settings)
	target, err := rs.checkTarget(ctx, t, a, g.To)
	if err != nil {
		return nil, err
	}
	g.Route = &catalog.Route{ID: uuid.New(), Source: t.ID, Target: target.id, Outside: target.endpoint != nil, Version: time.Now().UnixMicro(), Begins: offsets}
	after := setting.Groups.Show(&g.Group, setting.Route)
	after["from"] = from.String()
	err = rs.catalog.NewRoute(ctx, g, offsets, &catalog.Entry{Who: who, Action: "new route", Address: a.String(), After: after})
	if errors.Is(err, catalog.ErrExists) {
		return nil, problem.New(problem.Conflict, "%s exists already", a).Field("address").Next("ferry show %s tells how it is", a)
	}
	if err != nil {
		return nil, part.Explain(err, a.String())
	}
	rs.outside.Happened(a.String(), "created", "by "+who+", to "+g.To)
	if _, g, err = rs.parts.Group(a); err == nil && address.ReadsDead(name) {
		rs.impose(ctx, a) // no message holds the place where it begins
	}
	return g, err
}

// sourceOf returns what a route is to read. The dead letters of another reader have a queue
// when the first one comes, or when they are to be read.
func (rs *Routes) sourceOf(ctx context.Context, a address.Address) (*part.Channel, string, error) {
	source, _ := a.Source()
	if source.Group != "" {
		if _, err := rs.groups.DeadQueue(ctx, source); err != nil {
			return nil, "", err
		}
	}
	return rs.parts.SourceOf(a)
}

// begins returns the offsets at which a route begins, by partition. Those of a queue have
// no meaning; of its dead letters, AtEnd leaves out what is one already.
func (rs *Routes) begins(ctx context.Context, t *part.Channel, name string, from address.Position) ([]int64, error) {
	offsets := make([]int64, len(t.Partitions()))
	switch dead := address.ReadsDead(name); {
	case !t.IsQueue():
		return rs.groups.Starts(ctx, t, from)
	case dead && from.Kind == address.End:
		for i := range offsets {
			offsets[i] = route.AtEnd
		}
	case dead && from.Kind != address.First:
		return nil, problem.New(problem.Invalid, "a route that reads dead letters does not begin at %s", from).Field("from").Allowed("first, for those that are there already too, and end")
	case from.Kind != address.First:
		return nil, problem.New(problem.Invalid, "%s is a queue: a route takes from it what waits, and does not begin at %s", t.Address(), from).Field("from").Allowed("first")
	}
	return offsets, nil
}

// checkTarget returns what a route from a channel may lead to.
func (rs *Routes) checkTarget(ctx context.Context, source *part.Channel, a address.Address, to string) (target, error) {
	if to == "" {
		return target{}, problem.New(problem.Invalid, "%s leads nowhere", a).Field("to").Allowed("the address of a topic, a queue or an endpoint")
	}
	at, err := address.ParseChannel(to)
	if err != nil {
		return target{}, err
	}
	ch, err := rs.parts.Channel(at)
	if err != nil {
		if e, outside := rs.outside.Of(ctx, at); outside == nil {
			if e.Kind() == setting.Mail {
				return target{}, problem.New(problem.Invalid, "%s sends mail, which is for notices of incidents and chores", at).Field("to").Next("have a watch tell it: ferry set SPACE/WATCH -tell %s", at)
			}
			return toEndpoint(e), nil
		}
		return target{}, err
	}
	if chain := rs.chainTo(ch.ID, source.ID); chain != nil {
		return target{}, problem.New(problem.Invalid, "%s would send messages in a circle: %s", a, strings.Join(append([]string{source.Address().String()}, chain...), " -> ")).Field("to").Next("choose a target from which no route leads back")
	}
	return toChannel(ch), nil
}

// chainTo returns the channels through which routes lead from one to another, both
// included; nil when none do.
func (rs *Routes) chainTo(from, to int64) []string {
	view := rs.catalog.View()
	to = rootOf(view, to)
	seen := map[int64]bool{}
	var walk func(at int64) []string
	walk = func(at int64) []string {
		ch := view.Channel(at)
		if ch == nil || seen[at] {
			return nil
		}
		seen[at] = true
		if at == to {
			return []string{ch.Address()}
		}
		for _, g := range routesFrom(view, ch) {
			if chain := walk(g.Route.Target); chain != nil {
				return append([]string{ch.Address()}, chain...)
			}
		}
		return nil
	}
	return walk(from)
}

// endEvery is how often the node on duty tells partitions of routes that were
// removed.
const endEvery = time.Second

// Run tells all partitions of both ends that a route was removed: first those that
// are read, so that nobody begins it anew, then those that were written to. It runs
// on one node.
func (rs *Routes) Run(ctx context.Context) {
	ticker := time.NewTicker(endEvery)
	defer ticker.Stop()
	for {
		ended, err := rs.catalog.EndedRoutes(ctx)
		for _, e := range ended {
			if err = rs.end(ctx, e); err != nil {
				break
			}
		}
		if err != nil && ctx.Err() == nil {
			slog.Debug("a route that was removed is not known to have ended everywhere; it is told again", "error", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-ticker.C:
		}
	}
}

func (rs *Routes) end(ctx context.Context, e catalog.EndedRoute) error {
	for _, id := range []int64{e.Source, e.Target} {
		t := rs.parts.ByID(id)
		if t == nil && rs.catalog.View().Known(id) {
			return errors.New("a channel of it was removed, and may come back")
		}
		if t == nil {
			continue
		}
		for _, p := range t.Partitions() {
			if _, err := rs.parts.StepRoutes(ctx, p, route.Step{Op: route.End, Route: e.ID}, route.Step{Op: route.End, Route: returned(e.ID)}); err != nil {
				return err
			}
		}
	}
	return rs.catalog.ForgetRoute(ctx, e.ID)
}
