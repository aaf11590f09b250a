package endpoints

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"time"

	"steadyferry/internal/core/endpoint"
	"steadyferry/internal/core/route"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/outside"
)

// Report is how a lane tells how it gets on. Its functions are called by the one that
// delivers.
type Report struct {
	// Reached tells that all before a place is delivered, or buried.
	Reached func(upTo route.Place, sent, dead int)
	// Waits tells why the lane waits; nothing: it goes on.
	Waits func(reason, why string)
	// Bury makes a dead letter of a message.
	Bury func(ctx context.Context, i *outside.Item, reason, detail string) error
}

// Reasons of the dead letters of deliveries.
const (
	ReasonRefused = "endpoint-refuses"
	ReasonTries   = "attempts-used-up"
	ReasonGivenUp = "given-up"
)

// Origin tells up to which place an endpoint has the messages of a lane, if it keeps that
// itself.
func (es *Endpoints) Origin(ctx context.Context, id int64, lane *outside.Lane) (told route.NotBehind, keeps bool, err error) {
	l, err := es.line(id)
	if err != nil {
		return told, false, err
	}
	return l.sender().Origin(ctx, lane)
}

// Deliver delivers messages of a lane to an endpoint, in their order. It
// returns when all are delivered or buried, or with an error when that cannot be.
func (es *Endpoints) Deliver(ctx context.Context, id int64, lane *outside.Lane, items []outside.Item, r *Report) error {
	for len(items) > 0 {
		l, err := es.line(id)
		if err != nil {
			return err
		}
		n := min(len(items), l.atOnce())
		if err := es.deliver(ctx, id, lane, items[:n], r); err != nil {
			return err
		}
		items = items[n:]
	}
	return nil
}

// atOnce is how many messages go in one delivery.
func (l *line) atOnce() int {
	l.mu.Lock()
	defer l.mu.Unlock()
	switch {
	case l.record.Kind() != setting.HTTP:
		return outside.MostRows
	case l.record.Format == setting.Batched:
		return outside.MostInBatch
	}
	return 1
}

// deliver delivers messages as one request, until it is known what becomes of them.
func (es *Endpoints) deliver(ctx context.Context, id int64, lane *outside.Lane, items []outside.Item, r *Report) error {
	first := &items[0]
	tries, waiting := 0, false
	var failing time.Time // since when the messages fail
	var last endpoint.Answer
	for {
		l, err := es.line(id)
		if err != nil {
			return err
		}
		var limit time.Duration
		p, err := l.begin(ctx, func(reason, why string) {
			waiting = true
			r.Waits(reason, why)
		}, func(place time.Time) bool {
			limit = l.giveUp()
			if failing.IsZero() || !place.IsZero() && place.Before(failing) {
				return endpoint.GivesUp(time.Now(), first.StoredAt, place, limit)
			}
			return endpoint.GivesUp(time.Now(), first.StoredAt, failing, limit)
		})
		if err != nil {
			return err
		}
		if p == nil {
			return es.bury(ctx, items, r, ReasonGivenUp, fmt.Sprintf("it could not be delivered for %s; at last: %s", limit, l.lastAnswer().Says()))
		}
		if waiting {
			waiting = false
			r.Waits("", "")
		}
		a, err := p.to.Send(ctx, lane, items)
		if err != nil || ctx.Err() != nil && a.Means != endpoint.Done { // what is done counts
			l.cancel(p)
			return errors.Join(err, ctx.Err())
		}
		last = *a
		counts := l.done(p, a, len(items))
		switch a.Means {
		case endpoint.Done:
			r.Reached(items[len(items)-1].UpTo, len(items), 0)
			return nil
		case endpoint.Refused:
			if half := len(items) / 2; half > 0 { // some are at fault: halves tell which
				if err := es.deliver(ctx, id, lane, items[:half], r); err != nil {
					return err
				}
				return es.deliver(ctx, id, lane, items[half:], r)
			}
			err := es.bury(ctx, items, r, ReasonRefused, a.Says())
			p.to.Passed(ctx, lane, first)
			return err
		case endpoint.Stop:
			es.stop(ctx, p.record, a)
			continue
		}
		if !counts {
			tries = 0
			continue
		}
		if tries++; tries == 1 {
			failing = a.At
		}
		// Of a table and of another Steady Ferry, only what they refuse is a message's fault.
		if p.record.Kind() == setting.HTTP && tries >= p.record.Attempts {
			return es.bury(ctx, items, r, ReasonTries, fmt.Sprintf("%d attempts failed while others went well; at last: %s", tries, last.Says()))
		}
		pause := endpoint.Pause(time.Duration(p.record.BackoffMin)*time.Millisecond, time.Duration(p.record.BackoffMax)*time.Millisecond, tries, rand.Float64())
		waiting = true
		r.Waits("endpoint-retry", fmt.Sprintf("attempt %d of %d in %s: %s", tries+1, p.record.Attempts, pause.Round(time.Millisecond), a.Says()))
		timer := time.NewTimer(max(pause, a.After))
		select {
		case <-timer.C:
		case <-ctx.Done():
			timer.Stop()
			return ctx.Err()
		}
	}
}

// bury makes dead letters of messages.
func (es *Endpoints) bury(ctx context.Context, items []outside.Item, r *Report, reason, detail string) error {
	for i := range items {
		if err := r.Bury(ctx, &items[i], reason, detail); err != nil {
			return err
		}
		r.Reached(items[i].UpTo, 0, 1)
	}
	return nil
}

func (l *line) giveUp() time.Duration {
	l.mu.Lock()
	defer l.mu.Unlock()
	return time.Duration(l.record.GiveUpMS) * time.Millisecond
}

func (l *line) lastAnswer() *endpoint.Answer {
	l.mu.Lock()
	defer l.mu.Unlock()
	a := l.breaker.Last
	return &a
}

// stop pauses an endpoint that wants nothing any more.
func (es *Endpoints) stop(ctx context.Context, record *catalog.Endpoint, a *endpoint.Answer) {
	stopped := *record
	stopped.Paused = true
	err := es.catalog.SetEndpoint(ctx, &stopped, &catalog.Entry{Who: "ferryd", Action: "pause endpoint", Address: record.Address(), Before: map[string]any{"paused": false}, After: map[string]any{"paused": true, "answer": a.Says()}})
	if err == nil {
		es.happened(record.Address(), "stopped", "it wants nothing any more: "+a.Says()+"; ferry set "+record.Address()+" -paused=false goes on")
		return
	}
	// Another lane has done it, or the records are away: it is asked again then.
	select {
	case <-time.After(time.Second):
	case <-ctx.Done():
	}
}
