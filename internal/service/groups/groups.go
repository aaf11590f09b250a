package groups

import (
	"context"
	"errors"
	"fmt"
	"log/slog"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/core/words"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/part"
	"steadyferry/internal/service/change"
)

// New makes a group that begins at a position.
func (gs *Groups) New(ctx context.Context, who string, a address.Address, from address.Position, settings setting.Change) (*catalog.Group, error) {
	if err := access.Check(ctx, access.New, a.String()); err != nil {
		return nil, err
	}
	if _, name := a.Source(); address.ReadsDead(name) {
		return nil, problem.New(problem.Invalid, "%s is a group: dead letters are read by routes alone", a).Field("kind").Allowed(setting.Route).Next("ferry new route %s -to ADDRESS copies each of them to a channel, which groups can read", a)
	}
	t, err := gs.parts.TopicWithGroups(a)
	if err != nil {
		return nil, err
	}
	if err := address.CheckName(a.Group); err != nil {
		return nil, problem.New(problem.Invalid, "the group: %v", err).Field("group")
	}
	offsets, err := gs.Starts(ctx, t, from)
	if err != nil {
		return nil, err
	}
	if err := setting.Groups.Fits(settings, setting.Consumer, a.String()); err != nil {
		return nil, err
	}
	g := &catalog.Group{ChannelID: t.ID, Name: a.Group}
	setting.Groups.Apply(&g.Group, settings)
	after := setting.Groups.Show(&g.Group, g.Kind())
	after["from"] = from.String()
	err = gs.catalog.NewGroup(ctx, g, offsets, &catalog.Entry{Who: who, Action: "new group", Address: a.String(), After: after})
	if errors.Is(err, catalog.ErrExists) {
		return nil, problem.New(problem.Conflict, "%s exists already", a).Field("address").Next("ferry show %s tells how it is", a)
	}
	if err != nil {
		return nil, part.Explain(err, a.String())
	}
	_, g, err = gs.parts.Group(a)
	return g, err
}

// Starts returns the offsets of a position, by partition.
func (gs *Groups) Starts(ctx context.Context, t *part.Channel, from address.Position) ([]int64, error) {
	steps, err := gs.stepsTo(ctx, t, nil, from, part.AnyPartition)
	offsets := make([]int64, len(steps))
	for i, step := range steps {
		offsets[i] = step.To
	}
	return offsets, err
}

// Set changes a group or a route.
func (gs *Groups) Set(ctx context.Context, who string, a address.Address, settings setting.Change, preview bool) (p *form.Preview, err error) {
	if err := settings.Check(ctx, changes(gs, a, access.SetUp), a.String()); err != nil {
		return nil, err
	}
	err = change.UntilFresh(ctx, gs.catalog, a.String(), func() error {
		t, g, err := gs.parts.Group(a)
		if err != nil {
			return err
		}
		if g.Route != nil { // what is hidden could be had sent elsewhere
			if err := access.CheckUnmasked(ctx, access.SeeContent, t.Record().Address()); err != nil {
				return err
			}
		}
		if err := errors.Join(setting.Groups.Fits(settings, g.Kind(), a.String()), fixed(g, settings, a)); err != nil {
			return err
		}
		changed := *g
		setting.Groups.Apply(&changed.Group, settings)
		if p, err = change.Preview(ctx, gs.catalog, a.String(), setting.Groups, &g.Group, &changed.Group, g.Kind()); err != nil || preview || len(p.After) == 0 {
			return err
		}
		return gs.catalog.SetGroup(ctx, g, &changed, &catalog.Entry{Who: who, Action: "set " + g.Kind(), Address: a.String(), Before: p.Before, After: p.After})
	})
	return p, err
}

// changes is the verb by which a group is changed, which of a route is another one.
func changes(gs *Groups, a address.Address, of access.Verb) access.Verb {
	if _, g, err := gs.parts.Group(a); err == nil && g.Route != nil {
		return access.Route
	}
	return of
}

// fixed refuses to lead a route elsewhere.
func fixed(g *catalog.Group, settings setting.Change, a address.Address) error {
	to, given := settings["to"]
	if !given || g.Route == nil || to == g.To {
		return nil
	}
	return problem.New(problem.Invalid, "%s leads to %s, and stays so", a, g.To).Field("to").Next("make another route to %v, and remove this one", to)
}

// Remove deletes a group, or with preview only says what that would do.
func (gs *Groups) Remove(ctx context.Context, who string, a address.Address, preview bool) (*form.Preview, error) {
	if err := access.Check(ctx, changes(gs, a, access.Remove), a.String()); err != nil {
		return nil, err
	}
	t, g, err := gs.parts.Group(a)
	if err != nil {
		return nil, err
	}
	if err := change.NoRoutesFromDead(ctx, gs.catalog, g.ID, a); err != nil {
		return nil, err
	}
	lag, err := gs.LagOf(ctx, t, g)
	if err != nil {
		return nil, err
	}
	if g.Route != nil {
		return gs.removeRoute(ctx, who, a, g, lag, preview)
	}
	p := &form.Preview{Address: a.String(), Effects: []string{fmt.Sprintf("its committed offsets in %s and their history are forgotten, and cannot be brought back; no message is lost, and other groups are not touched", words.Many(len(lag.Partitions), "partition"))}}
	if len(lag.Members) > 0 {
		p.Effects = append(p.Effects, fmt.Sprintf("it is in use: its %s refused from then on", words.Many(len(lag.Members), "member is", "members are")))
	}
	if lag.Verdict.Messages > 0 {
		p.Effects = append(p.Effects, fmt.Sprintf("%s that it has not read will not be read by it", words.Many(lag.Verdict.Messages, "message")))
	}
	for _, name := range t.Record().Hold {
		if name == g.Name {
			p.Effects = append(p.Effects, fmt.Sprintf("retention of %s no longer waits for it", t.Address()))
		}
	}
	if preview {
		return p, nil
	}
	before := setting.Groups.Show(&g.Group, g.Kind())
	before["offsets"] = lag.offsets()
	return p, part.Explain(gs.catalog.RemoveGroup(ctx, g.ID, &catalog.Entry{Who: who, Action: "remove group", Address: a.String(), Before: before}), a.String())
}

// expireGroups removes the groups that had no members for as long as they may.
func (gs *Groups) expireGroups(ctx context.Context) {
	groups, err := gs.catalog.Expired(ctx)
	if err != nil {
		return
	}
	for _, g := range groups {
		t := gs.parts.ByID(g.ChannelID)
		if t == nil {
			continue
		}
		a := part.GroupAddress(t, g.Name)
		if change.NoRoutesFromDead(ctx, gs.catalog, g.ID, a) != nil {
			continue // it is in use
		}
		err := gs.catalog.RemoveGroup(ctx, g.ID, &catalog.Entry{Who: "ferryd", Action: "expire group", Address: a.String(), Before: setting.Groups.Show(&g.Group, g.Kind())})
		if err != nil && ctx.Err() == nil {
			slog.Warn("a group that has expired could not be removed", "group", a.String(), "error", err)
		}
	}
}
