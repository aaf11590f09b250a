package queues

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"golang.org/x/sync/errgroup"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/edit"
	"steadyferry/internal/core/mask"
	"steadyferry/internal/core/message"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/queue"
	"steadyferry/internal/core/ranges"
	"steadyferry/internal/core/words"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/part"
)

// Action is what an operator does to messages of a queue.
type Action struct {
	Op     queue.Op // OpReturn, OpDiscard, OpUndo, OpEdit
	Who    string
	Why    string
	After  time.Duration // delay of what returns
	Edits  []edit.Edit
	Return bool // what was edited
}

// ActionSample is a message that an action is about; After is what an edit
// makes of it.
type ActionSample struct {
	Item  Item
	After *message.Stored
}

// Short is the sample as it is shown.
func (s ActionSample) Short() ActionSample {
	s.Item = *s.Item.short()
	if s.After != nil {
		s.After = s.After.Shorten(message.ShortBody)
	}
	return s
}

// Seen are samples of messages as whoever asks may see them: none without their metadata, and
// without contents only that they are there.
func Seen(ctx context.Context, t *part.Channel, samples []ActionSample) []ActionSample {
	sight := access.Sight(ctx, access.SeeContent, at(t))
	switch {
	case sight.Whole():
	case !access.May(ctx, access.SeeMetadata, at(t)):
		return nil
	default:
		for i := range samples {
			samples[i].Item.show(sight)
			if sight != mask.Nothing {
				samples[i].After = sight.Show(samples[i].After)
			} else {
				samples[i].After = nil
			}
		}
	}
	return samples
}

// ActionResult is what an action did, or as a preview would do.
type ActionResult struct {
	Messages int64
	Samples  []ActionSample
	Effects  []string
	Until    *time.Time // until when it can be brought back
	Done     bool
}

var actionNames = map[queue.Op]string{queue.OpReturn: "return", queue.OpDiscard: "discard", queue.OpUndo: "undo", queue.OpEdit: "edit", queue.OpSendOn: "send on"}

// verbOf is the verb of what is done.
var verbOf = map[queue.Op]access.Verb{queue.OpReturn: access.Return, queue.OpDiscard: access.Discard, queue.OpUndo: access.Undo, queue.OpEdit: access.Edit, queue.OpSendOn: access.Replay}

// at is where a queue is, for those who ask whether they may.
func at(t *part.Channel) string { return t.Record().Address() }

// mayCommand says why whoever asks may not give a command to a queue.
func mayCommand(ctx context.Context, t *part.Channel, c *queue.Command) error {
	verbs := []access.Verb{}
	if v, known := verbOf[c.Op]; known {
		verbs = append(verbs, v)
	}
	if len(c.Settle) > 0 {
		verbs = append(verbs, access.Settle)
	}
	if c.Max > 0 {
		verbs = append(verbs, access.Lease)
	}
	for _, v := range verbs {
		if err := access.Check(ctx, v, at(t)); err != nil {
			return err
		}
	}
	return nil
}

// mayAct says why whoever asks may not do something to messages: what is edited and returned is
// returned, and a condition on what is in them tells of it.
func mayAct(ctx context.Context, t *part.Channel, s Selection, act Action) error {
	verbs := []access.Verb{verbOf[act.Op]}
	if act.Return {
		verbs = append(verbs, access.Return)
	}
	for _, v := range verbs {
		if err := access.Check(ctx, v, at(t)); err != nil {
			return err
		}
	}
	return access.MayChoose(ctx, at(t), s.Where, act.Edits)
}

// Act does something to the selected messages; with preview it only says what
// that would be. Messages whose state does not go with it are left alone.
func (qs *Queues) Act(ctx context.Context, t *part.Channel, s Selection, act Action, preview bool) (*ActionResult, error) {
	if err := mayAct(ctx, t, s, act); err != nil {
		return nil, err
	}
	if err := s.check(); err != nil {
		return nil, err
	}
	if err := message.CheckReason(act.Why, ""); err != nil {
		return nil, problem.New(problem.Invalid, "%v", err).Field("why")
	}
	if act.After < 0 || act.After > queue.MaxDelay {
		return nil, problem.New(problem.Invalid, "after %s", act.After).Field("after").Allowed("0s to 365d")
	}
	if act.Op == queue.OpDiscard && act.Why == "" && !preview {
		return nil, problem.New(problem.Invalid, "why it is discarded is missing").Field("why").Allowed("a few words, such as: boxes of the drill")
	}
	var editor *edit.Editor
	if act.Op == queue.OpEdit {
		var err error
		if len(act.Edits) == 0 {
			return nil, problem.New(problem.Invalid, "there are no edits").Field("edits")
		}
		if editor, err = edit.NewEditor(act.Edits); err != nil {
			return nil, problem.New(problem.Invalid, "%v", err).Field("edits")
		}
	}
	out := &ActionResult{}
	err := qs.previewAct(ctx, t, s, act, editor, out)
	out.Samples = Seen(ctx, t, out.Samples)
	if err != nil || preview {
		return out, err
	}
	e := &catalog.Entry{Who: act.Who, Action: actionNames[act.Op] + " messages", Address: qs.actedOn(t, s), After: map[string]any{
		"messages": out.Messages, "cause": queue.CauseText(s.Cause), "where": s.Where, "why": act.Why, "edits": act.Edits, "return": act.Return}}
	err = qs.catalog.Announced(ctx, e, func() (map[string]any, error) {
		var meant ranges.Ranges
		err := qs.act(ctx, t, s, act, editor, out, &meant)
		return map[string]any{"messages": out.Messages, "meant": meant.Told()}, err
	})
	if err != nil && !out.Done {
		return nil, part.Explain(err, t.Address().String())
	}
	return out, err
}

func (qs *Queues) act(ctx context.Context, t *part.Channel, s Selection, act Action, editor *edit.Editor, out *ActionResult, meant *ranges.Ranges) error {
	out.Messages, out.Done = 0, true
	if editor != nil {
		return qs.edit(ctx, t, s, act, editor, out, meant)
	}
	return qs.EachPage(ctx, t, s, true, actPage, func(p *part.Partition, a *QueueAnswer) error {
		for some := range slices.Chunk(a.Offsets, actCommand) {
			changed, err := qs.ActAt(ctx, p, &queue.Command{Op: act.Op, Who: act.Who, Reason: act.Why, After: act.After.Microseconds(), Offsets: some})
			if err != nil {
				return err
			}
			out.Messages += int64(changed)
			meant.Add(p.Number, some)
		}
		return nil
	})
}

func (qs *Queues) actedOn(t *part.Channel, s Selection) string {
	a := t.Address()
	if len(s.States) == 1 && s.States[0] != queue.Waiting {
		a.Dead = true
	}
	return a.String()
}

// ActAt carries out a command at a partition, and returns how many messages it meant.
func (qs *Queues) ActAt(ctx context.Context, p *part.Partition, c *queue.Command) (int, error) {
	a, err := qs.AskQueue(ctx, p, &QueueAsk{Kind: "act", Command: c.Encode(nil)})
	if err != nil {
		return 0, err
	}
	return a.Changed, nil
}

// previewAct counts what an action is about and takes samples. Edits are tried
// on every message: if one does not apply, nothing is done.
func (qs *Queues) previewAct(ctx context.Context, t *part.Channel, s Selection, act Action, editor *edit.Editor, out *ActionResult) error {
	failed := 0
	var firstFailure error
	size := actPage
	var editing *edit.Editing
	if editor != nil {
		size, editing = EditPage, editor.Begin(ctx)
	}
	err := qs.EachPage(ctx, t, s, editor == nil, size, func(p *part.Partition, a *QueueAnswer) error {
		out.Messages += int64(len(a.Offsets))
		if editor == nil && len(a.Items) == 0 && len(out.Samples) < SampleCount {
			first := a.Offsets[:min(SampleCount-len(out.Samples), len(a.Offsets))]
			found, err := qs.AskQueue(ctx, p, &QueueAsk{Kind: "items", Offsets: first, Limit: len(first)})
			if err != nil {
				return err
			}
			a.Items = found.Items
		}
		for i := range a.Items {
			item := &a.Items[i]
			sample := ActionSample{Item: *item}
			if editor != nil {
				var err error
				if item.Message == nil {
					err = errors.New("its bytes cannot be read")
				} else if sample.After, err = editing.Apply(item.Message, item.Facts()); err == nil {
					err = sample.After.Check(t.Record().MaxBody)
				}
				if ctx.Err() != nil {
					return ctx.Err()
				}
				if err != nil {
					failed++
					if firstFailure == nil {
						firstFailure = fmt.Errorf("%s: %w", t.Address().At(p.Number, item.Info.Offset), err)
					}
					continue
				}
			}
			if len(out.Samples) < SampleCount {
				out.Samples = append(out.Samples, sample.Short())
			}
		}
		return nil
	})
	if err != nil {
		return err
	}
	if failed > 0 {
		return problem.New(problem.Conflict, "the edits do not apply to %d of %s, the first is %v", failed, words.Many(out.Messages, "message"), firstFailure).Field("edits").Next("nothing is changed; choose fewer messages with a condition, such as where=has(body.celsius)")
	}
	out.describe(t, act)
	return nil
}

func (out *ActionResult) describe(t *part.Channel, act Action) {
	set := t.Record().Queue
	switch act.Op {
	case queue.OpReturn:
		text := fmt.Sprintf("%s in %s again, with the history and a new set of attempts", words.Many(out.Messages, "dead letter waits", "dead letters wait"), t.Address())
		if act.After > 0 {
			text = fmt.Sprintf("%s in %s again %s from now", words.Many(out.Messages, "dead letter waits", "dead letters wait"), t.Address(), address.FormatDuration(act.After))
		}
		out.Effects = append(out.Effects, text)
	case queue.OpEdit:
		text := fmt.Sprintf("%s the edited content; the original of each is kept with it", words.Many(out.Messages, "dead letter gets", "dead letters get"))
		if act.Return {
			text += ", and all wait in the queue again"
		}
		out.Effects = append(out.Effects, text)
	case queue.OpDiscard:
		until := time.Now().Add(time.Duration(set.RetainDiscarded) * time.Microsecond).UTC().Truncate(time.Second)
		out.Until = &until
		out.Effects = append(out.Effects, fmt.Sprintf("%s: no member gets what is discarded; until %s it can be brought back, then it is gone", words.Many(out.Messages, "message is discarded", "messages are discarded"), until.Format(time.RFC3339)))
	case queue.OpUndo:
		out.Effects = append(out.Effects, words.Many(out.Messages, "discarded message is", "discarded messages are")+" brought back: each is what it was before")
	}
}

// edit gives messages their edited content and, if asked, returns them.
func (qs *Queues) edit(ctx context.Context, t *part.Channel, s Selection, act Action, editor *edit.Editor, out *ActionResult, meant *ranges.Ranges) error {
	editing := editor.Begin(ctx)
	return qs.EachPage(ctx, t, s, false, EditPage, func(p *part.Partition, a *QueueAnswer) error {
		var group errgroup.Group
		group.SetLimit(64)
		defer group.Wait()
		for i := range a.Items {
			item := &a.Items[i]
			if item.Message == nil {
				continue
			}
			after, err := editing.Apply(item.Message, item.Facts())
			if err != nil {
				return problem.New(problem.Conflict, "%s: %v", t.Address().At(p.Number, item.Info.Offset), err)
			}
			group.Go(func() error {
				_, err := qs.ActAt(ctx, p, &queue.Command{Op: queue.OpEdit, Who: act.Who, Reason: act.Why, Offsets: []int64{item.Info.Offset}, Content: Pack(after)})
				return err
			})
		}
		if err := group.Wait(); err != nil {
			return err
		}
		out.Messages += int64(len(a.Offsets))
		meant.Add(p.Number, a.Offsets)
		if !act.Return {
			return nil
		}
		_, err := qs.ActAt(ctx, p, &queue.Command{Op: queue.OpReturn, Who: act.Who, Reason: act.Why, After: act.After.Microseconds(), Offsets: a.Offsets})
		return err
	})
}
