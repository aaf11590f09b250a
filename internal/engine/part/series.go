package part

import (
	"context"
	"time"

	"steadyferry/internal/core/clock"
	"steadyferry/internal/core/rate"
	"steadyferry/internal/engine/peer"
)

// Series returns the flow of a topic, or of one of its partitions, over the
// span before now, and the length of its steps: what came in from the nodes
// that lead, and what all nodes handed out.
func (reg *Registry) Series(ctx context.Context, t *Channel, now time.Time, span time.Duration, partition int) ([]rate.Totals, time.Duration) {
	sum, step := reg.ownSeries(t, clock.Now(), span, partition)
	ids := reg.OtherNodes()
	if len(ids) == 0 {
		return sum, step
	}
	ask := seriesAsk{Channel: t.ID, At: now, Span: span, Partition: partition}
	for _, other := range peer.AskEach[[]rate.Totals](ctx, reg.peers, ids, "series", ask) {
		for i := range min(len(sum), len(other)) {
			sum[i] = sum[i].Add(other[i])
		}
	}
	return sum, step
}

type seriesAsk struct {
	Channel   int64         `json:"channel"`
	At        time.Time     `json:"at"`
	Span      time.Duration `json:"span"`
	Partition int           `json:"partition"`
}

func (reg *Registry) answerSeries(_ context.Context, _ uint64, ask seriesAsk) ([]rate.Totals, error) {
	reg.mu.RLock()
	t := reg.channels[ask.Channel]
	reg.mu.RUnlock()
	if t == nil {
		return nil, nil
	}
	series, _ := reg.ownSeries(t, clock.Now(), ask.Span, ask.Partition)
	return series, nil
}

// ownSeries is the part of a series that this node knows.
func (reg *Registry) ownSeries(t *Channel, now time.Time, span time.Duration, partition int) ([]rate.Totals, time.Duration) {
	var sum []rate.Totals
	var step time.Duration
	for _, p := range t.Partitions() {
		if partition != AnyPartition && p.Number != partition {
			continue
		}
		series, s := p.history.Series(now, span)
		step = s
		if sum == nil {
			sum = make([]rate.Totals, len(series))
		}
		g := p.Replica()
		leads := g != nil && g.Membership().Leading
		for i := range sum {
			if !leads {
				series[i].MessagesIn, series[i].BytesIn = 0, 0
			}
			sum[i] = sum[i].Add(series[i])
		}
	}
	return sum, step
}
