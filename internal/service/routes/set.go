package routes

import (
	"context"
	"maps"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"github.com/google/uuid"
	"golang.org/x/sync/errgroup"

	"steadyferry/internal/core/address"
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/route"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/core/words"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/part"
)

// How long a change of a route waits for the logs of its source, and of how many at
// once.
const (
	imposeTime   = 3 * time.Second
	imposeAtOnce = 32
)

// Set changes a route, or another group. When it returns, the settings of a route are
// in the logs of its source: they hold for what is published from then on.
func (rs *Routes) Set(ctx context.Context, who string, a address.Address, settings setting.Change, preview bool) (*form.Preview, error) {
	p, err := rs.groups.Set(ctx, who, a, settings, preview)
	if err != nil || preview || len(p.After) == 0 {
		return p, err
	}
	if _, g, err := rs.parts.Group(a); err == nil && g.Route != nil {
		rs.outside.Happened(a.String(), "changed", "by "+who+": "+strings.Join(slices.Sorted(maps.Keys(p.After)), ", "))
	}
	if late := rs.impose(ctx, a); late > 0 {
		p.Effects = append(p.Effects, words.Many(late, "partition")+" without a leader, or with one that does not answer: there it holds from when the leader is back")
	}
	return p, nil
}

// firstStep is the step with which a route begins on a partition.
func (rs *Routes) firstStep(p *part.Partition, id uuid.UUID, g *catalog.Group, terms route.Terms, target target) route.Step {
	s := route.Step{Op: route.Make, Route: id, Terms: terms, Targets: rs.recoveries(target)}
	copies := copiesDead(p.Channel, g)
	if copies {
		s.Op = route.MakeOfDead
	}
	if p.Number < len(g.Route.Begins) && (copies || !p.Channel.IsQueue()) {
		s.Offset = g.Route.Begins[p.Number]
	}
	return s
}

// impose has the logs of a route's source take what is wished now, and returns how
// many of them do not answer. Their carriers do it when they can.
func (rs *Routes) impose(ctx context.Context, a address.Address) (late int) {
	t, g, err := rs.parts.Group(a)
	if err != nil || g.Route == nil {
		return 0
	}
	target, there := rs.target(g.Route)
	if !there {
		return 0
	}
	ctx, cancel := context.WithTimeout(ctx, imposeTime)
	defer cancel()
	var unanswered atomic.Int64
	var asking errgroup.Group
	asking.SetLimit(imposeAtOnce)
	on := func(source *part.Channel, id uuid.UUID) {
		terms := termsOf(source, g, target)
		for _, p := range source.Partitions() {
			asking.Go(func() error {
				plan, _, err := rs.parts.PlanOf(ctx, p, id)
				s, ok := route.Step{}, false
				switch {
				case err != nil:
				case plan != nil:
					s, ok = rs.recut(id, plan, terms, target)
				case copiesDead(source, g): // what dies from now on is copied
					s, ok = rs.firstStep(p, id, g, terms, target), true
				}
				if ok {
					_, err = rs.parts.StepRoutes(ctx, p, s)
				}
				if err != nil {
					unanswered.Add(1)
				}
				return nil
			})
		}
	}
	on(t, g.Route.ID)
	if ch := rs.catalog.View().DeadOf[g.ID]; ch != nil {
		if q := rs.parts.ByID(ch.ID); q != nil {
			on(q, returned(g.Route.ID))
		}
	}
	_ = asking.Wait() // what failed is counted
	return int(unanswered.Load())
}

// recut returns the step that has a plan go on by other terms, if it does not yet.
func (rs *Routes) recut(id uuid.UUID, plan *route.Plan, terms route.Terms, target target) (route.Step, bool) {
	last := plan.Last().Terms
	if last == terms || last.Version > terms.Version || target.channel != nil && last.Partitions > terms.Partitions { // the channel's news has not come here yet
		return route.Step{}, false
	}
	return route.Step{Op: route.Recut, Route: id, Seq: plan.Seq, Terms: terms, Targets: rs.recoveries(target)}, true
}

// recoveries are how often each target was recovered by force, as the catalog says.
func (rs *Routes) recoveries(target target) []uint64 {
	all := make([]uint64, route.Number(target.count))
	for i, placed := range rs.catalog.View().Placed[target.id] {
		if number := route.Number(i); number < len(all) {
			all[number] = uint64(placed.Epoch)
		}
	}
	return all
}
