package samples

import (
	"context"
	"time"

	"steadyferry/internal/core/sample"
	"steadyferry/internal/engine/part"
	"steadyferry/internal/engine/report"
	"steadyferry/internal/service/groups"
	"steadyferry/internal/service/queues"
)

// gather measures all things, in the order of the values of their kinds.
func (s *Samples) gather(ctx context.Context, now time.Time) map[sample.Thing][]float64 {
	all := map[sample.Thing][]float64{}
	for _, t := range s.parts.Channels() {
		all[sample.Thing{Kind: sample.Channel.Name, ID: t.ID}] = s.channel(t, now)
	}
	if lags, err := s.groups.Lag(ctx, nil, nil); err == nil {
		for _, l := range lags {
			all[sample.Thing{Kind: sample.Group.Name, ID: l.Group.ID}] = group(l)
		}
	}
	view := s.catalog.View()
	for _, e := range view.Endpoints {
		failing := 0.0
		if s.outside.Fails(e.ID) {
			failing = 1
		}
		all[sample.Thing{Kind: sample.Endpoint.Name, ID: e.ID}] = []float64{failing}
	}
	return all
}

func (s *Samples) channel(t *part.Channel, now time.Time) []float64 {
	status, each := s.parts.Status(t, now)
	r := status.Rates
	values := []float64{r.MessagesIn, r.MessagesOut, r.BytesIn, r.BytesOut, float64(status.Messages), float64(status.Bytes),
		sample.Unknown, sample.Unknown, sample.Unknown, sample.Unknown, 0, 0}
	if t.IsQueue() {
		q := queues.Summary(each)
		values[6], values[7], values[8], values[9] = float64(q.Waiting), float64(q.Leased), float64(q.Dead), 0
		if q.Oldest != nil {
			values[9] = max(now.Sub(*q.Oldest).Seconds(), 0)
		}
	}
	for i := range each {
		values[10] += leaderless(&each[i])
		values[11] += missing(&each[i])
	}
	return values
}

func leaderless(p *report.Partition) float64 {
	if p.Leader == 0 {
		return 1
	}
	return 0
}

func missing(p *report.Partition) (count float64) {
	for _, r := range p.Replicas {
		if !r.InStep {
			count++
		}
	}
	return count
}

func group(l *groups.Lag) []float64 {
	return []float64{float64(l.Verdict.Messages), l.OldestAge.Seconds(), l.ArrivalRate, l.CommitRate, float64(len(l.Members)), float64(l.Verdict.State.Severity())}
}
