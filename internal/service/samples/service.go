// Package samples keeps measured values of channels, groups, endpoints, nodes and spaces for 30
// days: one node measures all of them every 10 s, writes them by the minute, and makes of
// those blocks of each thing, which become coarser with age. While the records are away it
// goes on measuring, and keeps an hour in memory. It may be called at once by many.
package samples

import (
	"context"
	"log/slog"
	"math/rand/v2"
	"sync"
	"time"

	"steadyferry/internal/core/sample"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/ledger"
	"steadyferry/internal/engine/part"
	"steadyferry/internal/service/cluster"
	"steadyferry/internal/service/endpoints"
	"steadyferry/internal/service/groups"
	"steadyferry/internal/service/quotas"
	"steadyferry/internal/service/routes"
)

// Samples are the measured values of the cluster.
type Samples struct {
	of      *Sources
	catalog *catalog.Catalog
	ledger  ledger.Ledger
	onDuty  func() bool
	owner   asked[time.Time]                                                              // when somebody came as the owner last
	seconds asked[int]                                                                    // how many things wait for a second person
	then    func(ctx context.Context, now time.Time, measured map[sample.Thing][]float64) // after each measuring
	counted counts                                                                        // of the measuring before; of Measure alone

	turn     sync.Mutex // held while things are measured; guards what is up to mu
	measures bool       // this node is the one
	lived    time.Time  // the last time that is past
	leaving  time.Time  // when it was measured

	mu      sync.Mutex // guards what is below
	open    *sample.Stretch
	waiting []ledger.StretchRow // that are not recorded yet, the oldest first

	latest latest
}

// Every is how often things are measured.
var Every = sample.Levels[0].Step

// Bounds of what is not recorded.
const (
	stretchSpan = time.Minute
	mostWaiting = 60 // stretches
)

// Sources are what is measured.
type Sources struct {
	Parts     *part.Registry
	Groups    *groups.Groups
	Routes    *routes.Routes
	Endpoints *endpoints.Endpoints
	Cluster   *cluster.Cluster
	Quotas    *quotas.Quotas
}

// New returns the service. onDuty tells whether this node measures.
func New(of *Sources, records *catalog.Catalog, onDuty func() bool) *Samples {
	return &Samples{of: of, catalog: records, ledger: ledger.Of(records), onDuty: onDuty, counted: countsAt(time.Now())}
}

// Lived measures all things at a time that is past, when the node's time of day leaves it: what
// was lived faster than time goes has its figures too.
func (s *Samples) Lived(ctx context.Context, at time.Time) {
	s.turn.Lock()
	defer s.turn.Unlock()
	if time.Since(at) < Every || at.Sub(s.lived) < Every && at.After(s.lived) {
		return
	}
	s.lived, s.leaving = at, time.Now()
	s.measure(ctx, at)
}

// Tick measures all things now, unless a time that is past is lived.
func (s *Samples) Tick(ctx context.Context, now time.Time) {
	s.turn.Lock()
	defer s.turn.Unlock()
	if now.Sub(s.leaving) >= Every {
		s.measure(ctx, now)
	}
}

// Measure measures all things at a time, if this node is the one that does, and records
// what is due.
func (s *Samples) Measure(ctx context.Context, now time.Time) {
	s.turn.Lock()
	defer s.turn.Unlock()
	s.measure(ctx, now)
}

func (s *Samples) measure(ctx context.Context, now time.Time) {
	// Who measured last goes on while the records cannot say who shall.
	s.measures = s.onDuty() || s.measures && !s.catalog.AwaySince().IsZero()
	if !s.measures {
		s.End(ctx)
		return
	}
	all, counted := s.gather(ctx, now, s.counted)
	s.counted = counted
	s.Put(ctx, now, all)
	if s.then != nil {
		s.then(ctx, now.Truncate(Every), all)
	}
}

// OnMeasured has f be told what was measured, each time. It is called before the first time.
func (s *Samples) OnMeasured(f func(ctx context.Context, now time.Time, measured map[sample.Thing][]float64)) {
	s.then = f
}

// Put keeps what was measured of things at a time, in the order of the values of their kinds,
// and records what is due.
func (s *Samples) Put(ctx context.Context, now time.Time, measured map[sample.Thing][]float64) {
	s.note(now, measured)
	s.record(ctx)
}

func (s *Samples) note(now time.Time, measured map[sample.Thing][]float64) {
	at := now.Truncate(Every)
	begin := at.Truncate(stretchSpan)
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.open != nil && !s.open.Begin.Equal(begin) {
		s.close()
	}
	if s.open == nil {
		s.open = sample.NewStretch(begin, Every)
	}
	for t, values := range measured {
		s.open.Put(t, at, values)
	}
}

// close has the open stretch be recorded. mu is held.
func (s *Samples) close() {
	s.waiting = append(s.waiting, ledger.StretchRow{At: s.open.Begin, ID: rand.Int64(), Data: s.open.Encode()})
	s.open = nil
	if more := len(s.waiting) - mostWaiting; more > 0 {
		s.waiting = s.waiting[more:]
	}
}

// record writes stretches into the records, as far as these answer.
func (s *Samples) record(ctx context.Context) {
	for {
		s.mu.Lock()
		if len(s.waiting) == 0 {
			s.mu.Unlock()
			return
		}
		first := s.waiting[0]
		s.mu.Unlock()
		if err := s.ledger.AddStretch(ctx, first); err != nil {
			if ctx.Err() == nil {
				slog.Debug("measured values wait to be recorded", "error", err)
			}
			return
		}
		s.mu.Lock()
		if len(s.waiting) > 0 && s.waiting[0].ID == first.ID {
			s.waiting = s.waiting[1:]
		}
		s.mu.Unlock()
	}
}

// End has what is measured be recorded, as the node stops or another one goes on.
func (s *Samples) End(ctx context.Context) {
	s.mu.Lock()
	if s.open != nil {
		s.close()
	}
	s.mu.Unlock()
	s.record(ctx)
}
