package node

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"time"

	"golang.org/x/sync/errgroup"

	"steadyferry/internal/core/address"
	"steadyferry/internal/core/expr"
	"steadyferry/internal/core/message"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/queue"
	"steadyferry/internal/core/replay"
	"steadyferry/internal/core/words"
	"steadyferry/internal/engine/catalog"
)

// DeadCause is the dead letters of a queue that failed in the same way.
type DeadCause struct {
	ID      uint64
	Reason  string
	Pattern string
	Count   int64
	Share   float64 // of all dead letters, 0 to 1
	First   time.Time
	Last    time.Time
	Bars    []int64
	Sample  *QueueItem // the last one; nil beyond the first causes
}

// Dead is the dead letters of a queue by their causes, the largest first.
type Dead struct {
	Total  int64
	Since  time.Time // when the bars begin
	Causes []DeadCause
}

// sampledCauses is for how many causes a message is read.
const sampledCauses = 100

// Dead groups the dead letters of a queue. Bars counts those of the span in so
// many equal times.
func (n *Node) Dead(ctx context.Context, t *Topic, span time.Duration, bars int) (*Dead, error) {
	out := &Dead{Since: time.Now().Add(-span)}
	by := map[uint64]int{}
	where := map[uint64]int{} // partition of the sample
	samples := map[uint64]int64{}
	for _, p := range t.Partitions() {
		a, err := n.askQueue(ctx, p, &queueAsk{Kind: "causes", Since: out.Since.UnixMicro(), Bars: bars})
		if err != nil {
			return nil, err
		}
		for _, c := range a.Causes {
			first, last := time.UnixMicro(c.First).UTC(), time.UnixMicro(c.Last).UTC()
			out.Total += c.Count
			i, known := by[c.ID]
			if !known {
				by[c.ID] = len(out.Causes)
				where[c.ID], samples[c.ID] = p.Number, c.Sample
				out.Causes = append(out.Causes, DeadCause{ID: c.ID, Reason: c.Reason, Pattern: c.Pattern, Count: c.Count, First: first, Last: last, Bars: c.Bars})
				continue
			}
			have := &out.Causes[i]
			have.Count += c.Count
			if first.Before(have.First) {
				have.First = first
			}
			if last.After(have.Last) {
				have.Last = last
				where[c.ID], samples[c.ID] = p.Number, c.Sample
			}
			for b := range have.Bars {
				have.Bars[b] += c.Bars[b]
			}
		}
	}
	slices.SortFunc(out.Causes, func(a, b DeadCause) int {
		return cmp.Or(cmp.Compare(b.Count, a.Count), cmp.Compare(a.ID, b.ID))
	})
	for i := range out.Causes {
		c := &out.Causes[i]
		c.Share = float64(c.Count) / float64(out.Total)
		if i >= sampledCauses {
			continue
		}
		if item, err := n.QueueItem(ctx, t, where[c.ID], samples[c.ID], false); err == nil && item.Message != nil {
			c.Sample = item.short()
		}
	}
	return out, nil
}

// QueueItem returns all that is known of one message of a queue; with story
// also what only the log tells.
func (n *Node) QueueItem(ctx context.Context, t *Topic, partition int, offset int64, story bool) (*QueueItem, error) {
	p, err := t.Partition(partition)
	if err != nil {
		return nil, err
	}
	a, err := n.askQueue(ctx, p, &queueAsk{Kind: "items", Offsets: []int64{offset}, Limit: 1, Story: story, Whole: true})
	if err != nil {
		return nil, err
	}
	if len(a.Items) == 0 {
		return nil, problem.New(problem.NotFound, "%s is not known", t.Address().At(partition, offset))
	}
	return &a.Items[0], nil
}

// Place is one message of a queue.
type Place struct {
	Partition int
	Offset    int64
}

// QueueSelection is which messages of a queue are meant.
type QueueSelection struct {
	States   []queue.State
	Cause    uint64 // 0: any
	Where    string // condition; empty: all
	Messages []Place
	Limit    int64 // 0: all
}

func (s *QueueSelection) check() error {
	if s.Where != "" {
		if _, err := expr.Compile(s.Where); err != nil {
			return err
		}
	}
	if len(s.Messages) > maxPlaces {
		return problem.New(problem.Invalid, "%d messages are named", len(s.Messages)).Field("messages").Allowed(fmt.Sprintf("up to %d; choose more by their cause or a condition", maxPlaces))
	}
	return nil
}

const maxPlaces = 10_000

// QueueItems returns a page of messages, and where the next one begins; nil at
// the end. With newest each partition's last ones come first.
func (n *Node) QueueItems(ctx context.Context, t *Topic, s QueueSelection, from *Place, limit int, newest bool) (items []QueueItem, next *Place, err error) {
	if err := s.check(); err != nil {
		return nil, nil, err
	}
	at := Place{}
	if newest {
		at.Offset = 1 << 62
	}
	if from != nil {
		at = *from
	}
	size := 0
	for _, p := range t.Partitions() {
		if p.Number < at.Partition {
			continue
		}
		ask := &queueAsk{Kind: "items", States: s.States, Cause: s.Cause, Where: s.Where, Newest: newest}
		if newest {
			ask.From = 1 << 62
		}
		if p.Number == at.Partition {
			ask.From = at.Offset
		}
		for {
			if len(items) == limit || size > itemBytes {
				return items, &Place{p.Number, ask.From}, nil
			}
			ask.Limit = limit - len(items)
			a, err := n.askQueue(ctx, p, ask)
			if err != nil {
				return nil, nil, err
			}
			items = append(items, a.Items...)
			for i := range a.Items {
				size += a.Items[i].size()
			}
			if a.Next < 0 {
				break
			}
			ask.From = a.Next
		}
	}
	return items, nil, nil
}

// eachPage goes through a selection in pages; bare pages have offsets alone.
func (n *Node) eachPage(ctx context.Context, t *Topic, s QueueSelection, bare bool, size int, f func(p *Partition, a *queueAnswer) error) error {
	left := s.Limit
	if left == 0 {
		left = 1 << 62
	}
	for _, p := range t.Partitions() {
		if len(s.Messages) > 0 {
			var named []int64
			for _, m := range s.Messages {
				if m.Partition == p.Number {
					named = append(named, m.Offset)
				}
			}
			if err := n.eachNamed(ctx, p, s, named, size, &left, f); err != nil {
				return err
			}
			continue
		}
		// Listing takes a walk over all that is kept: the messages themselves
		// are read by their offsets, a page at a time.
		ask := &queueAsk{Kind: "items", States: s.States, Cause: s.Cause, Bare: true}
		if bare {
			ask.Where = s.Where
		}
		for left > 0 {
			ask.Limit = actPage
			if bare || s.Where == "" {
				ask.Limit = int(min(actPage, left))
			}
			a, err := n.askQueue(ctx, p, ask)
			if err != nil {
				return err
			}
			if bare {
				left -= int64(len(a.Offsets))
				if len(a.Offsets) > 0 {
					err = f(p, a)
				}
			} else {
				err = n.eachNamed(ctx, p, s, a.Offsets, size, &left, f)
			}
			if err != nil {
				return err
			}
			if a.Next < 0 {
				break
			}
			ask.From = a.Next
		}
	}
	return nil
}

// eachNamed goes through named messages of a partition, those that fulfil the
// selection's condition and are in its states, up to left of them.
func (n *Node) eachNamed(ctx context.Context, p *Partition, s QueueSelection, offsets []int64, size int, left *int64, f func(p *Partition, a *queueAnswer) error) error {
	offsets = slices.Compact(slices.Sorted(slices.Values(offsets)))
	for len(offsets) > 0 && *left > 0 {
		some := offsets[:min(size, len(offsets))]
		a, err := n.askQueue(ctx, p, &queueAsk{Kind: "items", States: s.States, Where: s.Where, Offsets: some, Limit: int(min(int64(len(some)), *left)), Whole: true})
		if err != nil {
			return err
		}
		// A page may have ended early, for the size of its bodies.
		for len(offsets) > 0 && offsets[0] <= some[len(some)-1] && (a.Next < 0 || offsets[0] < a.Next) {
			offsets = offsets[1:]
		}
		a.only(s.States)
		*left -= int64(len(a.Items))
		if len(a.Items) > 0 {
			if err := f(p, a); err != nil {
				return err
			}
		}
	}
	return nil
}

// EachItem goes through the selected messages of a queue.
func (n *Node) EachItem(ctx context.Context, t *Topic, s QueueSelection, f func(*QueueItem) error) error {
	if err := s.check(); err != nil {
		return err
	}
	return n.eachPage(ctx, t, s, false, editPage, func(_ *Partition, a *queueAnswer) error {
		for i := range a.Items {
			if err := f(&a.Items[i]); err != nil {
				return err
			}
		}
		return nil
	})
}

// only leaves out items in other states, and lists the offsets of the rest.
func (a *queueAnswer) only(states []queue.State) {
	a.Items = slices.DeleteFunc(a.Items, func(i QueueItem) bool { return !slices.Contains(states, i.Info.State) })
	for i := range a.Items {
		a.Offsets = append(a.Offsets, a.Items[i].Info.Offset)
	}
}

// Action is what an operator does to messages of a queue.
type Action struct {
	Op     queue.Op // OpReturn, OpDiscard, OpTakeBack, OpEdit
	Who    string
	Reason string
	After  time.Duration // delay of what returns
	Edits  []replay.Edit
	Return bool // what was edited
}

// ActionSample is a message that an action is about; After is what an edit
// makes of it.
type ActionSample struct {
	Item  QueueItem
	After *message.Stored
}

// short is the sample as it is shown.
func (s ActionSample) short() ActionSample {
	s.Item = *s.Item.short()
	if s.After != nil {
		s.After = s.After.Shorten(ShortBody)
	}
	return s
}

// ActionResult is what an action did, or as a preview would do.
type ActionResult struct {
	Messages int64
	Samples  []ActionSample
	Effects  []string
	Until    *time.Time // until when it can be taken back
	Done     bool
}

var actionNames = map[queue.Op]string{queue.OpReturn: "return", queue.OpDiscard: "discard", queue.OpTakeBack: "take back", queue.OpEdit: "edit", queue.OpSendOn: "send on"}

const (
	sampleCount = 5
	actPage     = 1_000_000 // offsets listed at once
	actCommand  = 10_000    // messages of one command
	editPage    = 500
)

// Act does something to the selected messages; with preview it only says what
// that would be. Messages whose state does not go with it are left alone.
func (n *Node) Act(ctx context.Context, t *Topic, s QueueSelection, act Action, preview bool) (*ActionResult, error) {
	if err := s.check(); err != nil {
		return nil, err
	}
	if err := message.CheckReason(act.Reason, ""); err != nil {
		return nil, problem.New(problem.Invalid, "%v", err).Field("reason")
	}
	if act.After < 0 || act.After > queue.MaxDelay {
		return nil, problem.New(problem.Invalid, "after %s", act.After).Field("after").Allowed("0s to 365d")
	}
	if act.Op == queue.OpDiscard && act.Reason == "" && !preview {
		return nil, problem.New(problem.Invalid, "a reason is missing").Field("reason").Allowed("a few words, such as: boxes of the drill")
	}
	var editor *replay.Editor
	if act.Op == queue.OpEdit {
		var err error
		if len(act.Edits) == 0 {
			return nil, problem.New(problem.Invalid, "there are no edits").Field("edits")
		}
		if editor, err = replay.NewEditor(act.Edits); err != nil {
			return nil, problem.New(problem.Invalid, "%v", err).Field("edits")
		}
	}
	out := &ActionResult{}
	if err := n.previewAct(ctx, t, s, act, editor, out); err != nil || preview {
		return out, err
	}
	err := n.catalog.Note(ctx, &catalog.Entry{Who: act.Who, Action: actionNames[act.Op] + " messages", Address: n.actedOn(t, s), After: map[string]any{
		"messages": out.Messages, "cause": causeText(s.Cause), "where": s.Where, "reason": act.Reason, "edits": act.Edits, "return": act.Return}})
	if err != nil {
		return nil, explain(err, t.Address().String())
	}
	out.Messages, out.Done = 0, true
	if editor != nil {
		return out, n.edit(ctx, t, s, act, editor, out)
	}
	return out, n.eachPage(ctx, t, s, true, actPage, func(p *Partition, a *queueAnswer) error {
		for some := range slices.Chunk(a.Offsets, actCommand) {
			changed, err := n.actAt(ctx, p, &queue.Command{Op: act.Op, Who: act.Who, Reason: act.Reason, After: act.After.Microseconds(), Offsets: some})
			if err != nil {
				return err
			}
			out.Messages += int64(changed)
		}
		return nil
	})
}

// causeText prints the id of a cause.
func causeText(id uint64) string {
	if id == 0 {
		return ""
	}
	return CauseID(id)
}

// CauseID prints the id of a cause.
func CauseID(id uint64) string { return fmt.Sprintf("%08x", id) }

// ParseCause reads the id of a cause; empty is any.
func ParseCause(text string) (uint64, error) {
	if text == "" {
		return 0, nil
	}
	id, err := strconv.ParseUint(text, 16, 32)
	if err != nil || id == 0 {
		return 0, problem.New(problem.Invalid, "%q is not the id of a cause", text).Field("cause").Next("ferry dead QUEUE lists them")
	}
	return id, nil
}

func (n *Node) actedOn(t *Topic, s QueueSelection) string {
	a := t.Address()
	if len(s.States) == 1 && s.States[0] != queue.Waiting {
		a.Dead = true
	}
	return a.String()
}

func (n *Node) actAt(ctx context.Context, p *Partition, c *queue.Command) (int, error) {
	a, err := n.askQueue(ctx, p, &queueAsk{Kind: "act", Command: c.Encode(nil)})
	if err != nil {
		return 0, err
	}
	return a.Changed, nil
}

// previewAct counts what an action is about and takes samples. Edits are tried
// on every message: if one does not apply, nothing is done.
func (n *Node) previewAct(ctx context.Context, t *Topic, s QueueSelection, act Action, editor *replay.Editor, out *ActionResult) error {
	failed := 0
	var firstFailure error
	size := actPage
	var editing *replay.Editing
	if editor != nil {
		size, editing = editPage, editor.Begin(ctx)
	}
	err := n.eachPage(ctx, t, s, editor == nil, size, func(p *Partition, a *queueAnswer) error {
		out.Messages += int64(len(a.Offsets))
		if editor == nil && len(a.Items) == 0 && len(out.Samples) < sampleCount {
			first := a.Offsets[:min(sampleCount-len(out.Samples), len(a.Offsets))]
			found, err := n.askQueue(ctx, p, &queueAsk{Kind: "items", Offsets: first, Limit: len(first)})
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
				} else if sample.After, err = editing.Apply(item.Message, item.facts()); err == nil {
					err = sample.After.Check(t.Channel().MaxBody)
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
			if len(out.Samples) < sampleCount {
				out.Samples = append(out.Samples, sample.short())
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

func (out *ActionResult) describe(t *Topic, act Action) {
	set := t.Channel().Queue.Settings
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
		until := time.Now().Add(duration(set.WayBack)).UTC().Truncate(time.Second)
		out.Until = &until
		out.Effects = append(out.Effects, fmt.Sprintf("%s: no member gets what is discarded; until %s it can be taken back, then it is gone", words.Many(out.Messages, "message is discarded", "messages are discarded"), until.Format(time.RFC3339)))
	case queue.OpTakeBack:
		out.Effects = append(out.Effects, words.Many(out.Messages, "discarded message is", "discarded messages are")+" taken back: each is what it was before")
	}
}

// edit gives messages their edited content and, if asked, returns them.
func (n *Node) edit(ctx context.Context, t *Topic, s QueueSelection, act Action, editor *replay.Editor, out *ActionResult) error {
	editing := editor.Begin(ctx)
	return n.eachPage(ctx, t, s, false, editPage, func(p *Partition, a *queueAnswer) error {
		var group errgroup.Group
		group.SetLimit(64)
		defer group.Wait()
		for i := range a.Items {
			item := &a.Items[i]
			if item.Message == nil {
				continue
			}
			after, err := editing.Apply(item.Message, item.facts())
			if err != nil {
				return problem.New(problem.Conflict, "%s: %v", t.Address().At(p.Number, item.Info.Offset), err)
			}
			group.Go(func() error {
				_, err := n.actAt(ctx, p, &queue.Command{Op: queue.OpEdit, Who: act.Who, Reason: act.Reason, Offsets: []int64{item.Info.Offset}, Content: pack(after)})
				return err
			})
		}
		if err := group.Wait(); err != nil {
			return err
		}
		out.Messages += int64(len(a.Offsets))
		if !act.Return {
			return nil
		}
		_, err := n.actAt(ctx, p, &queue.Command{Op: queue.OpReturn, Who: act.Who, Reason: act.Reason, After: act.After.Microseconds(), Offsets: a.Offsets})
		return err
	})
}
