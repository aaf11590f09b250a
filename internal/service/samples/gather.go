package samples

import (
	"context"
	"maps"
	"math"
	"slices"
	"sync"
	"time"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/clock"
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/queue"
	"steadyferry/internal/core/rate"
	"steadyferry/internal/core/sample"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/part"
	"steadyferry/internal/engine/report"
	"steadyferry/internal/service/groups"
	"steadyferry/internal/service/queues"
	"steadyferry/internal/service/quotas"
	"steadyferry/internal/service/routes"
)

// noLossSeen is what loses-data-in is while no loss is foreseen.
const noLossSeen = 30 * 24 * time.Hour

// counts are those of a time, of which a later time makes rates.
type counts struct {
	at   time.Time
	died map[int64]int64 // messages of queues that had become dead letters
	sent map[int64]int64 // what routes had sent
}

func countsAt(now time.Time) counts { return counts{now, map[int64]int64{}, map[int64]int64{}} }

// rate is how many came in a second since an earlier count.
func (c counts) rate(before counts, was, is map[int64]int64, id int64) float64 {
	first, known := was[id]
	if span := c.at.Sub(before.at).Seconds(); known && span > 0 && is[id] >= first {
		return float64(is[id]-first) / span
	}
	return sample.Unknown
}

// gathering is one measuring of all things, in the order of the values of their kinds.
type gathering struct {
	*Samples
	ctx  context.Context
	now  time.Time
	all  map[sample.Thing][]float64
	then counts
	is   counts
}

// Opened counts the glasses that are broken at a time.
func Opened(v *catalog.View, now time.Time) (n int) {
	for _, g := range v.Grants {
		if until, err := time.Parse(time.RFC3339, g.Until); g.Role == access.RoleBreakGlass && err == nil && until.After(now) {
			n++
		}
	}
	return n
}

// ownerLately is for how long a use of the owner's rights is told.
const ownerLately = 10 * time.Minute

// recordsAsked is how often the records are asked for what nodes have no copy of: that comes less
// often than values are looked at.
const recordsAsked = 10 * time.Second

// asked is what the records said a moment ago.
type asked[T any] struct {
	mu   sync.Mutex // guards all below
	at   time.Time
	said T
	err  error
}

func (a *asked[T]) now(ask func() (T, error)) (T, error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if time.Since(a.at) >= recordsAsked {
		a.said, a.err = ask()
		a.at = time.Now()
	}
	return a.said, a.err
}

// ownerUsed is 1 when somebody came as the owner lately.
func (s *Samples) ownerUsed(ctx context.Context, now time.Time) float64 {
	owner := s.catalog.View().Principal(catalog.Owner)
	if owner == nil || now.Sub(owner.CreatedAt) < catalog.OwnerGrace {
		return 0
	}
	last, err := s.owner.now(func() (time.Time, error) { return s.ledger.LastUseOf(ctx, catalog.Owner) })
	switch {
	case err != nil:
		return sample.Unknown
	case now.Sub(last) < ownerLately:
		return 1
	}
	return 0
}

// secondsWaiting is how many things wait for a second person.
func (s *Samples) secondsWaiting(ctx context.Context) float64 {
	n, err := s.seconds.now(func() (int, error) { return s.ledger.SecondsWaiting(ctx) })
	if err != nil {
		return sample.Unknown
	}
	return float64(n)
}

// gather measures all things. before are the counts of the time before.
func (s *Samples) gather(ctx context.Context, now time.Time, before counts) (map[sample.Thing][]float64, counts) {
	g := &gathering{s, ctx, now, map[sample.Thing][]float64{}, before, countsAt(now)}
	owner, glass, seconds := s.ownerUsed(ctx, now), float64(Opened(s.catalog.View(), now)), s.secondsWaiting(ctx)
	conditions := s.of.Cluster.Conditions(now)
	for _, id := range slices.Sorted(maps.Keys(conditions)) {
		c := conditions[id]
		free, certificate := sample.Unknown, sample.Unknown
		if c.DiskFree >= 0 {
			free = float64(c.DiskFree)
		}
		if c.CertificateLeft >= 0 {
			certificate = c.CertificateLeft.Seconds()
		}
		g.put(sample.Node, int64(id), 0, 0, free, 0, c.Away.Seconds(), c.RecordsAway.Seconds(), certificate, owner, glass, seconds)
		owner, glass, seconds = 0, 0, 0 // they are told of the first node
	}
	for _, t := range s.of.Parts.Channels() {
		g.channel(t)
	}
	if lags, err := s.of.Groups.Lag(ctx, nil, nil); err == nil {
		doing := s.of.Routes.Doing(ctx)
		for _, l := range lags {
			g.group(l, doing)
		}
	}
	healths := s.of.Endpoints.Healths()
	for _, e := range s.catalog.View().Endpoints {
		failing, certificate := 0.0, sample.Unknown
		h := healths[e.ID]
		if h.Failing() {
			failing = max(now.Sub(h.FailingSince).Seconds(), 1)
		}
		if ends := s.of.Endpoints.CertificateEnds(e, h); !ends.IsZero() {
			certificate = max(ends.Sub(now).Seconds(), 0)
		}
		g.put(sample.Endpoint, e.ID, failing, certificate)
	}
	for _, sp := range s.catalog.View().Spaces {
		if quotas.Bounded(sp) { // what a space uses costs a look at all that is in it
			g.put(sample.Space, sp.ID, boundUsed(s.of.Quotas.OfSpace(sp)))
		}
	}
	return g.all, g.is
}

// boundUsed is how much is used, in percent, of the bound that is nearest; not known where there is none.
func boundUsed(all []form.Quota) float64 {
	used := sample.Unknown
	for _, q := range all {
		if part := 100 * q.Used / q.Most; q.Most > 0 && (math.IsNaN(used) || part > used) {
			used = part
		}
	}
	return used
}

func (g *gathering) put(kind *sample.Kind, id int64, values ...float64) {
	g.all[sample.Thing{Kind: kind.Name, ID: id}] = values
}

func (g *gathering) channel(t *part.Channel) {
	status, each := g.of.Parts.Status(t, g.now)
	r := status.Rates
	if lived, step := g.livedFlow(t); step > 0 {
		r = lived.Over(step)
	}
	values := make([]float64, len(sample.Channel.Values))
	set := func(name string, x float64) { values[sample.Channel.Place(name)] = x }
	set("in-rate", r.MessagesIn)
	set("out-rate", r.MessagesOut)
	set("in-bytes", r.BytesIn)
	set("out-bytes", r.BytesOut)
	set("messages", float64(status.Messages))
	set("bytes", float64(status.Bytes))
	newest := t.Record().CreatedAt
	missing, leaderless := 0, 0
	for i := range each {
		p := &each[i]
		if p.Newest != nil && p.Newest.After(newest) {
			newest = *p.Newest
		}
		if p.Leader == 0 {
			leaderless++
		}
		missing += g.replicas(p)
	}
	set("silent-for", max(clock.Now().Sub(newest).Seconds(), 0))
	set("leaderless", float64(leaderless))
	set("replicas-missing", float64(missing))
	if t.IsQueue() {
		g.queue(t, queues.Summary(each), set)
	} else {
		for _, name := range []string{"waiting", "leased", "dead", "oldest-waiting", "dead-rate", "leased-long"} {
			set(name, sample.Unknown)
		}
	}
	g.put(sample.Channel, t.ID, values...)
}

// livedFlow is what came and went in the step of a time that is past, while that is lived: rates
// are of the last seconds, of which it has but one.
func (g *gathering) livedFlow(t *part.Channel) (rate.Totals, time.Duration) {
	if time.Since(g.now) < Every {
		return rate.Totals{}, 0
	}
	series, step := g.of.Parts.Series(g.ctx, t, g.now.Add(rate.CoarseStep), 2*rate.FineStep*rate.FineCount, part.AnyPartition)
	if len(series) == 0 {
		return rate.Totals{}, 0
	}
	return series[len(series)-1], step
}

// replicas counts those of a partition that are not in step, and adds what it is to the node
// that leads it.
func (g *gathering) replicas(p *report.Partition) (missing int) {
	if node := g.all[sample.Thing{Kind: sample.Node.Name, ID: int64(p.Leader)}]; node != nil {
		node[sample.Node.Place("node-in-rate")] += p.Rates.MessagesIn
		node[sample.Node.Place("node-in-bytes")] += p.Rates.BytesIn
		node[sample.Node.Place("leads")]++
	}
	for _, r := range p.Replicas {
		if !r.InStep {
			missing++
		}
	}
	return missing
}

func (g *gathering) queue(t *part.Channel, q *queue.Summary, set func(string, float64)) {
	set("waiting", float64(q.Waiting))
	set("leased", float64(q.Leased))
	set("dead", float64(q.Dead))
	oldest, leased := 0.0, 0.0
	if q.Oldest != nil {
		oldest = max(clock.Now().Sub(*q.Oldest).Seconds(), 0)
	}
	for _, m := range q.Members {
		if m.Leased > 0 {
			leased = max(leased, clock.Now().Sub(time.UnixMicro(m.Oldest)).Seconds())
		}
	}
	set("oldest-waiting", oldest)
	set("leased-long", leased)
	g.is.died[t.ID] = q.Rejected
	set("dead-rate", g.is.rate(g.then, g.then.died, g.is.died, t.ID))
}

func (g *gathering) group(l *groups.Lag, doing map[int64]routes.Doing) {
	loses, waits, sent := noLossSeen.Seconds(), sample.Unknown, sample.Unknown
	if l.Verdict.LosesIn >= 0 {
		loses = min(l.Verdict.LosesIn.Seconds(), loses)
	}
	members := float64(len(l.Members))
	if l.Group.Kind() == setting.Route {
		waits, members = 0, sample.Unknown
		d := doing[l.Group.ID]
		if d.Waits.Reason != "" {
			waits = max(g.now.Sub(d.Waits.Since).Seconds(), 1)
		}
		g.is.sent[l.Group.ID] = d.Sent
		sent = g.is.rate(g.then, g.then.sent, g.is.sent, l.Group.ID)
	}
	g.put(sample.Group, l.Group.ID, float64(l.Verdict.Messages), l.OldestAge.Seconds(), l.ArrivalRate, l.CommitRate, members, float64(l.Verdict.State.Severity()), loses, waits, sent)
}
