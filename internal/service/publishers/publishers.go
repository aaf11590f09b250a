// Package publishers knows who has published to which channel in the last hour, and how much.
// Each node counts what comes through it; together they tell. It may be called at once by many;
// counting costs a look into a map and an addition.
package publishers

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/message"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/logs"
	"steadyferry/internal/engine/part"
	"steadyferry/internal/engine/peer"
)

// Every is how often Tend is called: rates are over the last six of its times.
const Every = 10 * time.Second

// Bounds of what is known.
const (
	keptFor  = time.Hour
	slots    = 6
	mostKept = 5000 // on a node; of more only those are told that were there first
	maxName  = 100
)

// Publishers are those of the cluster.
type Publishers struct {
	parts   *part.Registry
	catalog *catalog.Catalog
	names   sync.Map // of principals by their numbers, which never change
	kept    atomic.Int64
	all     sync.Map // key -> *Publisher
}

type key struct {
	channel int64
	name    string
}

// Publisher counts what one publishes to a channel.
type Publisher struct {
	count atomic.Int64
	last  atomic.Int64 // Unix seconds

	mu    sync.Mutex // guards what is below
	slots [slots]int64
	next  int
	seen  int64 // of count
}

// New returns the service.
func New(parts *part.Registry, records *catalog.Catalog) *Publishers {
	ps := &Publishers{parts: parts, catalog: records}
	peer.Answer(&parts.Calls, "publishers", func(context.Context, uint64, struct{}) ([]form.Publisher, error) { return ps.here(time.Now()), nil })
	return ps
}

// Of returns what counts the messages that a name publishes to a channel; nil, which counts
// nothing, when too many are known.
func (ps *Publishers) Of(channel int64, name string) *Publisher {
	k := key{channel, name[:min(len(name), maxName)]}
	if p, known := ps.all.Load(k); known {
		return p.(*Publisher)
	}
	if ps.kept.Load() >= mostKept {
		return nil
	}
	p, known := ps.all.LoadOrStore(k, &Publisher{})
	if !known {
		ps.kept.Add(1)
	}
	return p.(*Publisher)
}

// Sent counts messages.
func (p *Publisher) Sent(messages int64) {
	if p == nil || messages == 0 {
		return
	}
	p.count.Add(messages)
	p.last.Store(time.Now().Unix())
}

// By names the principal that has published a message. A dead letter of a group or a route was made
// by who has set it aside: it tells who has published the message that it was made of, while that is
// there, and else nobody.
func (ps *Publishers) By(ctx context.Context, m *message.Stored) string {
	if m != nil && m.Terms != nil && m.Terms.From != "" {
		m = ps.source(ctx, m.Terms.From)
	}
	if m == nil {
		return ""
	}
	return ps.Named(ctx, m.By)
}

// source is the message of a topic at an address, nil when it is not there any more. What is in it is
// not told: who may see the dead letter may see whose it was.
func (ps *Publishers) source(ctx context.Context, at string) *message.Stored {
	a, err := address.Parse(at)
	if err != nil {
		return nil
	}
	t, err := ps.parts.Channel(a)
	if err != nil {
		return nil
	}
	p, err := t.Partition(a.Partition)
	if err != nil {
		return nil
	}
	m, err := logs.Message(access.As(ctx, access.Node(setting.Ferryd)), ps.parts, p, a.Offset, false)
	if err != nil {
		return nil
	}
	return m
}

// Named returns the name of the principal with a number, also of one that is gone; it is empty for the
// service itself, and while the records cannot be asked.
func (ps *Publishers) Named(ctx context.Context, number uint32) string {
	if name, known := ps.names.Load(number); known {
		return name.(string)
	}
	if number == 0 || !ps.catalog.AwaySince().IsZero() {
		return ""
	}
	name, err := catalog.One[string](ctx, ps.catalog, `SELECT name FROM principal_numbers WHERE number = $1`, number)
	switch {
	case errors.Is(err, catalog.ErrNotFound):
		unknown := fmt.Sprintf("principal %d", number) // of other records than these
		name = &unknown
	case err != nil:
		return ""
	}
	ps.names.Store(number, *name)
	return *name
}

// Tend forgets who has been silent, and goes on with rates.
func (ps *Publishers) Tend(now time.Time) {
	ps.all.Range(func(k, value any) bool {
		p := value.(*Publisher)
		if now.Sub(time.Unix(p.last.Load(), 0)) > keptFor {
			ps.all.Delete(k)
			ps.kept.Add(-1)
			return true
		}
		p.mu.Lock()
		defer p.mu.Unlock()
		count := p.count.Load()
		p.slots[p.next%slots], p.seen = count-p.seen, count
		p.next++
		return true
	})
}

// rate is that of the last minute, or of as much of it as was seen.
func (p *Publisher) rate() float64 {
	p.mu.Lock()
	defer p.mu.Unlock()
	sum := int64(0)
	for _, n := range p.slots {
		sum += n
	}
	return float64(sum) / (float64(max(min(p.next, slots), 1)) * Every.Seconds())
}

// here are those whose messages came through this node.
func (ps *Publishers) here(now time.Time) []form.Publisher {
	out := []form.Publisher{}
	ps.all.Range(func(k, value any) bool {
		p := value.(*Publisher)
		if last := time.Unix(p.last.Load(), 0); p.last.Load() > 0 && now.Sub(last) <= keptFor {
			out = append(out, form.Publisher{Channel: k.(key).channel, Name: k.(key).name, Rate: p.rate(), Last: last.UTC()})
		}
		return true
	})
	return out
}

// Seen returns who has published in the last hour, through whichever node.
func (ps *Publishers) Seen(ctx context.Context) []form.Publisher {
	by := map[key]form.Publisher{}
	add := func(all []form.Publisher) {
		for _, p := range all {
			k := key{p.Channel, p.Name}
			if was, known := by[k]; known {
				p.Rate += was.Rate
				if was.Last.After(p.Last) {
					p.Last = was.Last
				}
			}
			by[k] = p
		}
	}
	add(ps.here(time.Now()))
	for _, all := range peer.AskEach[[]form.Publisher](ctx, ps.parts.Peers(), ps.parts.OtherNodes(), "publishers", struct{}{}) {
		add(all)
	}
	return slices.SortedFunc(maps.Values(by), func(a, b form.Publisher) int {
		return cmp.Or(cmp.Compare(a.Channel, b.Channel), cmp.Compare(a.Name, b.Name))
	})
}
