package replays

import (
	"context"

	"steadyferry/internal/core/edit"
	"steadyferry/internal/core/job"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/queue"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/service/jobs"
	"steadyferry/internal/service/queues"
)

// Spec is what a replay sends where. It is what the record keeps.
type Spec struct {
	From         string         `json:"from"`
	To           string         `json:"to"`
	FromPosition string         `json:"fromPosition"`
	ToPosition   string         `json:"toPosition"`
	Where        string         `json:"where"`
	Cause        uint64         `json:"cause"`
	Messages     []queues.Place `json:"messages,omitempty"`
	Limit        int64          `json:"limit"` // 0: all
	Edits        []edit.Edit    `json:"edits"`
	StopAbove    float64        `json:"stopAbove"`
	Keep         bool           `json:"keep"`

	// Found when it is made.
	Until int64            `json:"until"` // dead letters that came later are left
	Spans map[int][2]int64 `json:"spans"` // of a topic: from and to, by partition
}

// Kind is the kind of jobs that replays are.
const Kind = "replay"

// Limits of replays.
const (
	// MaxRate is what was reached on two processors: 75,000 a second
	// from a topic, 94,000 from dead letters, 45,000 with a condition and an
	// edit.
	MaxRate = 50_000.0
	MaxOpen = 20 // that have not ended
)

func (s *Spec) selection() queues.Selection {
	return queues.Selection{States: []queue.State{queue.Dead}, Cause: s.Cause, Where: s.Where, Messages: s.Messages, Limit: s.Limit}
}

// newKind is how jobs know replays.
func (rs *Replays) newKind() *jobs.Kind[Spec, progress] {
	return &jobs.Kind[Spec, progress]{Name: Kind, MaxOpen: MaxOpen, MaxRate: MaxRate, Listed: "ferry replay list", Open: rs.open,
		May: func(ctx context.Context, _ string, s *Spec) error { return s.may(ctx) },
		Plan: func(ctx context.Context, s *Spec) (*jobs.Plan, error) {
			if s.StopAbove < 0 || s.StopAbove > 1 {
				return nil, problem.New(problem.Invalid, "stopAbove is %g", s.StopAbove).Field("stopAbove").Allowed("0 to 1; 1 never stops")
			}
			plan, err := rs.Plan(ctx, s)
			if err != nil {
				return nil, err
			}
			if plan.Messages == 0 {
				return nil, problem.New(problem.Conflict, "nothing in %s matches: there is nothing to replay", s.From)
			}
			if _, err := rs.ends(ctx, s, true); err != nil {
				return nil, err
			}
			return &jobs.Plan{Address: s.From, Total: plan.Messages, Action: "new replay",
				After: map[string]any{"to": s.To, "messages": plan.Messages, "where": s.Where, "cause": queue.CauseText(s.Cause), "edits": s.Edits}}, nil
		}}
}

// New records a replay, which one node of the cluster then runs.
func (rs *Replays) New(ctx context.Context, who string, s Spec, rate float64) (*catalog.Job, error) {
	_, j, err := rs.kind.New(ctx, who, s, rate, false)
	return j, err
}

// Set pauses, resumes or cancels a replay, or changes its rate.
func (rs *Replays) Set(ctx context.Context, who string, id int64, state job.State, rate *float64) (*catalog.Job, error) {
	return rs.jobs.Set(ctx, who, id, state, rate, Kind)
}

// Get returns a replay.
func (rs *Replays) Get(ctx context.Context, id int64) (*catalog.Job, error) {
	return rs.jobs.Get(ctx, id, Kind)
}

// List returns the newest replays, so many of them.
func (rs *Replays) List(ctx context.Context, limit int) ([]*catalog.Job, error) {
	all, err := rs.jobs.List(ctx, limit, Kind)
	return all[:min(limit, len(all))], err
}
