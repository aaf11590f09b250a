package samples

import (
	"context"
	"math"
	"sync"
	"time"

	"steadyferry/internal/core/sample"
)

// freshFor is for how long what was measured for those who look is good for all of them.
const freshFor = 2 * time.Second

// latest is what was measured a moment ago for those who look, beside what is kept.
type latest struct {
	mu     sync.Mutex
	at     time.Time
	values map[sample.Thing][]float64
	counts counts
}

// Now returns what is measured of all things now, or was a moment ago, in the order of the
// values of their kinds. It must not be changed.
func (s *Samples) Now(ctx context.Context) map[sample.Thing][]float64 {
	l := &s.latest
	l.mu.Lock()
	defer l.mu.Unlock()
	if now := time.Now(); now.Sub(l.at) > freshFor {
		l.values, l.counts = s.gather(ctx, now, l.counts)
		l.at = now
	}
	return l.values
}

// Histories returns what was measured of things of a kind from a time up to another one, in the
// finest steps that go back so far and are not more than a day's of the finest.
func (s *Samples) Histories(ctx context.Context, kind string, ids []int64, from, to time.Time) (map[int64]*sample.Block, error) {
	const most = 1500
	return s.in(ctx, sample.LevelFor(time.Since(from), to.Sub(from), most), kind, ids, from, to)
}

// Then returns what was measured of things at a time, in the order of the values of their
// kinds: the last figure of each value up to it.
func (s *Samples) Then(ctx context.Context, things []sample.Thing, at time.Time) (map[sample.Thing][]float64, error) {
	by := map[string][]int64{}
	for _, t := range things {
		by[t.Kind] = append(by[t.Kind], t.ID)
	}
	out := map[sample.Thing][]float64{}
	for kind, ids := range by {
		k := sample.Named(kind)
		level := sample.LevelFor(time.Since(at), time.Minute, math.MaxInt)
		all, err := s.in(ctx, level, kind, ids, at.Add(-max(2*level.Step, time.Minute)), at.Add(time.Second))
		if err != nil {
			return nil, err
		}
		for id, b := range all {
			values := make([]float64, len(k.Values))
			known := false
			for v := range values {
				values[v] = sample.Unknown
				for i := range b.Len() {
					if x := b.At(v, i); !math.IsNaN(x) && !b.Begin.Add(time.Duration(i)*b.Step).After(at) {
						values[v], known = x, true
					}
				}
			}
			if known {
				out[sample.Thing{Kind: kind, ID: id}] = values
			}
		}
	}
	return out, nil
}
