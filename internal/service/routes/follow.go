package routes

import (
	"cmp"
	"context"
	"maps"
	"slices"

	"steadyferry/internal/core/address"
	"steadyferry/internal/core/expr"
	"steadyferry/internal/core/message"
	"steadyferry/internal/core/route"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/part"
)

// What a route has made of a message.
const (
	Sent    = "sent"
	Outside = "delivered"       // to an endpoint, unless it became a dead letter
	LeftOut = "left-out"        // by its condition
	Buried  = "dead-letter"     // it could not be sent
	NotYet  = "not-decided-yet" // the route has not come to it
	Passed  = "passed-over"     // the route began, or went on, behind it
)

// Hop is what a route has made of a message.
type Hop struct {
	Route   address.Address
	Outcome string
	Why     string          // of a dead letter; of one that went outside, to which endpoint
	To      *part.Partition // where it is, of Sent and Buried; of Outside, where it is if it was refused
}

// Follow tells what each route of a channel has made of a message of it.
func (rs *Routes) Follow(ctx context.Context, t *part.Channel, m *message.Stored) (hops []Hop, err error) {
	p, err := t.Partition(m.Partition)
	if err != nil {
		return nil, err
	}
	for _, g := range rs.catalog.View().Routes[t.ID] {
		plan, _, err := rs.parts.PlanOf(ctx, p, g.Route.ID)
		if err != nil {
			return hops, err
		}
		h := Hop{Route: part.GroupAddress(t, g.Name), Outcome: NotYet}
		if plan != nil {
			if err := rs.decided(ctx, t, plan, m, &h); err != nil {
				return hops, err
			}
		}
		hops = append(hops, h)
	}
	return hops, nil
}

// decided fills in what a plan has made of a message.
func (rs *Routes) decided(ctx context.Context, t *part.Channel, plan *route.Plan, m *message.Stored, h *Hop) error {
	cut := plan.Decided(m.Offset)
	if cut == nil {
		h.Outcome = Passed
		return nil
	}
	if plan.Floor.Before(cut.At(m.Offset + 1)) {
		return nil // it is told as not decided: it may be under way
	}
	d, err := newDecider(ctx, t, cut.Terms)
	if err != nil {
		return err
	}
	number, out, sent := d.decide(m, expr.Facts{})
	switch {
	case !sent:
		h.Outcome = LeftOut
		return nil
	case number == route.Dead, d.Outside != "":
		h.Outcome, h.Why = Outside, d.To
		if number == route.Dead {
			h.Outcome, h.Why = Buried, out.Terms.Reason
		}
		if q, err := rs.parts.Named(h.Route, h.Route.QueuePart().String()); err == nil {
			h.To, err = q.Partition(0)
			return err
		}
		return nil
	}
	h.Outcome = Sent
	if target := rs.parts.ByID(cut.Terms.Target); target != nil {
		h.To, err = target.Partition(number - 1)
	}
	return err
}

// Chain returns the routes through which messages come to a channel, and those
// through which they go on from it.
func (rs *Routes) Chain(channel int64) []*catalog.Group {
	view := rs.catalog.View()
	found := map[int64]*catalog.Group{}
	walk := func(by func(at int64) []*catalog.Group, next func(g *catalog.Group) int64) {
		seen := map[int64]bool{}
		for left := []int64{channel}; len(left) > 0; left = left[1:] {
			if seen[left[0]] {
				continue
			}
			seen[left[0]] = true
			for _, g := range by(left[0]) {
				found[g.ID] = g
				left = append(left, next(g))
			}
		}
	}
	walk(func(at int64) []*catalog.Group { return routesFrom(view, view.Channel(at)) }, func(g *catalog.Group) int64 { return g.Route.Target })
	walk(func(at int64) []*catalog.Group { return view.RoutesIn[at] }, func(g *catalog.Group) int64 { return rootOf(view, g.ChannelID) })
	all := slices.Collect(maps.Values(found))
	slices.SortFunc(all, func(a, b *catalog.Group) int { return cmp.Compare(a.ID, b.ID) })
	return all
}

// routesFrom returns the routes through which messages of a channel go on: its own, and
// those that read the dead letters of its readers.
func routesFrom(view *catalog.View, ch *catalog.Channel) (all []*catalog.Group) {
	if ch == nil {
		return nil
	}
	all = view.Routes[ch.ID]
	for _, g := range view.Groups[ch.ID] {
		if dead := view.DeadOf[g.ID]; dead != nil {
			all = append(slices.Clip(all), routesFrom(view, dead)...)
		}
	}
	return all
}

// rootOf returns the channel whose messages come to another one as dead letters of its
// readers, or that one itself.
func rootOf(view *catalog.View, id int64) int64 {
	for {
		ch := view.Channel(id)
		if ch == nil || !ch.GroupID.Valid || view.GroupIDs[ch.GroupID.Int64] == nil {
			return id
		}
		id = view.GroupIDs[ch.GroupID.Int64].ChannelID
	}
}
