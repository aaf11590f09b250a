package node

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"steadyferry/internal/core/address"
	"steadyferry/internal/core/expr"
	"steadyferry/internal/core/message"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/queue"
	"steadyferry/internal/core/replay"
	"steadyferry/internal/core/words"
	"steadyferry/internal/engine/catalog"
)

// ReplaySpec is what a replay sends where. It is what the record keeps.
type ReplaySpec struct {
	From         string        `json:"from"`
	To           string        `json:"to"`
	FromPosition string        `json:"fromPosition"`
	ToPosition   string        `json:"toPosition"`
	Where        string        `json:"where"`
	Cause        uint64        `json:"cause"`
	Messages     []Place       `json:"messages,omitempty"`
	Limit        int64         `json:"limit"` // 0: all
	Edits        []replay.Edit `json:"edits"`
	StopAbove    float64       `json:"stopAbove"`
	Keep         bool          `json:"keep"`

	// Found when it is made.
	Until int64            `json:"until"` // dead letters that came later are left
	Spans map[int][2]int64 `json:"spans"` // of a topic: from and to, by partition
}

// ReplayPlan is what a replay would do.
type ReplayPlan struct {
	Messages int64
	By       map[int]int64
	Oldest   time.Time
	Newest   time.Time
	Samples  []ActionSample
	Source   *Topic
	Effects  []string
}

// replayEnds are the source and the target of a replay.
type replayEnds struct {
	source  *Topic
	dead    bool // the dead letters of the source
	target  *Topic
	inPlace bool // they return to their own queue
	editor  *replay.Editor
	where   *expr.Condition
}

// Limits of replays.
const (
	// MaxReplayRate is what was reached on two processors: 75,000 a second
	// from a topic, 94,000 from dead letters, 45,000 with a condition and an
	// edit.
	MaxReplayRate = 50_000.0
	maxReplays    = 20 // that have not ended
)

var replayRates = fmt.Sprintf("more than 0 to %s a second", words.Many(int(MaxReplayRate), "message"))

func (n *Node) ends(ctx context.Context, who string, s *ReplaySpec, make bool) (*replayEnds, error) {
	from, err := address.Parse(s.From)
	if err != nil {
		return nil, err
	}
	to, err := address.Parse(s.To)
	if err != nil {
		return nil, err
	}
	e := &replayEnds{dead: from.Dead}
	switch {
	case from.Dead:
		e.source, err = n.QueueAt(from)
	case from.Kind() == address.KindChannel, from.Kind() == address.KindPartition:
		if e.source, err = n.Topic(from); err == nil && e.source.IsQueue() {
			err = problem.New(problem.Invalid, "%s is a queue: its waiting messages are still to come", from).Field("from").Next("its dead letters are at %s/dead", from.ChannelPart())
		}
	default:
		err = problem.New(problem.Invalid, "%s is the address of a %s", from, from.Kind()).Field("from").Allowed("a topic, a queue/dead, a topic@group/dead")
	}
	if err != nil {
		return nil, err
	}
	switch to.Kind() {
	case address.KindChannel:
		e.target, err = n.Topic(to)
	case address.KindGroup:
		if e.target, err = n.QueueAt(to); err != nil && make {
			e.target, err = n.groupQueue(ctx, to)
		} else if err != nil {
			_, _, err = n.Group(to)
		}
	default:
		err = problem.New(problem.Invalid, "%s is the address of a %s", to, to.Kind()).Field("to").Allowed("a queue, a topic, a topic@group")
	}
	if err != nil {
		return nil, err
	}
	e.inPlace = e.dead && e.target == e.source
	if e.target == e.source && !e.dead {
		return nil, problem.New(problem.Invalid, "%s would be sent to itself", from).Field("to")
	}
	if e.editor, err = replay.NewEditor(s.Edits); err != nil {
		return nil, problem.New(problem.Invalid, "%v", err).Field("edits")
	}
	if s.Where != "" {
		if e.where, err = expr.Compile(s.Where); err != nil {
			return nil, err
		}
	}
	return e, nil
}

// PlanReplay tells what a replay would do.
func (n *Node) PlanReplay(ctx context.Context, s *ReplaySpec) (*ReplayPlan, error) {
	e, err := n.ends(ctx, "", s, false)
	if err != nil {
		return nil, err
	}
	plan, editing := &ReplayPlan{By: map[int]int64{}, Source: e.source}, e.editor.Begin(ctx)
	s.Until = time.Now().UnixMicro()
	take := func(m *message.Stored, f expr.Facts, item QueueItem) error {
		plan.Messages++
		plan.By[m.Partition]++
		if plan.Oldest.IsZero() || m.StoredAt.Before(plan.Oldest) {
			plan.Oldest = m.StoredAt
		}
		if m.StoredAt.After(plan.Newest) {
			plan.Newest = m.StoredAt
		}
		if len(plan.Samples) >= sampleCount && len(s.Edits) == 0 {
			return nil
		}
		sample := ActionSample{Item: item}
		if len(s.Edits) > 0 {
			var err error
			if sample.After, err = editing.Apply(m, f); err == nil {
				err = sample.After.Check(e.target.Channel().MaxBody)
			}
			if err != nil {
				return problem.New(problem.Conflict, "%s: %v", e.source.Address().At(m.Partition, m.Offset), err).Field("edits").Next("nothing is sent; choose fewer messages with a condition")
			}
		}
		if len(plan.Samples) < sampleCount {
			sample.Item.Message = m
			plan.Samples = append(plan.Samples, sample.short())
		}
		return nil
	}
	if e.dead {
		err = n.eachPage(ctx, e.source, s.selection(), false, editPage, func(p *Partition, a *queueAnswer) error {
			for i := range a.Items {
				if item := &a.Items[i]; item.Message != nil && item.Info.Due <= s.Until {
					if err := take(item.Message, item.facts(), *item); err != nil {
						return err
					}
				}
			}
			return nil
		})
	} else {
		err = n.planTopic(ctx, s, e, take)
	}
	if err != nil {
		return nil, err
	}
	plan.Effects = n.targetEffects(e, s)
	return plan, nil
}

func (s *ReplaySpec) selection() QueueSelection {
	return QueueSelection{States: []queue.State{queue.Dead}, Cause: s.Cause, Where: s.Where, Messages: s.Messages, Limit: s.Limit}
}

// planTopic goes through what a replay takes from a topic.
func (n *Node) planTopic(ctx context.Context, s *ReplaySpec, e *replayEnds, take func(*message.Stored, expr.Facts, QueueItem) error) error {
	sel := Selection{Topic: e.source, Where: e.where, Limit: 1 << 30}
	if s.Limit > 0 {
		sel.Limit = int(min(s.Limit, 1<<30))
	}
	from, _ := address.Parse(s.From)
	if from.Partition >= 0 {
		sel.Partitions = []int{from.Partition}
	}
	var err error
	if sel.From, err = address.ParsePosition(orText(s.FromPosition, "first")); err != nil {
		return problem.New(problem.Invalid, "%v", err).Field("fromPosition")
	}
	if sel.To, err = address.ParsePosition(orText(s.ToPosition, "last")); err != nil {
		return problem.New(problem.Invalid, "%v", err).Field("toPosition")
	}
	spans, _, err := n.spans(ctx, &sel, time.Now())
	if err != nil {
		return err
	}
	s.Spans = map[int][2]int64{}
	for _, sp := range spans {
		s.Spans[sp.partition.Number] = [2]int64{sp.from, sp.to}
	}
	return n.Browse(ctx, sel, func(ev Event) error {
		if ev.Message == nil {
			return nil
		}
		return take(ev.Message, expr.Facts{}, QueueItem{})
	})
}

func orText(text, otherwise string) string {
	if text == "" {
		return otherwise
	}
	return text
}

// targetEffects says what the target does with what comes.
func (n *Node) targetEffects(e *replayEnds, s *ReplaySpec) (effects []string) {
	to := e.target.Address()
	switch {
	case e.inPlace:
		effects = append(effects, fmt.Sprintf("they wait in %s again, with their history and a new set of attempts", to))
	case e.target.OfGroup():
		effects = append(effects, fmt.Sprintf("members of %s get them beside what they read; no other group sees them", to))
	case e.target.IsQueue():
		c := n.QueueCounts(e.target)
		set := e.target.Channel().Queue.Settings
		effects = append(effects, fmt.Sprintf("they wait in %s behind the %d that wait now; each has %s", to, c.Waiting, words.Many(set.Attempts, "attempt")))
	default:
		groups := n.catalog.View().Groups[e.target.ID]
		names := make([]string, 0, len(groups))
		for name := range groups {
			names = append(names, name)
		}
		text := fmt.Sprintf("they are appended to %s; no group reads it", to)
		if len(names) > 0 {
			text = fmt.Sprintf("they are appended to %s, and its groups read them: %s", to, strings.Join(names, ", "))
		}
		effects = append(effects, text)
	}
	if e.dead && !e.inPlace && !s.Keep {
		effects = append(effects, "as dead letters they count as sent on, and can be taken back for a while")
	}
	if e.target.IsQueue() && s.StopAbove < 1 {
		effects = append(effects, fmt.Sprintf("it stops by itself when more than %.0f%% of what was sent fail again", 100*s.StopAbove))
	}
	return effects
}

// NewReplay records a replay, which one node of the cluster then runs.
func (n *Node) NewReplay(ctx context.Context, who string, s ReplaySpec, rate float64) (*catalog.Replay, error) {
	if rate <= 0 || rate > MaxReplayRate {
		return nil, problem.New(problem.Invalid, "a rate of %g/s", rate).Field("rate").Allowed(replayRates)
	}
	if s.StopAbove < 0 || s.StopAbove > 1 {
		return nil, problem.New(problem.Invalid, "stopAbove is %g", s.StopAbove).Field("stopAbove").Allowed("0 to 1; 1 never stops")
	}
	open, err := n.catalog.Replays(ctx, true, maxReplays)
	if err != nil {
		return nil, explain(err, s.From)
	}
	if len(open) >= maxReplays {
		return nil, problem.New(problem.Conflict, "%s have not ended", words.Many(len(open), "replay")).Next("ferry replay list shows them")
	}
	plan, err := n.PlanReplay(ctx, &s)
	if err != nil {
		return nil, err
	}
	if plan.Messages == 0 {
		return nil, problem.New(problem.Conflict, "nothing in %s fits: there is nothing to replay", s.From)
	}
	if _, err := n.ends(ctx, who, &s, true); err != nil {
		return nil, err
	}
	spec, err := json.Marshal(s)
	if err != nil {
		return nil, err
	}
	r := &catalog.Replay{Who: who, Source: s.From, Target: s.To, Spec: spec, Rate: rate, Total: plan.Messages, Progress: json.RawMessage("{}")}
	err = n.catalog.NewReplay(ctx, r, &catalog.Entry{Who: who, Action: "new replay", Address: s.From, After: map[string]any{"to": s.To, "messages": plan.Messages, "rate": rate, "where": s.Where, "cause": causeText(s.Cause), "edits": s.Edits}})
	return r, explain(err, s.From)
}

// SetReplay pauses, resumes or cancels a replay, or changes its rate.
func (n *Node) SetReplay(ctx context.Context, who string, id int64, state string, rate *float64) (*catalog.Replay, error) {
	r, err := n.Replay(ctx, id)
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
		if want = *rate; want <= 0 || want > MaxReplayRate {
			return nil, problem.New(problem.Invalid, "a rate of %g/s", want).Field("rate").Allowed(replayRates)
		}
	}
	_, err = n.catalog.SetReplay(ctx, id, state, want, &catalog.Entry{Who: who, Action: "set replay", Address: r.Source,
		Before: map[string]any{"replay": id, "state": r.State, "rate": r.Rate}, After: map[string]any{"replay": id, "state": state, "rate": want}})
	if err != nil {
		return nil, explain(err, r.Source)
	}
	return n.Replay(ctx, id)
}

// Replay returns a replay.
func (n *Node) Replay(ctx context.Context, id int64) (*catalog.Replay, error) {
	r, err := n.catalog.Replay(ctx, id)
	if errors.Is(err, catalog.ErrNotFound) {
		return nil, problem.New(problem.NotFound, "there is no replay %d", id).Next("ferry replay list shows them")
	}
	return r, explain(err, "replays")
}
