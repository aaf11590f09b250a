package routes

import (
	"context"
	"errors"
	"slices"
	"time"

	"steadyferry/internal/core/message"
	"steadyferry/internal/core/route"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/outside"
	"steadyferry/internal/service/endpoints"
)

// lane delivers messages of a route to an endpoint, one after the other.
type lane struct {
	stop  context.CancelFunc
	waits Waiting
}

// mostItems is how many messages are gathered for one lane: what other lanes may be
// ahead of one that is held up.
const mostItems = 2000

// item is a message that an endpoint gets, and what is buried when it does not.
func (w *walker) item(at int64, s *message.Stored, m *message.Message) outside.Item {
	i := outside.Item{Message: *m, Offset: s.Offset, StoredAt: s.StoredAt, At: w.cut.At(at), UpTo: w.cut.At(at + 1)}
	i.Body = slices.Clone(m.Body) // it lies in what was read, and headers in room of the reader
	if m == &s.Message {
		i.Headers = slices.Clone(m.Headers)
		return i
	}
	original := s.Message
	original.Headers = slices.Clone(s.Headers)
	if original.Body = i.Body; w.decider.editing != nil {
		original.Body = slices.Clone(s.Body)
	}
	i.Original = &original
	return i
}

const fewItems = 64

// itemSize is what an item takes beside its body.
const itemSize = 400

// add gathers an item, of a lane that is one of several or the only one; usual is how many
// were gathered before.
func (p *parcel) add(i outside.Item, lanes, usual int) {
	if len(p.items) == cap(p.items) {
		p.items = slices.Grow(p.items, max(len(p.items), usual, fewItems)) // append would grow it by little
	}
	p.items = append(p.items, i)
	p.bytes += len(i.Body) + itemSize
	if lanes > 1 && len(p.items) >= mostItems {
		p.bytes = max(p.bytes, maxGathered) // nothing more is read until it is on its way
	}
}

// deliver has a lane deliver messages, which lead up to a place.
func (w *walker) deliver(ctx context.Context, number int, items []outside.Item, after, upTo route.Place, recovered uint64) {
	laneCtx, stop := context.WithCancel(ctx)
	l := &lane{stop: stop}
	w.lanes[number] = l
	g := w.group
	to := outside.Lane{Route: w.id.String(), Source: w.c.p.Channel.Address().String(), Partition: w.c.p.Number, Number: number, After: after, Recovered: recovered}
	sent, dead, told := 0, 0, time.Now()
	report := &endpoints.Report{
		Reached: func(place route.Place, s, d int) {
			sent, dead = sent+s, dead+d
			if time.Since(told) < tellLanes || place == upTo {
				return
			}
			told = time.Now()
			count := w.count(sent, dead)
			sent, dead = 0, 0
			w.c.answer(ctx, func() {
				count()
				w.walk.Reached(number, upTo, place)
				w.c.rising = true
			})
		},
		Waits: func(reason, why string) {
			w.c.answer(ctx, func() { l.waits = since(l.waits, reason, why) })
		},
		Bury: func(ctx context.Context, i *outside.Item, reason, detail string) error {
			return w.buryItem(ctx, g, number, i, reason, detail)
		},
	}
	go func() {
		err := w.c.rs.outside.Deliver(laneCtx, g.Route.Target, &to, items, report)
		stop()
		w.c.answer(ctx, func() { w.delivered(number, upTo, err, w.count(sent, dead)) })
	}()
}

// tellLanes is how often a lane tells how far it is.
const tellLanes = 100 * time.Millisecond

func (w *walker) count(sent, dead int) func() {
	return func() {
		w.sent += int64(sent)
		w.dead += int64(dead)
	}
}

// delivered takes on that a lane has come to an end.
func (w *walker) delivered(number int, upTo route.Place, err error, count func()) {
	count()
	delete(w.flying, number)
	delete(w.lanes, number)
	var behind *route.NotBehind
	switch {
	case err == nil:
		w.walk.Taken(number, upTo)
		w.goes()
	case errors.As(err, &behind):
		w.walk.Refused(number, upTo, behind)
	default:
		w.walk.Returned(number, upTo)
		if !errors.Is(err, context.Canceled) {
			w.hold(waitsTarget, err)
		}
	}
}

// holdLanes stops the lanes when what they deliver is not to be delivered now, or comes
// anew.
func (w *walker) holdLanes() {
	if w.ended || w.walk.Restarts() || w.group.Paused {
		for _, l := range w.lanes {
			l.stop()
		}
	}
}

// standing is why the route waits or, when it does not, why a lane of it does.
func (w *walker) standing() Waiting {
	first := w.waits
	if first.Reason != "" {
		return first
	}
	for _, l := range w.lanes {
		if l.waits.Reason != "" && (first.Reason == "" || l.waits.Since.Before(first.Since)) {
			first = l.waits
		}
	}
	return first
}

// laneOrigin tells up to which place a lane has delivered: what the endpoint keeps of it
// or, since most keep nothing, the plan; and what has become a dead letter.
func (w *walker) laneOrigin(ctx context.Context, g *catalog.Group, plan *route.Plan, number int) (told route.NotBehind, err error) {
	to := outside.Lane{Route: w.id.String(), Partition: w.c.p.Number, Number: number}
	kept, keeps, err := w.c.rs.outside.Origin(ctx, g.Route.Target, &to)
	if err != nil || keeps {
		return kept, err
	}
	told.Origin = plan.Lane(number)
	q, err := w.c.targetOf(ctx, g, route.Dead, false)
	if err != nil {
		return told, nil // there are no dead letters yet
	}
	buried, err := w.c.rs.parts.OriginOf(ctx, q, route.Lane(w.id, w.c.p.Number, number))
	if told.Origin.Before(buried.Origin) {
		told.Origin = buried.Origin
	}
	return told, err
}

// buryItem makes a dead letter of a message that an endpoint does not take, once.
func (w *walker) buryItem(ctx context.Context, g *catalog.Group, number int, i *outside.Item, reason, detail string) error {
	m := i.Message
	if i.Original != nil {
		m = *i.Original
	}
	m.Terms = &message.Terms{Reason: reason, Detail: detail, By: "route", From: w.c.p.Channel.Address().At(w.c.p.Number, i.Offset).String()}
	var b message.Builder
	b.Add(&m)
	batch, err := message.OpenBatch(b.Build(message.Plain, nil))
	if err != nil {
		return err
	}
	q, err := w.c.targetOf(ctx, g, route.Dead, true)
	if err != nil {
		return err
	}
	from := route.Lane(w.id, w.c.p.Number, number)
	for {
		told, err := w.c.rs.parts.OriginOf(ctx, q, from)
		if err != nil || !told.Origin.Before(i.UpTo) {
			return err
		}
		behind, err := w.c.rs.parts.AppendRouted(ctx, q, batch, &message.Route{ID: w.id, Partition: from.Partition, After: told.Origin, UpTo: i.UpTo, Recovered: told.Recovered})
		if err != nil || behind == nil {
			return err
		}
	}
}
