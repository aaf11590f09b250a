package endpoints

import (
	"context"
	"math/rand/v2"
	"slices"
	"sync"
	"time"

	"steadyferry/internal/core/address"
	"steadyferry/internal/core/clock"
	"steadyferry/internal/core/endpoint"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/outside"
)

// line is this node's line to an endpoint: what holds deliveries back, and the
// connections.
type line struct {
	es *Endpoints
	id int64

	mu        sync.Mutex // guards all below
	record    *catalog.Endpoint
	secrets   secrets
	unsealed  error // why the secrets cannot be read
	to        *outside.Sender
	breaker   endpoint.Breaker
	toldAt    time.Time
	measured  time.Time     // when another Steady Ferry was asked for its partitions
	changed   chan struct{} // closed, and made anew, when those that wait shall look again
	delivered int64
	failed    int64
	refused   int64
	answers   [keptAnswers]endpoint.Answer // the last ones, in a ring
	answered  int                          // how many there were
}

const (
	keptAnswers = 20
	lookAgain   = 2 * time.Second // for those that wait, whatever is told
	tellAnyway  = 5 * time.Second
)

func newLine(es *Endpoints, record *catalog.Endpoint) *line {
	return &line{es: es, id: record.ID, changed: make(chan struct{})}
}

func (l *line) address() string {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.record.Address()
}

// follow takes on how the endpoint is set.
func (l *line) follow(record *catalog.Endpoint) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.record == record {
		return
	}
	if l.record != nil && l.record.URL != record.URL {
		l.breaker = endpoint.Breaker{} // it is another place
	}
	if l.to != nil {
		l.to.Close()
		l.to = nil
	}
	l.record = record
	l.secrets, l.unsealed = l.es.open(record)
	l.wake()
}

// wake has all look again that wait.
func (l *line) wake() {
	close(l.changed)
	l.changed = make(chan struct{})
}

// end lets go of an endpoint that was removed: those that wait find that out.
func (l *line) end() {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.to != nil {
		l.to.Close()
	}
	l.wake()
}

// sender returns what delivers to the endpoint as it is set now.
func (l *line) sender() *outside.Sender {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.current()
}

// current is the sender; the lock is held.
func (l *line) current() *outside.Sender {
	if l.to == nil {
		l.to = l.es.sender(l.record, l.secrets)
	}
	return l.to
}

// pass is the right to begin a delivery.
type pass struct {
	to     *outside.Sender
	record *catalog.Endpoint
	probe  bool
	turn   time.Duration // until it may begin
}

// Why deliveries wait.
const (
	waitsPaused  = "endpoint-paused"
	waitsFailing = "endpoint-failing"
	waitsSecrets = "endpoint-secrets"
)

// hold is why a delivery cannot begin now, and for how long at least.
type hold struct {
	reason, why string // empty: the endpoint was set anew meanwhile
	wait        time.Duration
}

// begin waits until a delivery may begin. waits is told why it has to, when that may be
// long, and givenUp is asked whether the message is not to be tried any more, as of a place
// that has been failing since a time: then there is no pass.
func (l *line) begin(ctx context.Context, waits func(reason, why string), givenUp func(failing time.Time) bool) (*pass, error) {
	for {
		if _, err := l.es.line(l.id); err != nil { // as it is set now
			return nil, err
		}
		p, held, err := l.ask(ctx)
		if err != nil {
			return nil, err
		}
		if p != nil && p.wait(ctx) && (!p.probe || l.mine(ctx, p)) {
			return p, nil
		}
		if p != nil {
			l.cancel(p)
			if ctx.Err() != nil {
				return nil, ctx.Err()
			}
			continue
		}
		l.mu.Lock()
		changed, failing := l.changed, l.breaker.FailingSince
		l.mu.Unlock()
		if givenUp(failing) {
			return nil, nil
		}
		if held.reason != "" {
			waits(held.reason, held.why)
		}
		timer := time.NewTimer(min(held.wait, lookAgain))
		select {
		case <-changed:
		case <-timer.C:
		case <-ctx.Done():
		}
		if timer.Stop(); ctx.Err() != nil {
			return nil, ctx.Err()
		}
	}
}

// ask returns a pass, or says why there is none.
func (l *line) ask(ctx context.Context) (*pass, hold, error) {
	l.mu.Lock()
	p := &pass{to: l.current(), record: l.record}
	l.mu.Unlock()
	select {
	case p.to.Slots <- struct{}{}:
	case <-ctx.Done():
		return nil, hold{}, ctx.Err()
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	if held, ok := l.holds(p); ok {
		<-p.to.Slots
		return nil, held, nil
	}
	return p, hold{}, nil
}

// holds reports why the pass is none; else it has its turn. The lock is held.
func (l *line) holds(p *pass) (hold, bool) {
	switch {
	case p.to != l.to:
		return hold{}, true
	case l.record.Paused:
		return hold{waitsPaused, "the endpoint is paused", lookAgain}, true
	case l.unsealed != nil:
		return hold{waitsSecrets, l.unsealed.Error(), lookAgain}, true
	}
	p.turn, p.probe = l.breaker.Ask(time.Now())
	if l.breaker.Failing() && !p.probe {
		return hold{waitsFailing, "it fails since " + l.breaker.FailingSince.UTC().Format(time.RFC3339) + ": " + l.breaker.Last.Says(), p.turn}, true
	}
	return hold{}, false
}

// wait waits for the pass's turn, and reports whether it came.
func (p *pass) wait(ctx context.Context) bool {
	if p.turn > 0 {
		clock.Wait(ctx, p.turn)
	}
	return ctx.Err() == nil
}

// mine reports whether it is this node that tries a place which fails: one of all does.
// With the records away each does for itself.
func (l *line) mine(ctx context.Context, p *pass) bool {
	now := time.Now()
	until := now.Add(time.Duration(p.record.TimeLimitMS)*time.Millisecond + time.Second)
	got, err := l.es.catalog.ClaimTry(ctx, l.id, now.Add(TellEvery), until)
	if got || err != nil || !l.es.Fails(l.id) { // nobody has told of the failure yet
		return true
	}
	l.mu.Lock()
	l.breaker.NextTry = now.Add(TellEvery)
	l.mu.Unlock()
	return false
}

// done takes on what came of a delivery of messages. counts tells whether a failure is the
// message's: the place does not fail as a whole.
func (l *line) done(p *pass, a *endpoint.Answer, messages int) (counts bool) {
	l.mu.Lock()
	<-p.to.Slots
	l.answers[l.answered%keptAnswers] = *a
	l.answered++
	what, detail := "", ""
	if p.record.URL != l.record.URL {
		// It is news of another place.
	} else if a.Means == endpoint.Again {
		l.failed++
		was := l.breaker.Failures
		if l.breaker.Bad(*a, l.backoff) {
			what, detail = "failing", a.Says()
		} else if l.breaker.Failures > was && was > 0 {
			what, detail = "tried", a.Says()
		}
		counts = !l.breaker.Failing()
	} else {
		switch a.Means {
		case endpoint.Done:
			l.delivered += int64(messages)
		case endpoint.Refused:
			if messages == 1 { // of several, it is not known yet which
				l.refused++
			}
		}
		if since := l.breaker.FailingSince; l.breaker.Good(*a) {
			what, detail = "back", "it answers again, after "+address.FormatDuration(a.At.Sub(since).Round(time.Second))
		}
	}
	if what != "" {
		l.toldAt = time.Time{}
		l.wake()
	}
	address := l.record.Address()
	l.mu.Unlock()
	if what != "" {
		l.es.Happened(address, what, detail)
	}
	return counts
}

// backoff is how long to wait after so many failures; the lock is held.
func (l *line) backoff(failures int) time.Duration {
	return endpoint.Pause(time.Duration(l.record.BackoffMin)*time.Millisecond, time.Duration(l.record.BackoffMax)*time.Millisecond, failures, rand.Float64())
}

// pause is backoff without the lock.
func (l *line) pause(failures int) time.Duration {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.backoff(failures)
}

// cancel gives a pass back.
func (l *line) cancel(p *pass) {
	l.mu.Lock()
	defer l.mu.Unlock()
	<-p.to.Slots
	if p.probe {
		l.breaker.Cancel()
		l.wake()
	}
}

// tryNow has a failing place tried at once, by whichever node, and returns how it does.
func (l *line) tryNow() endpoint.Health {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.breaker.TryNow(time.Now())
	l.wake()
	return l.breaker.Health
}

// shown takes on what a trial has shown of the place, which says nothing of deliveries.
func (l *line) shown(a *endpoint.Answer) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if !a.Ends.IsZero() {
		l.breaker.Ends = a.Ends
	}
}

// exchange takes on how the endpoint does as other nodes have told, and says what is to
// be told of it from here.
func (l *line) exchange(told endpoint.Health, now time.Time) (h endpoint.Health, tell bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	was := l.breaker.Failing()
	l.breaker.Adopt(told)
	if was != l.breaker.Failing() {
		l.wake()
	}
	h = l.breaker.Health
	news := !h.LastGood.Equal(told.LastGood) || !h.FailingSince.Equal(told.FailingSince) || !h.Ends.Equal(told.Ends) || !h.Last.At.Equal(told.Last.At)
	if !news || h.Last.At.Before(told.Last.At) || now.Sub(l.toldAt) < tellAnyway {
		return h, false
	}
	l.toldAt = now
	return h, true
}

func (l *line) health() endpoint.Health {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.breaker.Health
}

func (l *line) here() *Here {
	l.mu.Lock()
	defer l.mu.Unlock()
	h := &Here{Health: l.breaker.Health, Rate: l.breaker.Rate(), Delivered: l.delivered, Failed: l.failed, Refused: l.refused, Answers: slices.Clone(l.answers[:min(l.answered, keptAnswers)])}
	newestFirst(h.Answers)
	return h
}

func newestFirst(answers []endpoint.Answer) {
	slices.SortStableFunc(answers, func(a, b endpoint.Answer) int { return b.At.Compare(a.At) })
}
