// Package quotas holds spaces and principals to what they may have and use: it is asked before
// something is published, read, asked for or kept open, and tells what is used of what. What is
// allowed a second is for all nodes together: each tells the others once a second what was asked of
// it, and gives out its share. It may be called at once by many. Whom no bound holds costs a look
// into a map.
package quotas

import (
	"context"
	"sync"
	"sync/atomic"
	"time"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/quota"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/part"
)

// Every is how often Tend is called.
const Every = time.Second

// Quotas are those of one node.
type Quotas struct {
	parts   *part.Registry
	catalog *catalog.Catalog
	meters  sync.Map // of -> *meter
	others  others
}

// of is for whom a bound is: a space, or a principal.
type of struct {
	Space bool
	Name  string
}

func (o of) String() string {
	if o.Space {
		return "space " + o.Name
	}
	return o.Name
}

// What is used so much of a second.
const (
	publish = iota
	read
	request
	kinds
)

// meter measures one of them on this node.
type meter struct {
	accounts [kinds]quota.Account
	streams  atomic.Int64
	kept     atomic.Int64 // bytes: as measured, and what came since

	mu    sync.Mutex // guards all below
	use   setting.Use
	asked [kinds]float64 // a second, lately
	used  [kinds]float64
}

// New returns the service, which hears from other nodes what is used there, and is asked by the
// partitions before something is published.
func New(parts *part.Registry, records *catalog.Catalog) *Quotas {
	q := &Quotas{parts: parts, catalog: records, others: others{of: map[uint64]told{}}}
	parts.Calls.Hear("uses", q.others.hear)
	parts.Bounded(q.publish)
	return q
}

func rates(u setting.Use) [kinds]float64 {
	return [kinds]float64{float64(u.PublishRate), float64(u.ReadRate), float64(u.RequestRate)}
}

// use is how much o may use.
func (q *Quotas) use(o of) (u setting.Use) {
	v := q.catalog.View()
	if o.Space {
		if s := v.Spaces[o.Name]; s != nil {
			u = s.Use
		}
	} else if p := v.Principal(o.Name); p != nil {
		u = p.Use
	}
	return u
}

// meter returns what measures o; nil when it has no bound.
func (q *Quotas) meter(o of) *meter {
	u := q.use(o)
	if (u == setting.Use{}) && q.room(o) == 0 {
		return nil
	}
	found, known := q.meters.Load(o)
	if !known {
		made := &meter{}
		if q.room(o) > 0 {
			made.kept.Store(q.keptIn(o.Name))
		}
		found, _ = q.meters.LoadOrStore(o, made)
	}
	m := found.(*meter)
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.use != u {
		m.use = u
		m.share(q.others.askedOf(o, q.parts.OtherNodes()))
	}
	return m
}

// room is how many bytes o may keep; 0: there is no bound.
func (q *Quotas) room(o of) int64 {
	if s := q.catalog.View().Spaces[o.Name]; o.Space && s != nil {
		return s.MostKept
	}
	return 0
}

// share divides what is allowed by what is asked here and at the other nodes.
func (m *meter) share(others [][kinds]float64) {
	now := time.Now()
	for k, rate := range rates(m.use) {
		var theirs []float64
		for _, o := range others {
			theirs = append(theirs, o[k])
		}
		m.accounts[k].Set(quota.Share(rate, m.asked[k], theirs), now)
	}
}

// bound is one that holds for what is asked.
type bound struct {
	of
	*meter
}

// bounds are those that hold for whoever asks, in a space; without one, for them alone.
func (q *Quotas) bounds(ctx context.Context, space string) (all []bound) {
	add := func(o of) {
		if m := q.meter(o); m != nil {
			all = append(all, bound{o, m})
		}
	}
	if space != "" {
		add(of{true, space})
	}
	if a, known := access.In(ctx); known && !access.IsNode(a) {
		add(of{false, a.Who()})
	}
	return all
}

// pay has all that hold pay, or none; who does not is told of.
func (q *Quotas) pay(all []bound, kind int, amount float64) (who *bound, after time.Duration) {
	now := time.Now()
	for i := range all {
		if after = all[i].accounts[kind].Pay(amount, now); after > 0 {
			for _, paid := range all[:i] {
				paid.accounts[kind].Back(amount)
			}
			return &all[i], after
		}
	}
	return nil, 0
}

type patientKey struct{}

// Patient has what is done with the context wait for its turn rather than be refused.
func Patient(ctx context.Context) context.Context { return context.WithValue(ctx, patientKey{}, true) }

// publish returns why so many bytes are not taken into a space now.
func (q *Quotas) publish(ctx context.Context, space string, bytes int64) error {
	all := q.bounds(ctx, space)
	if len(all) == 0 {
		return nil
	}
	o := all[0]
	most := q.room(o.of)
	if most > 0 && o.kept.Add(bytes) > most {
		kept := o.kept.Add(-bytes)
		return noRoom(o.Name, kept, bytes, most)
	}
	for {
		who, after := q.pay(all, publish, float64(bytes))
		if who == nil {
			return nil
		}
		if ctx.Value(patientKey{}) == nil || !wait(ctx, after) {
			if most > 0 {
				o.kept.Add(-bytes) // it is not kept
			}
			return tooFast(who, publish, after)
		}
	}
}

// Request returns why whoever asks may not do so in a space now, be it that they have read too
// much.
func (q *Quotas) Request(ctx context.Context, space string, reads bool) error {
	all := q.bounds(ctx, space)
	if who, after := q.pay(all, request, 1); who != nil {
		return tooFast(who, request, after)
	}
	if who, after := owed(all, read); reads && who != nil {
		return tooFast(who, read, after)
	}
	return nil
}

// owed returns who has used too much of a kind for the longest.
func owed(all []bound, kind int) (who *bound, after time.Duration) {
	for i := range all {
		if o := all[i].accounts[kind].Owed(time.Now()); o > after {
			who, after = &all[i], o
		}
	}
	return who, after
}

// Reads reports whether a bound of what is read holds.
func (q *Quotas) Reads(ctx context.Context, space string) bool {
	for _, b := range q.bounds(ctx, space) {
		if q.use(b.of).ReadRate > 0 {
			return true
		}
	}
	return false
}

// Gave notes bytes that whoever asks was given of a space.
func (q *Quotas) Gave(ctx context.Context, space string, bytes int) {
	for _, b := range q.bounds(ctx, space) {
		b.accounts[read].Owe(float64(bytes), time.Now())
	}
}

// Pace waits until whoever asks may read more of a space, and PaceIn until they may publish more:
// streams wait rather than be refused.
func (q *Quotas) Pace(ctx context.Context, space string) error { return q.pace(ctx, space, read) }

func (q *Quotas) PaceIn(ctx context.Context, space string) error { return q.pace(ctx, space, publish) }

func (q *Quotas) pace(ctx context.Context, space string, kind int) error {
	for {
		_, after := owed(q.bounds(ctx, space), kind)
		if after == 0 || !wait(ctx, after) {
			return ctx.Err()
		}
	}
}

// wait waits no longer than a second, since what is allowed may change.
func wait(ctx context.Context, after time.Duration) bool {
	select {
	case <-ctx.Done():
		return false
	case <-time.After(min(after, Every)):
		return true
	}
}

// Stream begins a stream in a space, which leave ends, or returns why it may not begin.
func (q *Quotas) Stream(ctx context.Context, space string) (leave func(), err error) {
	all := q.bounds(ctx, space)
	leave = func() {
		for _, b := range all {
			b.streams.Add(-1)
		}
	}
	for _, b := range all { // before one looks: of two at once, one is too many
		b.streams.Add(1)
	}
	for i := range all {
		b := &all[i]
		if most := q.use(b.of).MostStreams; most > 0 && b.streams.Load()+q.others.streams(b.of) > int64(most) {
			leave()
			return nil, tooMany(b, most)
		}
	}
	return leave, nil
}
