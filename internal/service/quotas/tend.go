package quotas

import (
	"encoding/json"
	"log/slog"
	"sync"
	"time"

	"steadyferry/internal/core/setting"
)

// told is what another node has told of what is used there.
type told struct {
	at  time.Time
	all map[of]uses
}

// uses is what one uses at a node.
type uses struct {
	Of      of
	Asked   [kinds]float64 // a second
	Used    [kinds]float64
	Streams int64
}

// others is what is known of the other nodes.
type others struct {
	mu sync.Mutex
	of map[uint64]told
}

// heardFor is how long what a node has told holds.
const heardFor = 3 * Every

func (o *others) hear(from uint64, body []byte) {
	var all []uses
	if err := json.Unmarshal(body, &all); err != nil {
		slog.Warn("what is used at another node cannot be read", "node", from, "error", err)
		return
	}
	t := told{time.Now(), make(map[of]uses, len(all))}
	for _, u := range all {
		t.all[u.Of] = u
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	o.of[from] = t
}

// fresh are what nodes have told lately, those that say nothing as if nothing were used there.
func (o *others) fresh(x of, nodes []uint64) (all []uses) {
	o.mu.Lock()
	defer o.mu.Unlock()
	for _, id := range nodes {
		t := o.of[id]
		if time.Since(t.at) > heardFor {
			all = append(all, uses{})
			continue
		}
		all = append(all, t.all[x])
	}
	return all
}

func (o *others) askedOf(x of, nodes []uint64) (all [][kinds]float64) {
	for _, u := range o.fresh(x, nodes) {
		all = append(all, u.Asked)
	}
	return all
}

func (o *others) streams(x of) (n int64) {
	o.mu.Lock()
	defer o.mu.Unlock()
	for _, t := range o.of {
		if time.Since(t.at) <= heardFor {
			n += t.all[x].Streams
		}
	}
	return n
}

// lately is how much of a rate is that of the last second.
const lately = 0.4

// Tend looks at what was used in the last second, tells the other nodes, and divides anew.
func (q *Quotas) Tend() {
	var all []uses
	nodes := q.parts.OtherNodes()
	q.meters.Range(func(key, value any) bool {
		o, m := key.(of), value.(*meter)
		u := q.use(o)
		if (u == setting.Use{}) && q.room(o) == 0 {
			if m.streams.Load() == 0 {
				q.meters.Delete(key)
			}
			return true
		}
		if q.room(o) > 0 {
			m.kept.Store(q.keptIn(o.Name))
		}
		m.mu.Lock()
		defer m.mu.Unlock()
		m.use = u
		for k := range m.accounts {
			asked, used := m.accounts[k].Told()
			m.asked[k] += lately * (asked/Every.Seconds() - m.asked[k])
			m.used[k] += lately * (used/Every.Seconds() - m.used[k])
		}
		m.share(q.others.askedOf(o, nodes))
		all = append(all, uses{o, m.asked, m.used, m.streams.Load()})
		return true
	})
	if len(all) == 0 {
		return
	}
	body, err := json.Marshal(all)
	if err != nil {
		panic(err) // plain values
	}
	for _, id := range nodes {
		q.parts.Peers().Cast(id, "uses", body)
	}
}

// keptIn is how many bytes the channels of a space keep, without what groups have set aside: that is
// not bound either.
func (q *Quotas) keptIn(space string) (bytes int64) {
	for _, t := range q.parts.ChannelsOf(space) {
		if t.OfGroup() {
			continue
		}
		status, _ := q.parts.Status(t, time.Now())
		bytes += status.Bytes
	}
	return bytes
}
