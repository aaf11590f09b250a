package watch

import (
	"iter"
	"math"
	"slices"
	"time"

	"steadyferry/internal/core/sample"
)

// Crossing is a time in which a watch rang, or would have.
type Crossing struct {
	Begun  time.Time // when the figure crossed
	Rang   time.Time // when it had lasted
	Ended  time.Time // zero: it goes on
	Worst  Level
	Peak   float64
	PeakAt time.Time
}

// Try judges what was measured of a thing, in blocks that follow each other, as it would have
// been while it was. It returns when the watch would have rung, and how many figures it saw.
func (r *Rule) Try(kind *sample.Kind, blocks ...*sample.Block) (crossings []Crossing, known int) {
	var s State
	for _, b := range blocks {
		for at, x := range r.figures(kind, b) {
			if !math.IsNaN(x) {
				known++
			}
			var turn Turn
			s, turn = r.Step(s, at, x)
			if turn == Begins {
				crossings = append(crossings, Crossing{Begun: s.Begun, Rang: at})
			}
			if n := len(crossings); n > 0 && (s.Open() || turn == Ends) {
				last := &crossings[n-1]
				last.Worst, last.Peak, last.PeakAt = s.Worst, s.Peak, s.PeakAt
				if turn == Ends {
					last.Ended = at
				}
			}
		}
	}
	return crossings, known
}

// Figures are what the watch looks at, by step of a block.
func (r *Rule) Figures(kind *sample.Kind, b *sample.Block) (all []float64) {
	for _, x := range r.figures(kind, b) {
		all = append(all, x)
	}
	return all
}

func (r *Rule) figures(kind *sample.Kind, b *sample.Block) iter.Seq2[time.Time, float64] {
	return func(yield func(time.Time, float64) bool) {
		values := make([]float64, len(kind.Values))
		for i := range b.Len() {
			for v := range values {
				values[v] = b.At(v, i)
			}
			if !yield(b.Begin.Add(time.Duration(i)*b.Step), r.Figure(kind, values)) {
				return
			}
		}
	}
}

// Quantiles of the past from which levels are proposed.
const (
	WarnQuantile  = 0.99
	AlarmQuantile = 0.999
)

// Propose returns levels that the past would have reached seldom: round figures beyond the
// quantiles of what is known. Without anything known it returns sample.Unknown.
func (r *Rule) Propose(figures []float64) (warn, alarm float64) {
	known := slices.DeleteFunc(slices.Clone(figures), math.IsNaN)
	if len(known) == 0 {
		return sample.Unknown, sample.Unknown
	}
	slices.Sort(known)
	if r.Below {
		slices.Reverse(known)
	}
	at := func(q float64) float64 { return known[min(int(q*float64(len(known))), len(known)-1)] }
	warn = r.round(at(WarnQuantile))
	if alarm = r.round(at(AlarmQuantile)); !r.Worse(alarm, warn) {
		if alarm = 2 * warn; r.Below {
			alarm = r.round(warn / 2)
		}
	}
	if !r.Worse(alarm, warn) {
		return warn, sample.Unknown // such as 0 of what is bad below
	}
	return warn, alarm
}

// round is the next figure of two digits that is worse than x.
func (r *Rule) round(x float64) float64 {
	if x == 0 {
		return map[bool]float64{false: 1}[r.Below]
	}
	unit := math.Pow(10, math.Floor(math.Log10(math.Abs(x)))-1)
	if r.Below {
		return cleaned((math.Ceil(x/unit) - 1) * unit)
	}
	return cleaned((math.Floor(x/unit) + 1) * unit)
}

// cleaned takes away what is left of counting with fractions.
func cleaned(x float64) float64 { return math.Round(x*1e6) / 1e6 }
