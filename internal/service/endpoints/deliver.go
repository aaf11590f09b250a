package endpoints

import (
	"context"
	"errors"
	"fmt"
	"time"

	"steadyferry/internal/core/address"
	"steadyferry/internal/core/clock"
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
	l, err := es.line(id)
	for err == nil && len(items) > 0 {
		n := min(len(items), l.atOnce())
		err = l.deliver(ctx, lane, items[:n], 0, r)
		items = items[n:]
	}
	return err
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

// deliver delivers messages, which were tried so often, at once, until it is known what
// becomes of them.
func (l *line) deliver(ctx context.Context, lane *outside.Lane, items []outside.Item, tries int, r *Report) error {
	first, waiting := &items[0], false
	var failing time.Time // since when they fail
	for {
		p, err := l.begin(ctx, func(reason, why string) {
			waiting = true
			r.Waits(reason, why)
		}, func(place time.Time) bool {
			since := place
			if since.IsZero() || !failing.IsZero() && failing.Before(since) {
				since = failing
			}
			return endpoint.GivesUp(time.Now(), first.StoredAt, since, l.giveUp())
		})
		if err != nil {
			return err
		}
		if p == nil {
			return l.bury(ctx, lane, items, tries, r, ReasonGivenUp, fmt.Sprintf("it could not be delivered for %s; at last: %s", address.FormatDuration(l.giveUp()), l.lastAnswer().Says()))
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
		counts := l.done(p, a, len(items))
		switch a.Means {
		case endpoint.Done:
			r.Reached(items[len(items)-1].UpTo, len(items), 0)
			return nil
		case endpoint.Refused:
			return l.bury(ctx, lane, items, tries, r, ReasonRefused, a.Says())
		case endpoint.Stop:
			l.es.stop(ctx, p.record, a)
			continue
		}
		// Of a table and of another Steady Ferry, only what they refuse is a message's fault.
		if !counts || p.record.Kind() != setting.HTTP {
			tries = 0
			continue
		}
		if tries++; failing.IsZero() {
			failing = a.At
		}
		if tries >= p.record.Attempts {
			return l.bury(ctx, lane, items, tries-1, r, ReasonTries, fmt.Sprintf("%d attempts failed while others went well; at last: %s", tries, a.Says()))
		}
		pause := l.pause(tries)
		waiting = true
		r.Waits("endpoint-retry", fmt.Sprintf("attempt %d of %d in %s: %s", tries+1, p.record.Attempts, pause.Round(time.Millisecond), a.Says()))
		if clock.Wait(ctx, max(pause, a.After)); ctx.Err() != nil {
			return ctx.Err()
		}
	}
}

// bury makes a dead letter of a message. Of several it is not known which are at fault:
// each half is delivered for itself, as one that was tried so often.
func (l *line) bury(ctx context.Context, lane *outside.Lane, items []outside.Item, tries int, r *Report, reason, detail string) error {
	if half := len(items) / 2; half > 0 {
		if err := l.deliver(ctx, lane, items[:half], tries, r); err != nil {
			return err
		}
		return l.deliver(ctx, lane, items[half:], tries, r)
	}
	if err := r.Bury(ctx, &items[0], reason, detail); err != nil {
		return err
	}
	l.sender().Passed(ctx, lane, &items[0])
	r.Reached(items[0].UpTo, 0, 1)
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
		es.Happened(record.Address(), "stopped", "it wants nothing any more: "+a.Says()+"; ferry set "+record.Address()+" -paused=false goes on")
		return
	}
	// Another lane has done it, or the records are away: it is asked again then.
	clock.Wait(ctx, time.Second)
}
