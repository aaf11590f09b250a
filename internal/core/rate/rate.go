// Package rate counts what flows in and out, exactly, and keeps how it
// changed over the last hour.
package rate

import (
	"sync"
	"sync/atomic"
	"time"
)

// Counters are the totals of one partition since its node started.
type Counters struct {
	MessagesIn  atomic.Int64
	BytesIn     atomic.Int64
	MessagesOut atomic.Int64
	BytesOut    atomic.Int64
}

// Totals is one reading of Counters.
type Totals struct {
	MessagesIn  int64 `json:"messagesIn"`
	BytesIn     int64 `json:"bytesIn"`
	MessagesOut int64 `json:"messagesOut"`
	BytesOut    int64 `json:"bytesOut"`
}

// Read returns the totals now.
func (c *Counters) Read() Totals {
	return Totals{c.MessagesIn.Load(), c.BytesIn.Load(), c.MessagesOut.Load(), c.BytesOut.Load()}
}

// Add returns the sum of two totals.
func (t Totals) Add(u Totals) Totals {
	return Totals{t.MessagesIn + u.MessagesIn, t.BytesIn + u.BytesIn, t.MessagesOut + u.MessagesOut, t.BytesOut + u.BytesOut}
}

// Sub returns what came between two readings.
func (t Totals) Sub(u Totals) Totals {
	return Totals{t.MessagesIn - u.MessagesIn, t.BytesIn - u.BytesIn, t.MessagesOut - u.MessagesOut, t.BytesOut - u.BytesOut}
}

// Steps of the two rings that a History has.
const (
	FineStep    = time.Second
	FineCount   = 5 * 60
	CoarseStep  = 10 * time.Second
	CoarseCount = 6 * 60
)

// History keeps the flow of the last five minutes second by second and of
// the last hour in steps of ten seconds. It takes memory only from the first
// change on.
type History struct {
	mu     sync.Mutex
	fine   *ring
	coarse *ring
	last   Totals
}

type ring struct {
	step  int64 // seconds
	slots []slot
}

type slot struct {
	at   int64 // number of the step, seconds since 1970 / step
	flow Totals
}

// Sample notes the totals at a time; call it about once a second.
func (h *History) Sample(now time.Time, t Totals) {
	h.mu.Lock()
	defer h.mu.Unlock()
	flow := t.Sub(h.last)
	if flow == (Totals{}) {
		return
	}
	h.last = t
	if h.fine == nil {
		h.fine = &ring{step: int64(FineStep / time.Second), slots: make([]slot, FineCount)}
		h.coarse = &ring{step: int64(CoarseStep / time.Second), slots: make([]slot, CoarseCount)}
	}
	h.fine.add(now, flow)
	h.coarse.add(now, flow)
}

func (r *ring) add(now time.Time, flow Totals) {
	at := now.Unix() / r.step
	s := &r.slots[at%int64(len(r.slots))]
	if s.at != at {
		*s = slot{at: at}
	}
	s.flow = s.flow.Add(flow)
}

func (r *ring) at(at int64) Totals {
	if s := r.slots[at%int64(len(r.slots))]; s.at == at {
		return s.flow
	}
	return Totals{}
}

// Series returns the flow per step over the span before now, oldest first,
// and the length of a step: fine steps when the span fits them. The step
// that is still filling is left out.
func (h *History) Series(now time.Time, span time.Duration) ([]Totals, time.Duration) {
	step, count := CoarseStep, CoarseCount
	if span <= FineStep*FineCount {
		step, count = FineStep, FineCount
	}
	n := min(int(span/step), count-1)
	out := make([]Totals, n)
	h.mu.Lock()
	defer h.mu.Unlock()
	r := h.coarse
	if step == FineStep {
		r = h.fine
	}
	if r == nil {
		return out, step
	}
	end := now.Unix() / r.step
	for i := range out {
		out[i] = r.at(end - int64(n-i))
	}
	return out, step
}

// PerSecond returns the mean flow per second over the span before now.
func (h *History) PerSecond(now time.Time, span time.Duration) Flow {
	series, step := h.Series(now, span)
	var sum Totals
	for _, t := range series {
		sum = sum.Add(t)
	}
	return sum.Over(time.Duration(len(series)) * step)
}

// Flow is totals per second.
type Flow struct {
	MessagesIn  float64 `json:"messagesIn"`
	BytesIn     float64 `json:"bytesIn"`
	MessagesOut float64 `json:"messagesOut"`
	BytesOut    float64 `json:"bytesOut"`
}

// Over returns the totals per second of a span.
func (t Totals) Over(span time.Duration) Flow {
	s := span.Seconds()
	if s <= 0 {
		return Flow{}
	}
	return Flow{float64(t.MessagesIn) / s, float64(t.BytesIn) / s, float64(t.MessagesOut) / s, float64(t.BytesOut) / s}
}

// Add returns the sum of two flows.
func (f Flow) Add(g Flow) Flow {
	return Flow{f.MessagesIn + g.MessagesIn, f.BytesIn + g.BytesIn, f.MessagesOut + g.MessagesOut, f.BytesOut + g.BytesOut}
}
