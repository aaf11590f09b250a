package queues

import (
	"context"
	"fmt"
	"slices"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/expr"
	"steadyferry/internal/core/mask"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/queue"
	"steadyferry/internal/engine/part"
)

// Item returns all that is known of one message of a queue; with story
// also what only the log tells.
func (qs *Queues) Item(ctx context.Context, t *part.Channel, partition int, offset int64, story bool) (*Item, error) {
	if err := access.Check(ctx, access.SeeMetadata, at(t)); err != nil {
		return nil, err
	}
	p, err := t.Partition(partition)
	if err != nil {
		return nil, err
	}
	a, err := qs.AskQueue(ctx, p, &QueueAsk{Kind: "items", Offsets: []int64{offset}, Limit: 1, Story: story, Whole: true})
	if err != nil {
		return nil, err
	}
	if len(a.Items) == 0 {
		return nil, problem.New(problem.NotFound, "%s is not known", t.Address().At(partition, offset))
	}
	hide(ctx, t, a.Items[:1])
	return &a.Items[0], nil
}

// hide takes out of items what is in messages, and the details of their failures, unless
// whoever asks may see contents.
func hide(ctx context.Context, t *part.Channel, items []Item) {
	sight := access.Sight(ctx, access.SeeContent, at(t))
	for i := range items {
		items[i].show(sight)
	}
}

// show leaves of an item what is seen of it.
func (i *Item) show(sight *mask.Sight) {
	if sight.Whole() {
		return
	}
	i.Details = make([]string, len(i.Details))
	i.Message, i.Original = sight.Show(i.Message), sight.Show(i.Original)
}

// Place is one message of a queue.
type Place struct {
	Partition int
	Offset    int64
}

// Selection is which messages of a queue are meant.
type Selection struct {
	States   []queue.State
	Cause    uint64 // 0: any
	Where    string // condition; empty: all
	Messages []Place
	Limit    int64 // 0: all
}

func (s *Selection) check() error {
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

// Items returns a page of messages, and where the next one begins; nil at
// the end. With newest each partition's last ones come first.
func (qs *Queues) Items(ctx context.Context, t *part.Channel, s Selection, from *Place, limit int, newest bool) (items []Item, next *Place, err error) {
	if err := access.Check(ctx, access.SeeMetadata, at(t)); err != nil {
		return nil, nil, err
	}
	if err := s.check(); err != nil {
		return nil, nil, err
	}
	if err := access.MayChoose(ctx, at(t), s.Where, nil); err != nil {
		return nil, nil, err
	}
	defer func() { hide(ctx, t, items) }()
	begin := Place{}
	if newest {
		begin.Offset = 1 << 62
	}
	if from != nil {
		begin = *from
	}
	size := 0
	for _, p := range t.Partitions() {
		if p.Number < begin.Partition {
			continue
		}
		ask := &QueueAsk{Kind: "items", States: s.States, Cause: s.Cause, Where: s.Where, Newest: newest}
		if newest {
			ask.From = 1 << 62
		}
		if p.Number == begin.Partition {
			ask.From = begin.Offset
		}
		for {
			if len(items) == limit || size > itemBytes {
				return items, &Place{p.Number, ask.From}, nil
			}
			ask.Limit = limit - len(items)
			a, err := qs.AskQueue(ctx, p, ask)
			if err != nil {
				return nil, nil, err
			}
			items = append(items, a.Items...)
			for i := range a.Items {
				size += a.Items[i].Size()
			}
			if a.Next < 0 {
				break
			}
			ask.From = a.Next
		}
	}
	return items, nil, nil
}

// EachPage goes through a selection in pages; bare pages have offsets alone.
func (qs *Queues) EachPage(ctx context.Context, t *part.Channel, s Selection, bare bool, size int, f func(p *part.Partition, a *QueueAnswer) error) error {
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
			if err := qs.eachNamed(ctx, p, s, named, size, &left, f); err != nil {
				return err
			}
			continue
		}
		// Listing takes a walk over all that is kept: the messages themselves
		// are read by their offsets, a page at a time.
		ask := &QueueAsk{Kind: "items", States: s.States, Cause: s.Cause, Bare: true}
		if bare {
			ask.Where = s.Where
		}
		for left > 0 {
			ask.Limit = actPage
			if bare || s.Where == "" {
				ask.Limit = int(min(actPage, left))
			}
			a, err := qs.AskQueue(ctx, p, ask)
			if err != nil {
				return err
			}
			if bare {
				left -= int64(len(a.Offsets))
				if len(a.Offsets) > 0 {
					err = f(p, a)
				}
			} else {
				err = qs.eachNamed(ctx, p, s, a.Offsets, size, &left, f)
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
func (qs *Queues) eachNamed(ctx context.Context, p *part.Partition, s Selection, offsets []int64, size int, left *int64, f func(p *part.Partition, a *QueueAnswer) error) error {
	offsets = slices.Compact(slices.Sorted(slices.Values(offsets)))
	for len(offsets) > 0 && *left > 0 {
		some := offsets[:min(size, len(offsets))]
		a, err := qs.AskQueue(ctx, p, &QueueAsk{Kind: "items", States: s.States, Where: s.Where, Offsets: some, Limit: int(min(int64(len(some)), *left)), Whole: true})
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

// EachItem goes through the selected messages of a queue, as whoever asks sees them.
func (qs *Queues) EachItem(ctx context.Context, t *part.Channel, s Selection, f func(*Item) error) error {
	if err := s.check(); err != nil {
		return err
	}
	if err := access.MayChoose(ctx, at(t), s.Where, nil); err != nil {
		return err
	}
	return qs.EachPage(ctx, t, s, false, EditPage, func(_ *part.Partition, a *QueueAnswer) error {
		hide(ctx, t, a.Items)
		for i := range a.Items {
			if err := f(&a.Items[i]); err != nil {
				return err
			}
		}
		return nil
	})
}

// only leaves out items in other states, and lists the offsets of the rest.
func (a *QueueAnswer) only(states []queue.State) {
	a.Items = slices.DeleteFunc(a.Items, func(i Item) bool { return !slices.Contains(states, i.Info.State) })
	for i := range a.Items {
		a.Offsets = append(a.Offsets, a.Items[i].Info.Offset)
	}
}
