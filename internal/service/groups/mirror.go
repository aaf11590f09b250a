package groups

import (
	"context"
	"encoding/json"
	"log/slog"
	"maps"
	"sync"
	"time"

	"steadyferry/internal/core/group"
	"steadyferry/internal/core/rate"
)

// mirror is this node's copy of what all groups have committed and who holds
// what: it asks the records for what has changed. The records have what was
// acknowledged, whichever node coordinates a group.
type mirror struct {
	asking sync.Mutex // one question at a time
	mu     sync.RWMutex
	asked  time.Time // when the newest answer was asked for
	newest time.Time // of the rows, by the clock of the database
	groups map[int64]*mirrored
	ends   map[commitKey]*rate.Window // how partitions grow, by channel and number
	stamps map[commitKey]stampAt      // by group and number
	given  map[commitKey]*rate.Window // how what routes were given of queues grows, by group and number
}

type mirrored struct {
	offsets map[int]*mirroredOffset
	shares  *group.Table
}

type mirroredOffset struct {
	committed int64
	changed   time.Time
	rate      rate.Window
}

// stampAt remembers when the message at an offset was stored.
type stampAt struct {
	offset int64
	at     time.Time
}

func newMirror() *mirror {
	return &mirror{groups: map[int64]*mirrored{}, ends: map[commitKey]*rate.Window{}, stamps: map[commitKey]stampAt{}, given: map[commitKey]*rate.Window{}}
}

// mirrorOverlap is by how much two answers overlap: a row may become visible
// a while after its time was taken.
const mirrorOverlap = 5 * time.Second

// refresh asks for what has changed, unless somebody has since the call.
func (m *mirror) refresh(ctx context.Context, gs *Groups) error {
	called := time.Now()
	m.asking.Lock()
	defer m.asking.Unlock()
	if m.asked.After(called) {
		return nil
	}
	asked := time.Now()
	offsets, shares, err := gs.catalog.Offsets(ctx, m.newest.Add(-mirrorOverlap))
	if err != nil {
		return err
	}
	view := gs.catalog.View()
	m.mu.Lock()
	defer m.mu.Unlock()
	m.asked = asked
	for _, s := range shares {
		g := m.group(s.Group)
		t := group.NewTable(0)
		if len(s.Shares) > 2 {
			if err := json.Unmarshal(s.Shares, t); err != nil {
				slog.Warn("the record of a group's members cannot be read", "group", s.Group, "error", err)
			}
		}
		if t.Seeks != g.shares.Seeks {
			for _, o := range g.offsets {
				o.rate.Reset()
			}
		}
		g.shares = t
		m.newest = later(m.newest, s.ChangedAt)
	}
	for _, o := range offsets {
		g := m.group(o.Group)
		have := g.offsets[o.Partition]
		if have == nil {
			have = &mirroredOffset{}
			g.offsets[o.Partition] = have
		}
		have.committed, have.changed = o.Committed, o.ChangedAt
		m.newest = later(m.newest, o.ChangedAt)
	}
	for id := range m.groups {
		if view.GroupIDs[id] == nil && len(view.GroupIDs) > 0 {
			delete(m.groups, id)
			maps.DeleteFunc(m.stamps, func(k commitKey, _ stampAt) bool { return k.group == id })
		}
	}
	return nil
}

func later(a, b time.Time) time.Time {
	if b.After(a) {
		return b
	}
	return a
}

// group returns the copy of a group; the caller holds mu.
func (m *mirror) group(id int64) *mirrored {
	g := m.groups[id]
	if g == nil {
		g = &mirrored{offsets: map[int]*mirroredOffset{}, shares: group.NewTable(0)}
		m.groups[id] = g
	}
	return g
}

// of returns the committed offsets of a group, by partition.
func (m *mirror) of(id int64) map[int]int64 {
	m.mu.RLock()
	defer m.mu.RUnlock()
	out := map[int]int64{}
	if g := m.groups[id]; g != nil {
		for p, o := range g.offsets {
			out[p] = o.committed
		}
	}
	return out
}

// freshTime is how long an answer about lag waits for the records before it
// tells what they had last.
const freshTime = time.Second

// freshOffsets brings the copy of the offsets up to date, if the records
// answer; without any copy that is an error.
func (gs *Groups) freshOffsets(ctx context.Context) error {
	gs.offsets.mu.RLock()
	never := gs.offsets.asked.IsZero()
	gs.offsets.mu.RUnlock()
	if !never && !gs.catalog.AwaySince().IsZero() {
		return nil
	}
	ctx, cancel := context.WithTimeout(ctx, freshTime)
	defer cancel()
	if err := gs.offsets.refresh(ctx, gs); err != nil && never {
		return err
	}
	return nil
}

// givenRate is how many messages of a queue a route is given a second.
func (m *mirror) givenRate(key commitKey) float64 {
	m.mu.RLock()
	defer m.mu.RUnlock()
	if w := m.given[key]; w != nil {
		return w.PerSecond()
	}
	return 0
}
