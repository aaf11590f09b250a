package replays

import (
	"context"
	"fmt"
	"strings"
	"time"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/edit"
	"steadyferry/internal/core/expr"
	"steadyferry/internal/core/message"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/words"
	"steadyferry/internal/engine/part"
	"steadyferry/internal/service/look"
	"steadyferry/internal/service/queues"
)

// Plan is what a replay would do.
type Plan struct {
	Messages int64
	By       map[int]int64
	Oldest   time.Time
	Newest   time.Time
	Samples  []queues.ActionSample
	Source   *part.Channel
	Effects  []string
}

// replayEnds are the source and the target of a replay.
type replayEnds struct {
	source  *part.Channel
	dead    bool // the dead letters of the source
	target  *part.Channel
	inPlace bool // they return to their own queue
	editor  *edit.Editor
	where   *expr.Condition
}

func (rs *Replays) ends(ctx context.Context, s *Spec, make bool) (*replayEnds, error) {
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
		e.source, err = rs.queues.At(from)
	case from.Kind() == address.KindChannel, from.Kind() == address.KindPartition:
		if e.source, err = rs.parts.Channel(from); err == nil && e.source.IsQueue() {
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
		e.target, err = rs.parts.Channel(to)
	case address.KindGroup:
		if e.target, err = rs.queues.At(to); err != nil && make {
			e.target, err = rs.groups.DeadQueue(ctx, to)
		} else if err != nil {
			_, _, err = rs.parts.Group(to)
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
	if e.editor, err = edit.NewEditor(s.Edits); err != nil {
		return nil, problem.New(problem.Invalid, "%v", err).Field("edits")
	}
	if s.Where != "" {
		if e.where, err = expr.Compile(s.Where); err != nil {
			return nil, err
		}
	}
	return e, nil
}

// may says why whoever asks may not send what is selected: to send dead letters back where they
// came from is to return them, all else is to replay. Edits, and a condition on what is in
// messages, tell of it.
func (s *Spec) may(ctx context.Context) error {
	from, _ := address.Parse(s.From)
	to, _ := address.Parse(s.To)
	if from.Dead && from.QueuePart() == to {
		if err := access.Check(ctx, access.Return, s.To); err != nil {
			return err
		}
	} else {
		if err := access.Check(ctx, access.Replay, s.From); err != nil {
			return err
		}
		if err := access.Check(ctx, access.Publish, s.To); err != nil {
			return err
		}
		// What is hidden would be seen where it is sent.
		if err := access.CheckUnmasked(ctx, access.SeeContent, s.From); err != nil {
			return err
		}
	}
	if len(s.Edits) > 0 {
		if err := access.Check(ctx, access.Edit, s.From); err != nil {
			return err
		}
	}
	return access.MayChoose(ctx, s.From, s.Where, s.Edits)
}

// Plan tells what a replay would do.
func (rs *Replays) Plan(ctx context.Context, s *Spec) (*Plan, error) {
	if err := s.may(ctx); err != nil {
		return nil, err
	}
	e, err := rs.ends(ctx, s, false)
	if err != nil {
		return nil, err
	}
	plan, editing := &Plan{By: map[int]int64{}, Source: e.source}, e.editor.Begin(ctx)
	s.Until = time.Now().UnixMicro()
	take := func(m *message.Stored, f expr.Facts, item queues.Item) error {
		plan.Messages++
		plan.By[m.Partition]++
		if plan.Oldest.IsZero() || m.StoredAt.Before(plan.Oldest) {
			plan.Oldest = m.StoredAt
		}
		if m.StoredAt.After(plan.Newest) {
			plan.Newest = m.StoredAt
		}
		if len(plan.Samples) >= queues.SampleCount && len(s.Edits) == 0 {
			return nil
		}
		sample := queues.ActionSample{Item: item}
		if len(s.Edits) > 0 {
			var err error
			if sample.After, err = editing.Apply(m, f); err == nil {
				err = sample.After.Check(e.target.Record().MaxBody)
			}
			if err != nil {
				return problem.New(problem.Conflict, "%s: %v", e.source.Address().At(m.Partition, m.Offset), err).Field("edits").Next("nothing is sent; choose fewer messages with a condition")
			}
		}
		if len(plan.Samples) < queues.SampleCount {
			sample.Item.Message = m
			plan.Samples = append(plan.Samples, sample.Short())
		}
		return nil
	}
	if e.dead {
		err = rs.queues.EachPage(ctx, e.source, s.selection(), false, queues.EditPage, func(p *part.Partition, a *queues.QueueAnswer) error {
			for i := range a.Items {
				if item := &a.Items[i]; item.Message != nil && item.Info.Due <= s.Until {
					if err := take(item.Message, item.Facts(), *item); err != nil {
						return err
					}
				}
			}
			return nil
		})
	} else {
		err = rs.planTopic(ctx, s, e, take)
	}
	if err != nil {
		return nil, err
	}
	plan.Samples, plan.Effects = queues.Seen(ctx, e.source, plan.Samples), rs.targetEffects(e, s)
	return plan, nil
}

// planTopic goes through what a replay takes from a topic.
func (rs *Replays) planTopic(ctx context.Context, s *Spec, e *replayEnds, take func(*message.Stored, expr.Facts, queues.Item) error) error {
	sel := look.Selection{Topic: e.source, Where: e.where, Limit: 1 << 30}
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
	if sel.To, err = address.ParsePosition(orText(s.ToPosition, "end")); err != nil {
		return problem.New(problem.Invalid, "%v", err).Field("toPosition")
	}
	spans, _, err := rs.look.Spans(ctx, &sel, time.Now())
	if err != nil {
		return err
	}
	s.Spans = map[int][2]int64{}
	for _, sp := range spans {
		s.Spans[sp.Partition.Number] = [2]int64{sp.From, sp.To}
	}
	return rs.look.Browse(ctx, sel, func(ev look.Event) error {
		if ev.Message == nil {
			return nil
		}
		return take(ev.Message, expr.Facts{}, queues.Item{})
	})
}

func orText(text, otherwise string) string {
	if text == "" {
		return otherwise
	}
	return text
}

// targetEffects says what the target does with what comes.
func (rs *Replays) targetEffects(e *replayEnds, s *Spec) (effects []string) {
	to := e.target.Address()
	switch {
	case e.inPlace:
		effects = append(effects, fmt.Sprintf("they wait in %s again, with their history and a new set of attempts", to))
	case e.target.OfGroup():
		effects = append(effects, fmt.Sprintf("members of %s get them beside what they read; no other group sees them", to))
	case e.target.IsQueue():
		c := rs.queues.Counts(e.target)
		set := e.target.Record().Queue
		effects = append(effects, fmt.Sprintf("they wait in %s behind the %d that wait now; each has %s", to, c.Waiting, words.Many(set.Attempts, "attempt")))
	default:
		groups := rs.catalog.View().Groups[e.target.ID]
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
		effects = append(effects, "as dead letters they count as sent on, and can be brought back for a while")
	}
	if e.target.IsQueue() && s.StopAbove < 1 {
		effects = append(effects, fmt.Sprintf("it is halted when more than %.0f%% of what was sent fail again", 100*s.StopAbove))
	}
	return effects
}
