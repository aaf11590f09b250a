package acts

import (
	"context"
	"fmt"

	"steadyferry/internal/core/address"
	"steadyferry/internal/core/edit"
	"steadyferry/internal/core/job"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/queue"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/core/words"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/service/replays"
	"steadyferry/internal/service/timetable"
)

// stopAbove is the share of what was sent that may fail again before a run stops.
const stopAbove = 0.2

// returning brings dead letters back to where they came from, at a rate.
func (s *Services) returning() timetable.Act {
	return s.sending([]string{"of"}, []string{"cause", "where", "limit", "rate", "edits", "why"}, checkDead, func(c *setting.Chore) (*replays.Spec, error) {
		a, err := deadOf(c)
		if err != nil {
			return nil, err
		}
		to := a
		to.Dead = false
		return &replays.Spec{From: a.String(), To: to.String()}, nil
	})
}

// replaying sends a stretch of a topic, or dead letters, somewhere.
func (s *Services) replaying() timetable.Act {
	from := func(c *setting.Chore) (address.Address, error) {
		return ofOne(c, address.KindChannel, address.KindPartition, address.KindDead)
	}
	return s.sending([]string{"of", "to"}, []string{"cause", "where", "limit", "rate", "edits", "position", "why"}, func(c *setting.Chore) error {
		if _, err := from(c); err != nil {
			return err
		}
		return checkCause(c)
	}, func(c *setting.Chore) (*replays.Spec, error) {
		a, err := from(c)
		return &replays.Spec{From: a.String(), To: c.To, FromPosition: c.Position}, err
	})
}

// sending is an act that is a replay.
func (s *Services) sending(needs, takes []string, check func(*setting.Chore) error, ends func(*setting.Chore) (*replays.Spec, error)) timetable.Act {
	spec := func(c *setting.Chore) (*replays.Spec, error) {
		r, err := ends(c)
		if err != nil {
			return nil, err
		}
		r.Where, r.Limit, r.StopAbove = c.Where, int64(c.Limit), stopAbove
		if r.Cause, err = queue.ParseCause(c.Cause); err != nil {
			return nil, err
		}
		for _, text := range c.Edits {
			e, err := edit.Parse(text)
			if err != nil {
				return nil, err
			}
			r.Edits = append(r.Edits, e)
		}
		return r, nil
	}
	return timetable.Act{Needs: needs, Takes: takes, Check: check,
		Plan: func(ctx context.Context, c *setting.Chore) (*timetable.Plan, error) {
			r, err := spec(c)
			if err != nil {
				return nil, err
			}
			plan, err := s.Replays.Plan(ctx, r)
			if err != nil {
				return nil, err
			}
			effects := []string{fmt.Sprintf("it would send %s of %s to %s, %s", words.Many(int(plan.Messages), "message"), r.From, r.To, rateText(c.Rate))}
			return &timetable.Plan{Messages: plan.Messages, Effects: append(effects, plan.Effects...)}, nil
		},
		Do: func(ctx context.Context, d *timetable.Doing) (bool, error) {
			child, err := d.Child(ctx, func(ctx context.Context) (*catalog.Job, error) { return s.begin(ctx, d, spec) })
			if err != nil {
				return false, err
			}
			if child == nil {
				d.Says("nothing of %s matched", d.Chore().Of)
				return true, nil
			}
			d.Counts(child.Done, child.Failed)
			return s.come(d, child)
		},
		Stop: func(ctx context.Context, d *timetable.Doing) error {
			child, err := d.Child(ctx, nil)
			if err != nil || child == nil || child.State.Ended() {
				return err
			}
			_, err = s.Replays.Set(ctx, d.Who(), child.ID, job.Cancelled, nil)
			return err
		}}
}

// begin makes the replay of a run; none when there is nothing to send.
func (s *Services) begin(ctx context.Context, d *timetable.Doing, spec func(*setting.Chore) (*replays.Spec, error)) (*catalog.Job, error) {
	r, err := spec(d.Chore())
	if err != nil {
		return nil, err
	}
	plan, err := s.Replays.Plan(ctx, r)
	if err != nil || plan.Messages == 0 {
		return nil, err
	}
	child, err := s.Replays.New(ctx, d.Who(), *r, d.Chore().Rate)
	if err == nil {
		d.Says("replay %d sends %s to %s, %s", child.ID, words.Many(int(plan.Messages), "message"), r.To, rateText(d.Chore().Rate))
	}
	return child, err
}

// come tells how the replay of a run is.
func (s *Services) come(d *timetable.Doing, child *catalog.Job) (done bool, err error) {
	sent := words.Many(int(child.Done), "message")
	switch child.State {
	case job.Done:
		d.Says("sent %s, %s again", sent, words.Many(int(child.Failed), "failed", "failed"))
		return true, nil
	case job.Halted:
		return false, problem.New(problem.Conflict, "replay %d halted after %s: %s", child.ID, sent, child.Detail).Next("look at what fails: ferry dead %s", d.Chore().Of)
	case job.Failed:
		return false, problem.New(problem.Conflict, "replay %d failed after %s: %s", child.ID, sent, child.Detail)
	case job.Cancelled:
		return false, problem.New(problem.Conflict, "replay %d was cancelled after %s", child.ID, sent)
	}
	return false, nil
}
