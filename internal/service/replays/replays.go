package replays

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"

	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/queue"
	"steadyferry/internal/core/replay"
	"steadyferry/internal/core/words"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/part"
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
	Edits        []replay.Edit  `json:"edits"`
	StopAbove    float64        `json:"stopAbove"`
	Keep         bool           `json:"keep"`

	// Found when it is made.
	Until int64            `json:"until"` // dead letters that came later are left
	Spans map[int][2]int64 `json:"spans"` // of a topic: from and to, by partition
}

// Limits of replays.
const (
	// MaxRate is what was reached on two processors: 75,000 a second
	// from a topic, 94,000 from dead letters, 45,000 with a condition and an
	// edit.
	MaxRate = 50_000.0
	MaxOpen = 20 // that have not ended
)

var replayRates = fmt.Sprintf("more than 0 to %s a second", words.Many(int(MaxRate), "message"))

func (s *Spec) selection() queues.Selection {
	return queues.Selection{States: []queue.State{queue.Dead}, Cause: s.Cause, Where: s.Where, Messages: s.Messages, Limit: s.Limit}
}

// New records a replay, which one node of the cluster then runs.
func (rs *Replays) New(ctx context.Context, who string, s Spec, rate float64) (*catalog.Replay, error) {
	if rate <= 0 || rate > MaxRate {
		return nil, problem.New(problem.Invalid, "a rate of %g/s", rate).Field("rate").Allowed(replayRates)
	}
	if s.StopAbove < 0 || s.StopAbove > 1 {
		return nil, problem.New(problem.Invalid, "stopAbove is %g", s.StopAbove).Field("stopAbove").Allowed("0 to 1; 1 never stops")
	}
	open, err := rs.catalog.Replays(ctx, true, MaxOpen)
	if err != nil {
		return nil, part.Explain(err, s.From)
	}
	if len(open) >= MaxOpen {
		return nil, problem.New(problem.Conflict, "%s have not ended", words.Many(len(open), "replay")).Next("ferry replay list shows them")
	}
	plan, err := rs.Plan(ctx, &s)
	if err != nil {
		return nil, err
	}
	if plan.Messages == 0 {
		return nil, problem.New(problem.Conflict, "nothing in %s fits: there is nothing to replay", s.From)
	}
	if _, err := rs.ends(ctx, who, &s, true); err != nil {
		return nil, err
	}
	spec, err := json.Marshal(s)
	if err != nil {
		return nil, err
	}
	r := &catalog.Replay{Who: who, Source: s.From, Target: s.To, Spec: spec, Rate: rate, Total: plan.Messages, Progress: json.RawMessage("{}")}
	err = rs.catalog.NewReplay(ctx, r, &catalog.Entry{Who: who, Action: "new replay", Address: s.From, After: map[string]any{"to": s.To, "messages": plan.Messages, "rate": rate, "where": s.Where, "cause": queues.CauseText(s.Cause), "edits": s.Edits}})
	return r, part.Explain(err, s.From)
}

// Set pauses, resumes or cancels a replay, or changes its rate.
func (rs *Replays) Set(ctx context.Context, who string, id int64, state string, rate *float64) (*catalog.Replay, error) {
	r, err := rs.Get(ctx, id)
	if err != nil {
		return nil, err
	}
	if r.State != catalog.ReplayRunning && r.State != catalog.ReplayPaused {
		return nil, problem.New(problem.Conflict, "replay %d has ended: it is %s", id, r.State).Field("state")
	}
	switch state {
	case "":
		state = r.State
	case catalog.ReplayRunning, catalog.ReplayPaused, catalog.ReplayCancelled:
	default:
		return nil, problem.New(problem.Invalid, "state is %q", state).Field("state").Allowed("running, paused, cancelled")
	}
	want := r.Rate
	if rate != nil {
		if want = *rate; want <= 0 || want > MaxRate {
			return nil, problem.New(problem.Invalid, "a rate of %g/s", want).Field("rate").Allowed(replayRates)
		}
	}
	_, err = rs.catalog.SetReplay(ctx, id, state, want, &catalog.Entry{Who: who, Action: "set replay", Address: r.Source,
		Before: map[string]any{"replay": id, "state": r.State, "rate": r.Rate}, After: map[string]any{"replay": id, "state": state, "rate": want}})
	if err != nil {
		return nil, part.Explain(err, r.Source)
	}
	return rs.Get(ctx, id)
}

// Get returns a replay.
func (rs *Replays) Get(ctx context.Context, id int64) (*catalog.Replay, error) {
	r, err := rs.catalog.Replay(ctx, id)
	if errors.Is(err, catalog.ErrNotFound) {
		return nil, problem.New(problem.NotFound, "there is no replay %d", id).Next("ferry replay list shows them")
	}
	return r, part.Explain(err, "replays")
}
