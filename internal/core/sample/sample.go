// Package sample is measured values that last: what they are, the steps in which they are
// kept, how values of fine steps become one of a coarser one, and the bytes of a stretch.
package sample

import (
	"math"
	"time"
)

// Level is a step in which samples are kept for a time, in blocks of one length.
type Level struct {
	Step, Kept, Block time.Duration
}

// Levels are the steps, the finest first: each is made of the one before. With noise in all
// of 12 values a thing takes 8 KiB in an hour of the first, and 560 KiB in all.
var Levels = []Level{
	{10 * time.Second, 26 * time.Hour, time.Hour},
	{time.Minute, 8 * 24 * time.Hour, 24 * time.Hour},
	{10 * time.Minute, 31 * 24 * time.Hour, 24 * time.Hour},
}

// Begin is the start of the block that a time lies in.
func (l Level) Begin(at time.Time) time.Time { return at.Truncate(l.Block) }

// Count is how many samples a block has.
func (l Level) Count() int { return int(l.Block / l.Step) }

// LevelFor returns the finest level that keeps what is so old, and shows a span in no more
// steps than most; the coarsest if none does.
func LevelFor(age, span time.Duration, most int) Level {
	for _, l := range Levels {
		if age <= l.Kept-l.Block && int(span/l.Step) <= most {
			return l
		}
	}
	return Levels[len(Levels)-1]
}

// Fold is how values of a fine step become one of a coarser one.
type Fold uint8

// The folds. What is not known is left out of each.
const (
	Mean Fold = iota
	Most      // so that no peak is lost
	Least
)

// Value is one that is measured. Digits are those behind the point which are kept.
type Value struct {
	Name   string
	Unit   string
	Fold   Fold
	Digits int
}

// Kind is a sort of thing and what is measured of it. Values are only added at the end:
// blocks have them by their place.
type Kind struct {
	Name   string
	Values []Value
}

// Place returns where a value of the kind stands, -1 when it has none of the name.
func (k *Kind) Place(name string) int {
	for i := range k.Values {
		if k.Values[i].Name == name {
			return i
		}
	}
	return -1
}

// The kinds of things that are measured.
var (
	Channel = &Kind{"channel", []Value{
		{"in-rate", "/s", Mean, 2}, {"out-rate", "/s", Mean, 2}, {"in-bytes", "B/s", Mean, 0}, {"out-bytes", "B/s", Mean, 0},
		{"messages", "", Most, 0}, {"bytes", "B", Most, 0}, {"waiting", "", Most, 0}, {"leased", "", Most, 0}, {"dead", "", Most, 0},
		{"oldest-waiting", "s", Most, 1}, {"leaderless", "", Most, 0}, {"replicas-missing", "", Most, 0},
		{"dead-rate", "/s", Mean, 3}, {"leased-long", "s", Most, 1}, {"silent-for", "s", Most, 0},
	}}
	Group = &Kind{"group", []Value{
		{"lag", "", Most, 0}, {"lag-age", "s", Most, 1}, {"in-rate", "/s", Mean, 2}, {"out-rate", "/s", Mean, 2}, {"members", "", Least, 0}, {"severity", "", Most, 0},
		{"loses-data-in", "s", Least, 0}, {"route-waiting", "s", Most, 0}, {"sent-rate", "/s", Mean, 2},
	}}
	Endpoint = &Kind{"endpoint", []Value{{"endpoint-failing", "s", Most, 0}, {"certificate-left", "s", Least, 0}}}
	Node     = &Kind{"node", []Value{
		{"node-in-rate", "/s", Mean, 2}, {"node-in-bytes", "B/s", Mean, 0}, {"disk-free", "B", Least, 0}, {"leads", "", Mean, 0},
		{"node-away", "s", Most, 0}, {"catalog-away", "s", Most, 0}, {"certificate-left", "s", Least, 0},
		{"owner-used", "", Most, 0}, {"glass-broken", "", Most, 0}, {"seconds-waiting", "", Most, 0},
	}}
	Space = &Kind{"space", []Value{{"bound-used", "%", Most, 1}}}
)

// Kinds are all of them.
var Kinds = []*Kind{Channel, Group, Endpoint, Node, Space}

// Named returns the kind with the name, nil without one.
func Named(name string) *Kind {
	for _, k := range Kinds {
		if k.Name == name {
			return k
		}
	}
	return nil
}

// Unknown is the value of a time at which nothing was measured.
var Unknown = math.NaN()

// Block is what was measured of a thing at equal steps: by value of its kind, and by step.
// Columns may be shorter than others: what is behind their ends is Unknown.
type Block struct {
	Begin   time.Time
	Step    time.Duration
	Columns [][]float64
}

// NewBlock returns one in which nothing is known yet.
func (k *Kind) NewBlock(begin time.Time, step time.Duration) *Block {
	return &Block{Begin: begin, Step: step, Columns: make([][]float64, len(k.Values))}
}

// Put sets what was measured at a time, in the order of the kind's values.
func (b *Block) Put(at time.Time, values []float64) {
	i := int(at.Sub(b.Begin) / b.Step)
	if i < 0 || at.Before(b.Begin) {
		return
	}
	for v := range b.Columns {
		if v >= len(values) || math.IsNaN(values[v]) {
			continue
		}
		for len(b.Columns[v]) <= i {
			b.Columns[v] = append(b.Columns[v], Unknown)
		}
		b.Columns[v][i] = values[v]
	}
}

// At returns a value at a step of the block.
func (b *Block) At(value, step int) float64 {
	if value >= len(b.Columns) || step < 0 || step >= len(b.Columns[value]) {
		return Unknown
	}
	return b.Columns[value][step]
}

// Len is the number of steps up to the last one of which something is known.
func (b *Block) Len() (steps int) {
	for _, c := range b.Columns {
		steps = max(steps, len(c))
	}
	return steps
}

// Cut leaves out the steps that begin at a time or later.
func (b *Block) Cut(end time.Time) {
	steps := max(0, int((end.Sub(b.Begin)+b.Step-1)/b.Step))
	for v, c := range b.Columns {
		b.Columns[v] = c[:min(len(c), steps)]
	}
}

// Fold puts what another block has, of finer steps, into the steps of this one; several
// times for blocks that follow each other, if each ends with a step of this one.
func (k *Kind) Fold(into, fine *Block) {
	ratio := int(into.Step / fine.Step)
	values := make([]float64, len(k.Values))
	for from := 0; from < fine.Len(); from += ratio {
		for v := range k.Values {
			values[v] = k.Values[v].Fold.of(fine, v, from, from+ratio)
		}
		into.Put(fine.Begin.Add(time.Duration(from)*fine.Step), values)
	}
}

// of folds the values of some steps.
func (f Fold) of(b *Block, value, from, to int) float64 {
	sum, count, most, least := 0.0, 0, math.Inf(-1), math.Inf(1)
	for i := from; i < to; i++ {
		if x := b.At(value, i); !math.IsNaN(x) {
			sum, most, least = sum+x, max(most, x), min(least, x)
			count++
		}
	}
	switch {
	case count == 0:
		return Unknown
	case f == Most:
		return most
	case f == Least:
		return least
	}
	return sum / float64(count)
}
