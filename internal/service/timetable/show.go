package timetable

import (
	"context"
	"encoding/json"
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/job"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/core/timetable"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/part"
)

// comingShown is how many of the next times of a chore are shown.
const comingShown = 5

// States of a chore, beside those of its run.
const (
	StateReady  = "ready"
	StatePaused = "paused"
)

// List returns the chores of a space, or of all, by address.
func (t *Timetable) List(ctx context.Context, space string) ([]form.Chore, error) {
	view := t.catalog.View()
	at := []string{}
	for address, c := range view.Chores {
		if (space == "" || c.Space == space) && access.May(ctx, access.SeeCounts, address) {
			at = append(at, address)
		}
	}
	last, err := t.ledger.LastRuns(ctx, Kind, at)
	if err != nil {
		return nil, part.Explain(err, "chores")
	}
	by := map[string]*catalog.Job{}
	for _, j := range last {
		by[j.Address] = j
	}
	now := time.Now()
	all := make([]form.Chore, len(at))
	for i, a := range at {
		all[i] = t.describe(view.Chores[a], by[a], now)
	}
	slices.SortFunc(all, func(a, b form.Chore) int { return strings.Compare(a.Address, b.Address) })
	return all, nil
}

// describe tells a chore and what came of its last run.
func (t *Timetable) describe(c *catalog.Chore, last *catalog.Job, now time.Time) form.Chore {
	out := form.Chore{Address: c.Address(), Do: c.Do, Of: c.Of, Runs: timetable.Words(&c.Chore), Zone: c.Zone, Paused: c.Paused, Description: c.Description,
		Settings: setting.Chores.Show(&c.Chore, ""), State: StateReady, CreatedAt: c.CreatedAt.UTC(), Revision: c.Revision}
	if s, err := timetable.New(&c.Chore, c.Since); err == nil && !c.Paused {
		if next := s.Next(now); !next.IsZero() {
			next = next.UTC()
			out.Next = &next
		}
	}
	if last != nil {
		out.Last = told(last)
		out.Last.Log = []form.RunLine{}
	}
	switch {
	case last != nil && !last.State.Ended():
		out.State = string(last.State)
	case c.Paused:
		out.State = StatePaused
	case last != nil && (last.State == job.Failed || last.State == job.Halted):
		out.State = string(last.State)
	}
	return out
}

// Show returns a chore with its next times, and what it would do now.
func (t *Timetable) Show(ctx context.Context, c *catalog.Chore) (*form.Chore, error) {
	last, err := t.ledger.LastRuns(ctx, Kind, []string{c.Address()})
	if err != nil {
		return nil, part.Explain(err, c.Address())
	}
	var j *catalog.Job
	if len(last) > 0 {
		j = last[0]
	}
	out := t.describe(c, j, time.Now())
	if err := t.foresee(ctx, c, &out); err != nil {
		out.Effects = []string{"now it would fail: " + err.Error()}
	}
	return &out, nil
}

// foresee tells when a chore runs, and what it would do now.
func (t *Timetable) foresee(ctx context.Context, c *catalog.Chore, out *form.Chore) error {
	now := time.Now()
	out.Coming, out.Effects = []time.Time{}, []string{}
	s, err := timetable.New(&c.Chore, c.Since)
	if err != nil {
		return err
	}
	if !c.Paused {
		for _, at := range s.Coming(now, comingShown) {
			out.Coming = append(out.Coming, at.UTC())
		}
	}
	act, known := t.acts[c.Do]
	if !known {
		return problem.New(problem.Invalid, "this version of the program does not know how to %s", c.Do).Field("do")
	}
	plan, err := act.Plan(ctx, &c.Chore)
	if err != nil {
		return err
	}
	out.Messages, out.Effects, out.Careful = &plan.Messages, append(out.Effects, plan.Effects...), plan.Careful
	return nil
}

// Runs returns the newest runs of a chore, with numbers below one (0: all).
func (t *Timetable) Runs(ctx context.Context, c *catalog.Chore, before int64, most int) ([]form.Run, error) {
	if before == 0 {
		before = math.MaxInt64
	}
	rows, err := t.ledger.RunsOf(ctx, Kind, c.Address(), before, most)
	if err != nil {
		return nil, part.Explain(err, c.Address())
	}
	all := make([]form.Run, len(rows))
	for i, j := range rows {
		all[i] = *told(j)
	}
	return all, nil
}

// Since returns the newest runs of chores of a space that have begun since a time.
func (t *Timetable) Since(ctx context.Context, space string, since time.Time, most int) ([]form.Run, error) {
	rows, err := t.ledger.RunsSince(ctx, Kind, space, since, most)
	rows = access.Only(ctx, access.SeeCounts, rows, func(j *catalog.Job) string { return j.Address })
	all := make([]form.Run, len(rows))
	for i, j := range rows {
		all[i] = *told(j)
	}
	return all, err
}

// RunOf returns a run by its number.
func (t *Timetable) RunOf(ctx context.Context, number int64) (*form.Run, error) {
	j, err := t.jobs.Get(ctx, number, Kind)
	if err != nil {
		return nil, err
	}
	return told(j), nil
}

// Cancel ends a run that goes on, and what it has begun.
func (t *Timetable) Cancel(ctx context.Context, who string, number int64) (*form.Run, error) {
	j, err := t.jobs.Set(ctx, who, number, job.Cancelled, nil, Kind)
	if err != nil {
		return nil, err
	}
	return told(j), nil
}

// told is a run as it is told.
func told(j *catalog.Job) *form.Run {
	var s Spec
	var p progress
	// What this service wrote.
	_ = json.Unmarshal(j.Spec, &s)
	_ = json.Unmarshal(j.Progress, &p)
	out := &form.Run{Run: j.ID, Chore: j.Address, Do: s.Chore.Do, Of: s.Chore.Of, By: s.By, PlannedAt: s.Planned.UTC(), Missed: s.Missed, State: string(j.State), Says: p.Says, Messages: j.Done, Failed: j.Failed,
		Job: p.Job, Kind: p.Kind, CreatedAt: j.CreatedAt.UTC(), Log: p.Log}
	if out.Log == nil {
		out.Log = []form.RunLine{}
	}
	if j.State.Ended() {
		out.Says = j.Detail
	}
	if j.EndedAt.Valid {
		at := j.EndedAt.Time.UTC()
		out.EndedAt = &at
	}
	if out.Says == "" {
		out.Says = fmt.Sprintf("it is %s", j.State)
	}
	return out
}
