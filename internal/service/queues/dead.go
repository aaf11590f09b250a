package queues

import (
	"cmp"
	"context"
	"slices"
	"time"

	"steadyferry/internal/core/access"
	"steadyferry/internal/engine/part"
)

// DeadCause is the dead letters of a queue that failed in the same way.
type DeadCause struct {
	ID      uint64
	Reason  string
	Pattern string
	Count   int64
	Share   float64 // of all dead letters, 0 to 1
	First   time.Time
	Last    time.Time
	Bars    []int64
	Sample  *Item // the last one; nil beyond the first causes
}

// Dead is the dead letters of a queue by their causes, the largest first.
type Dead struct {
	Total  int64
	Since  time.Time // when the bars begin
	Causes []DeadCause
}

// sampledCauses is for how many causes a message is read.
const sampledCauses = 100

// Dead groups the dead letters of a queue. Bars counts those of the span in so
// many equal times.
func (qs *Queues) Dead(ctx context.Context, t *part.Channel, span time.Duration, bars int) (*Dead, error) {
	if err := access.Check(ctx, access.SeeCauses, at(t)); err != nil {
		return nil, err
	}
	contents := access.Sight(ctx, access.SeeContent, at(t)).Whole()
	out := &Dead{Since: time.Now().Add(-span)}
	by := map[uint64]int{}
	where := map[uint64]int{} // partition of the sample
	samples := map[uint64]int64{}
	for _, p := range t.Partitions() {
		a, err := qs.AskQueue(ctx, p, &QueueAsk{Kind: "causes", Since: out.Since.UnixMicro(), Bars: bars})
		if err != nil {
			return nil, err
		}
		for _, c := range a.Causes {
			first, last := time.UnixMicro(c.First).UTC(), time.UnixMicro(c.Last).UTC()
			out.Total += c.Count
			i, known := by[c.ID]
			if !known {
				by[c.ID] = len(out.Causes)
				where[c.ID], samples[c.ID] = p.Number, c.Sample
				out.Causes = append(out.Causes, DeadCause{ID: c.ID, Reason: c.Reason, Pattern: c.Pattern, Count: c.Count, First: first, Last: last, Bars: c.Bars})
				continue
			}
			have := &out.Causes[i]
			have.Count += c.Count
			if first.Before(have.First) {
				have.First = first
			}
			if last.After(have.Last) {
				have.Last = last
				where[c.ID], samples[c.ID] = p.Number, c.Sample
			}
			for b := range have.Bars {
				have.Bars[b] += c.Bars[b]
			}
		}
	}
	slices.SortFunc(out.Causes, func(a, b DeadCause) int {
		return cmp.Or(cmp.Compare(b.Count, a.Count), cmp.Compare(a.ID, b.ID))
	})
	for i := range out.Causes {
		c := &out.Causes[i]
		c.Share = float64(c.Count) / float64(out.Total)
		if !contents {
			c.Pattern = ""
		}
		if i >= sampledCauses || !access.May(ctx, access.SeeMetadata, at(t)) {
			continue
		}
		if item, err := qs.Item(ctx, t, where[c.ID], samples[c.ID], false); err == nil && item.Message != nil {
			c.Sample = item.short()
		}
	}
	return out, nil
}

// Bounds of what is done to many messages.
const (
	SampleCount = 5         // messages that a preview shows
	actPage     = 1_000_000 // offsets listed at once
	actCommand  = 10_000    // messages of one command
	EditPage    = 500       // messages that are edited at once
)
