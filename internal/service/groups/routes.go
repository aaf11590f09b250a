package groups

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"strconv"
	"time"

	"steadyferry/internal/core/address"
	"steadyferry/internal/core/clock"
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/route"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/core/words"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/part"
)

// A route is a group that the service itself reads for: how far it is stands in the
// logs of its source, and nobody joins it.

// notARoute says that only the service reads for a route.
func notARoute(a address.Address, g *catalog.Group) error {
	if g.Route == nil {
		return nil
	}
	return problem.New(problem.Conflict, "%s is a route, which the service reads for", a).Next("read with a group of your own: ferry read %s -from first", address.Address{Space: a.Space, Channel: a.Channel, Partition: a.Partition, Offset: a.Offset, Group: "NAME"})
}

func (gs *Groups) removeRoute(ctx context.Context, who string, a address.Address, g *catalog.Group, lag *Lag, preview bool) (*form.Preview, error) {
	p := &form.Preview{Address: a.String(), Careful: true, Effects: []string{fmt.Sprintf("nothing is sent to %s any more; what was sent stays there", g.To)}}
	if lag.Verdict.Messages > 0 {
		p.Effects = append(p.Effects, words.Many(lag.Verdict.Messages, "message")+" that it has not looked at will not be sent")
	}
	if preview {
		return p, nil
	}
	if lag.Topic.IsQueue() && !address.ReadsDead(g.Name) {
		if err := gs.drain(ctx, who, a, lag.Topic, g); err != nil {
			return nil, err
		}
	}
	before := setting.Groups.Show(&g.Group, setting.Route)
	before["offsets"] = lag.offsets()
	return p, part.Explain(gs.catalog.RemoveGroup(ctx, g.ID, &catalog.Entry{Who: who, Action: "remove route", Address: a.String(), Before: before}), a.String())
}

// drainTime is how long the removal of a route waits for what it has taken to be sent.
const drainTime = 10 * time.Second

// drain pauses a route from a queue, and waits until it has sent all that it has taken.
func (gs *Groups) drain(ctx context.Context, who string, a address.Address, t *part.Channel, g *catalog.Group) error {
	if !g.Paused {
		if _, err := gs.Set(ctx, who, a, setting.Change{"paused": true}, false); err != nil {
			return err
		}
	}
	quiet := 0
	for end := time.Now().Add(drainTime); ; clock.Wait(ctx, 100*time.Millisecond) {
		left := int64(0)
		for _, p := range t.Partitions() {
			plan, next, err := gs.parts.PlanOf(ctx, p, g.Route.ID)
			if err != nil {
				return err
			}
			if plan != nil {
				left += plan.Left(next)
			}
		}
		if quiet++; left > 0 {
			quiet = 0
		}
		if quiet > 5 { // nothing that was on its way when it was paused comes any more
			return nil
		}
		if ctx.Err() != nil || time.Now().After(end) {
			return problem.New(problem.Conflict, "%s that %s has taken cannot be sent to %s now; it is paused, and not removed", words.Many(left, "message"), a, g.To).Next("see what it waits for: ferry show %s", a)
		}
	}
}

// places returns where a route is on each partition, as the logs have it.
func (gs *Groups) places(ctx context.Context, t *part.Channel, g *catalog.Group) (map[int]int64, map[int]*route.Plan, error) {
	offsets, plans := map[int]int64{}, map[int]*route.Plan{}
	for _, p := range t.Partitions() {
		plan, end, err := gs.parts.PlanOf(ctx, p, g.Route.ID)
		if err != nil {
			return nil, nil, err
		}
		if plan == nil {
			return nil, nil, problem.New(problem.Unavailable, "%s has not begun on partition %d yet", part.GroupAddress(t, g.Name), p.Number).Next("try again in a moment")
		}
		plans[p.Number] = plan
		offsets[p.Number] = end - plan.Left(end)
	}
	return offsets, plans, nil
}

// seekRoute has a route go on from a position, or says what that would do.
func (gs *Groups) seekRoute(ctx context.Context, t *part.Channel, g *catalog.Group, ask *SeekAsk) (*Sought, error) {
	a := part.GroupAddress(t, g.Name)
	switch {
	case address.ReadsDead(g.Name):
		return nil, problem.New(problem.Invalid, "%s copies what becomes a dead letter: it has no place that could be another one", a).Next("ferry replay sends dead letters that are still there to any channel")
	case t.IsQueue():
		return nil, problem.New(problem.Invalid, "%s takes what waits in a queue: it has no place that could be another one", a).Next("what it has sent is at %s", g.To)
	}
	offsets, plans, err := gs.places(ctx, t, g)
	if err != nil {
		return nil, err
	}
	seeks, err := gs.catalog.Seeks(ctx, g.ID, 1000)
	if err != nil {
		return nil, part.Explain(err, a.String())
	}
	out := &Sought{Target: ask.To}
	if len(seeks) > 0 {
		out.Last = seeks[0].ID
	}
	if ask.Last >= 0 && ask.Last != out.Last {
		return nil, soughtByOthers(a)
	}
	steps, undoes, err := gs.seekSteps(ctx, t, a, offsets, seeks, ask)
	if err != nil {
		return nil, err
	}
	if undoes != nil {
		out.Undoes, out.Target = undoes.ID, "before "+undoes.Target
	}
	for _, step := range steps {
		if step.Again > 0 {
			if step.Note != "" {
				step.Note += "; "
			}
			step.Note += fmt.Sprintf("what is sent of those that are read again is sent to %s again", g.To)
		}
		p, err := t.Partition(step.Partition)
		if err != nil {
			return nil, err
		}
		out.Steps = append(out.Steps, SoughtStep{Step: step, FromTime: gs.timeAt(ctx, p, step.From), ToTime: gs.timeAt(ctx, p, step.To)})
	}
	if !ask.Apply {
		return out, nil
	}
	before, after := map[string]any{}, map[int]int64{}
	for _, s := range out.Steps {
		p, err := t.Partition(s.Partition)
		if err != nil {
			return nil, err
		}
		came, err := gs.parts.StepRoutes(ctx, p, route.Step{Op: route.Seek, Route: g.Route.ID, Seq: plans[s.Partition].Seq, Offset: s.To})
		if err != nil {
			return nil, err
		}
		if came[0] != route.Done {
			return nil, soughtByOthers(a)
		}
		before[strconv.Itoa(s.Partition)], after[s.Partition] = s.From, s.To
	}
	record, err := json.Marshal(out.Steps)
	if err != nil {
		return nil, err
	}
	action := "seek"
	if ask.Undo {
		action = "undo seek"
	}
	m := &catalog.Seek{Who: ask.Who, Why: ask.Why, Target: out.Target, Steps: record, Undoes: sql.NullInt64{Int64: out.Undoes, Valid: out.Undoes > 0}}
	err = gs.catalog.NoteSeek(ctx, g.ID, m, after, &catalog.Entry{Who: ask.Who, Action: action, Address: a.String(), Before: map[string]any{"offsets": before}, After: map[string]any{"offsets": after, "to": out.Target, "why": ask.Why}})
	out.ID, out.Last = m.ID, m.ID
	return out, part.Explain(err, a.String())
}

func soughtByOthers(a address.Address) error {
	return problem.New(problem.Conflict, "the offsets of %s were moved by somebody else since they were looked at; not all of it was done", a).Next("look at ferry show %s -history, then decide again", a)
}
