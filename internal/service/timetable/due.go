package timetable

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"time"

	"steadyferry/internal/core/timetable"
	"steadyferry/internal/core/words"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/ledger"
)

// How often the node on duty looks at what is due, and at incidents.
const (
	lookEvery     = time.Second
	incidentEvery = 2 * time.Second
	tidyEvery     = time.Hour
)

// Run has chores run when they are due, for as long as this node has the duty.
func (t *Timetable) Run(ctx context.Context) {
	d := &duty{Timetable: t}
	ticker := time.NewTicker(lookEvery)
	defer ticker.Stop()
	for {
		if err := d.look(ctx, time.Now()); err != nil && ctx.Err() == nil {
			slog.Debug("what is due waits", "error", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-ticker.C:
		}
	}
}

// duty is the timetable on the node that makes runs.
type duty struct {
	*Timetable
	version  int64 // of the records, for which the rest is
	known    []*planned
	incident time.Time // when incidents were looked at
	tidied   time.Time
}

// planned is a chore whose runs are made.
type planned struct {
	*catalog.Chore
	*timetable.Schedule
	state ledger.ChoreState
	next  time.Time
}

// look makes the runs that are due.
func (d *duty) look(ctx context.Context, now time.Time) error {
	if err := d.know(ctx, now); err != nil {
		return err
	}
	for _, p := range d.known {
		if p.next.IsZero() || now.Before(p.next) && p.state.Reached.Sub(now) <= timetable.Late {
			continue
		}
		if err := d.decide(ctx, p, now); err != nil {
			d.version = 0 // how far it is is read again
			return err
		}
	}
	if now.Sub(d.tidied) > tidyEvery {
		d.tidied = now
		if err := d.ledger.TidyRuns(ctx); err != nil {
			return err
		}
	}
	if now.Sub(d.incident) >= incidentEvery {
		d.incident = now
		return d.incidents(ctx, now)
	}
	return nil
}

// know reads which chores there are, and how far it is decided what makes them run.
func (d *duty) know(ctx context.Context, now time.Time) error {
	view := d.catalog.View()
	if view.Version == d.version {
		return nil
	}
	states := map[int64]ledger.ChoreState{}
	if len(view.Chores) > 0 {
		all, err := d.ledger.ChoreStates(ctx)
		if err != nil {
			return err
		}
		for _, s := range all {
			states[s.Chore] = s
		}
	}
	d.known = nil
	for _, c := range view.Chores {
		if c.Paused {
			continue
		}
		s, err := timetable.New(&c.Chore, c.Since)
		if err != nil {
			continue // it was checked when it was made, by another version
		}
		p := &planned{Chore: c, Schedule: s, state: states[c.ID]}
		if p.state.Chore == 0 {
			p.state = ledger.ChoreState{Chore: c.ID, Reached: c.Since}
		}
		p.next = s.Next(p.state.Reached)
		d.known = append(d.known, p)
	}
	d.version = view.Version
	return nil
}

// decide makes the run of a chore that is due by time, or decides that there is none.
func (d *duty) decide(ctx context.Context, p *planned, now time.Time) error {
	due := p.Decide(p.state.Reached, now)
	if due.At.IsZero() {
		return nil
	}
	is := p.state
	is.Reached = due.At.UTC().Truncate(time.Microsecond) // as it is recorded
	spec := Spec{By: ByClock, Planned: is.Reached, Missed: due.Missed}
	switch {
	case !due.Run && due.Missed == 0:
		return d.moved(p, is, d.ledger.Decided(ctx, p.state, is))
	case !due.Run:
		spec.Skipped = fmt.Sprintf("%s passed while no node was up, and missed is skip", words.Many(due.Missed, "time"))
	}
	return d.begin(ctx, p, spec, is)
}

// begin makes a run, unless the one before still goes on.
func (d *duty) begin(ctx context.Context, p *planned, spec Spec, is ledger.ChoreState) error {
	last, err := d.ledger.LastRuns(ctx, Kind, []string{p.Address()})
	if err != nil {
		return err
	}
	if len(last) > 0 && !last[0].State.Ended() {
		return d.moved(p, is, d.ledger.Decided(ctx, p.state, is))
	}
	spec.decided = &decided{p.state, is}
	_, err = d.start(ctx, ByClock, p.Chore, spec)
	if errors.Is(err, catalog.ErrExists) { // somebody has started it by hand a moment ago
		err = d.ledger.Decided(ctx, p.state, is)
	}
	return d.moved(p, is, err)
}

// moved takes note of a state that is recorded.
func (d *duty) moved(p *planned, is ledger.ChoreState, err error) error {
	if errors.Is(err, catalog.ErrStale) || errors.Is(err, catalog.ErrFenced) {
		d.version = 0 // it was changed, or another node has decided since
		return nil
	}
	if err != nil {
		return err
	}
	p.state = is
	p.next = p.Next(is.Reached)
	return nil
}

// incidents makes the runs of chores whose watches have found something.
func (d *duty) incidents(ctx context.Context, now time.Time) error {
	by := map[string][]*planned{}
	watches := []string{}
	for _, p := range d.known {
		if at := p.Watch(); at != "" {
			if by[at] == nil {
				watches = append(watches, at)
			}
			by[at] = append(by[at], p)
		}
	}
	if len(watches) == 0 {
		return nil
	}
	newest, err := d.ledger.NewestOf(ctx, watches)
	if err != nil {
		return err
	}
	for _, b := range newest {
		for _, p := range by[b.Watch] {
			if b.Number <= p.state.Incident {
				continue
			}
			is := p.state
			is.Incident = b.Number
			if !b.At.After(p.Since) {
				p.state = is // it began before the chore was set so
				continue
			}
			runs, err := d.begunByIncidents(ctx, p.Chore)
			if err != nil {
				return err
			}
			if !p.Incident(now, runs) {
				if err := d.moved(p, is, d.ledger.Decided(ctx, p.state, is)); err != nil {
					return err
				}
				continue
			}
			if err := d.begin(ctx, p, Spec{By: fmt.Sprintf("incident %d", b.Number), Planned: now.UTC()}, is); err != nil {
				return err
			}
		}
	}
	return nil
}

// begunByIncidents is when the runs of the last day began.
func (d *duty) begunByIncidents(ctx context.Context, c *catalog.Chore) (at []time.Time, err error) {
	runs, err := d.ledger.RunsOf(ctx, Kind, c.Address(), 1<<62, c.Daily+1)
	for _, r := range runs {
		at = append(at, r.CreatedAt)
	}
	return at, err
}
