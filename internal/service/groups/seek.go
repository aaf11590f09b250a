package groups

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"strconv"
	"time"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/clock"
	"steadyferry/internal/core/group"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/core/words"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/logs"
	"steadyferry/internal/engine/part"
)

// SeekAsk asks for a group's offsets to be moved.
type SeekAsk struct {
	To           string `json:"to"` // a position; "" with Undo
	Partition    int    `json:"partition"`
	Undo         bool   `json:"undo"` // back to before the last seek that is not undone
	WhileRunning bool   `json:"whileRunning"`
	Apply        bool   `json:"apply"`
	Last         int64  `json:"last"` // the newest seek that was there at the preview; -1 takes any
	Who          string `json:"who"`
	Why          string `json:"why"`
}

// Sought is what moving offsets does, or has done.
type Sought struct {
	ID      int64        `json:"id"` // of the seek, once it is done
	Last    int64        `json:"last"`
	Target  string       `json:"target"`
	Members int          `json:"members"` // live ones
	Steps   []SoughtStep `json:"steps"`
	Undoes  int64        `json:"undoes"`
}

// SoughtStep is a step with the times of the messages at its ends; nil at the
// end of the partition.
type SoughtStep struct {
	group.Step
	FromTime *time.Time `json:"fromTime"`
	ToTime   *time.Time `json:"toTime"`
}

// stepsTo returns the steps that bring a group to a position.
func (gs *Groups) stepsTo(ctx context.Context, t *part.Channel, committed map[int]int64, pos address.Position, only int) ([]group.Step, error) {
	if only >= 0 {
		if _, err := t.Partition(only); err != nil {
			return nil, err
		}
	}
	now := clock.Now()
	var other map[int]int64
	if pos.Kind == address.OfGroup {
		var err error
		if other, err = gs.OffsetsOf(ctx, t, pos.Group); err != nil {
			return nil, err
		}
	}
	var steps []group.Step
	for _, p := range t.Partitions() {
		if only >= 0 && p.Number != only {
			continue
		}
		l, err := logs.Open(ctx, gs.parts, p, false)
		if err != nil {
			return nil, err
		}
		first, end := l.First(), l.End()
		to := other[p.Number]
		if pos.Kind != address.OfGroup {
			if to, err = logs.Resolve(ctx, gs.parts, p, l, pos, now); err != nil {
				return nil, err
			}
		}
		step := group.SeekTo(p.Number, first, end, committed[p.Number], to)
		if at, ok := pos.TimeAt(now); ok {
			oldest, known := gs.stampOf(ctx, p, first)
			if known {
				step = step.AtTime(at, oldest, now)
			}
		}
		steps = append(steps, step)
	}
	return steps, nil
}

// OffsetsOf returns the committed offsets of a group of a topic.
func (gs *Groups) OffsetsOf(ctx context.Context, t *part.Channel, name string) (map[int]int64, error) {
	_, g, err := gs.parts.Group(part.GroupAddress(t, name))
	if err != nil {
		return nil, err
	}
	if err := gs.offsets.refresh(ctx, gs); err != nil {
		return nil, part.Explain(err, name)
	}
	return gs.offsets.of(g.ID), nil
}

// Seek moves a group's offsets, or says what that would do.
func (gs *Groups) Seek(ctx context.Context, a address.Address, ask *SeekAsk) (*Sought, error) {
	if err := access.Check(ctx, access.Seek, a.String()); err != nil {
		return nil, err
	}
	if len(ask.Why) > setting.MaxDescription {
		return nil, problem.New(problem.Invalid, "a reason of %d characters", len(ask.Why)).Field("why").Allowed(fmt.Sprintf("up to %d", setting.MaxDescription))
	}
	t, g, err := gs.parts.Group(a)
	if err != nil {
		return nil, err
	}
	if g.Route != nil {
		return gs.seekRoute(ctx, t, g, ask)
	}
	answer, err := gs.askMember(ctx, a, &groupAsk{What: "seek", Seek: ask})
	if err != nil {
		return nil, err
	}
	return answer.Sought, nil
}

func (c *coordinator) seek(ctx context.Context, t *part.Channel, g *catalog.Group, ask *SeekAsk) (*Sought, error) {
	a := part.GroupAddress(t, g.Name)
	if ask.Apply {
		if err := with(c, (*group.Desk).BeginSeek); errors.Is(err, group.ErrOver) {
			return nil, err
		} else if err != nil {
			return nil, problem.New(problem.Conflict, "the offsets of %s are being moved by somebody else at this moment", a).Next("look at ferry show %s -history, then try again", a)
		}
		defer func() {
			c.mu.Lock()
			c.desk.EndSeek()
			c.mu.Unlock()
			c.changed.Broadcast()
		}()
		if err := c.settled(ctx); err != nil {
			return nil, err
		}
	}
	c.mu.Lock()
	committed, live := c.desk.Committed(), c.desk.Members()
	c.mu.Unlock()
	if ask.Apply && live > 0 && !ask.WhileRunning {
		return nil, problem.New(problem.Conflict, "%s has %s, which would go on reading where they are", a, words.Many(live, "live member")).Next("stop them, or move with -while-running (whileRunning): then they are told and go on from the new offsets")
	}
	seeks, err := c.gs.catalog.Seeks(ctx, g.ID, 1000)
	if err != nil {
		return nil, part.Explain(err, a.String())
	}
	out := &Sought{Members: live, Target: ask.To}
	if len(seeks) > 0 {
		out.Last = seeks[0].ID
	}
	steps, undoes, err := c.gs.seekSteps(ctx, t, a, committed, seeks, ask)
	if err != nil {
		return nil, err
	}
	if undoes != nil {
		out.Undoes, out.Target = undoes.ID, "before "+undoes.Target
	}
	for _, step := range steps {
		m := SoughtStep{Step: step}
		if p, err := t.Partition(step.Partition); err == nil {
			m.FromTime, m.ToTime = c.gs.timeAt(ctx, p, step.From), c.gs.timeAt(ctx, p, step.To)
		}
		out.Steps = append(out.Steps, m)
	}
	if !ask.Apply {
		return out, nil
	}
	return out, c.apply(ctx, a, ask, out)
}

// settled waits until no commit is on its way into the records: none may
// come behind the seek.
func (c *coordinator) settled(ctx context.Context) error {
	deadline := time.Now().Add(commitTime)
	for {
		changed := c.changed.Wait()
		if with(c, (*group.Desk).Settled) {
			return nil
		}
		select {
		case <-changed:
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(time.Until(deadline)):
			return problem.New(problem.CatalogAway, "commits are still on their way").Next("try again in a moment")
		}
	}
}

// seekSteps returns how the offsets move, and the seek that is undone.
func (gs *Groups) seekSteps(ctx context.Context, t *part.Channel, a address.Address, committed map[int]int64, seeks []catalog.Seek, ask *SeekAsk) ([]group.Step, *catalog.Seek, error) {
	if !ask.Undo {
		pos, err := address.ParsePosition(ask.To)
		if err != nil {
			return nil, nil, err
		}
		steps, err := gs.stepsTo(ctx, t, committed, pos, ask.Partition)
		return steps, nil, err
	}
	for _, m := range seeks {
		if m.Undone || m.Undoes.Valid {
			continue
		}
		var old []SoughtStep
		if err := json.Unmarshal(m.Steps, &old); err != nil {
			return nil, nil, err
		}
		var steps []group.Step
		for _, o := range old {
			p, err := t.Partition(o.Partition)
			if err != nil {
				return nil, nil, err
			}
			l, err := logs.Open(ctx, gs.parts, p, false)
			if err != nil {
				return nil, nil, err
			}
			steps = append(steps, group.SeekTo(o.Partition, l.First(), l.End(), committed[o.Partition], o.From))
		}
		return steps, &m, nil
	}
	return nil, nil, problem.New(problem.NotFound, "%s has no seek that could be undone", a).Next("ferry show %s -history lists what was done", a)
}

func (c *coordinator) apply(ctx context.Context, a address.Address, ask *SeekAsk, out *Sought) error {
	steps, err := json.Marshal(out.Steps)
	if err != nil {
		return err
	}
	record := &catalog.Seek{Who: ask.Who, Why: ask.Why, Target: out.Target, Steps: steps, Undoes: sql.NullInt64{Int64: out.Undoes, Valid: out.Undoes > 0}}
	offsets, before := map[int]int64{}, map[string]any{}
	var partitions []int
	for _, s := range out.Steps {
		offsets[s.Partition] = s.To
		before[strconv.FormatInt(int64(s.Partition), 10)] = s.From
		partitions = append(partitions, s.Partition)
	}
	action := "seek"
	if ask.Undo {
		action = "undo seek"
	}
	var sought error
	// With the others that change the table, so that neither is lost; it is waited
	// for whoever asks no longer waits, since commits are refused meanwhile.
	err = c.change(context.WithoutCancel(ctx), func(t *group.Table) error {
		next := t.Clone()
		next.Sought(partitions)
		shares, err := json.Marshal(next)
		if err == nil {
			err = c.gs.catalog.SeekOffsets(ctx, c.group, c.epoch, ask.Last, record, offsets, shares,
				&catalog.Entry{Who: ask.Who, Action: action, Address: a.String(), Before: map[string]any{"offsets": before}, After: map[string]any{"offsets": offsets, "to": out.Target, "why": ask.Why}})
		}
		c.mu.Lock()
		defer c.mu.Unlock()
		switch sought = err; {
		case err == nil:
			*t = *next
			c.desk.Sought(offsets)
		case !errors.Is(err, catalog.ErrStale):
			c.desk.Doubt()
		}
		return nil
	})
	if err != nil && record.ID != 0 {
		// They are moved, and the table that says so may not be there.
		c.mu.Lock()
		c.desk.Doubt()
		c.mu.Unlock()
	}
	switch {
	case errors.Is(sought, catalog.ErrStale):
		return problem.New(problem.Conflict, "the offsets of %s were moved by somebody else since they were looked at; nothing was changed", a).Next("look at ferry show %s -history, then decide again", a)
	case sought != nil:
		return part.Explain(sought, a.String())
	case err != nil && (record.ID == 0 || !errors.Is(err, group.ErrOver)):
		return part.Explain(err, a.String())
	}
	out.ID, out.Last = record.ID, record.ID
	return nil
}

// Seeks returns what was done to a group's offsets by hand, newest first.
func (gs *Groups) Seeks(ctx context.Context, a address.Address) ([]catalog.Seek, error) {
	if err := access.Check(ctx, access.SeeCounts, a.String()); err != nil {
		return nil, err
	}
	_, g, err := gs.parts.Group(a)
	if err != nil {
		return nil, err
	}
	seeks, err := gs.catalog.Seeks(ctx, g.ID, 200)
	return seeks, part.Explain(err, a.String())
}
