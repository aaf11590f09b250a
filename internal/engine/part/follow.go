package part

import (
	"cmp"
	"context"
	"log/slog"
	"slices"
	"sync/atomic"
	"time"

	"golang.org/x/sync/errgroup"

	"steadyferry/internal/core/journal"
	"steadyferry/internal/core/topic"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/replica"
	"steadyferry/internal/engine/routed"
)

// LeaveOld deletes replicas that this node shall no longer hold, once the
// leader says that it is no longer a member.
func (reg *Registry) LeaveOld(ctx context.Context) {
	if len(reg.OtherNodes()) == 0 {
		return // nobody could have them instead
	}
	for _, t := range reg.Channels() {
		for _, p := range t.Partitions() {
			g := p.Replica()
			if g == nil || slices.Contains(reg.Placed(p), reg.id) {
				continue
			}
			leader, term := reg.reports.Leader(p.Key())
			r := reg.reports.Replica(leader, p.Key())
			if leader == 0 || leader == reg.id || r == nil || term < g.Membership().Term || !reg.peers.Up(leader) || slices.Contains(slices.Concat(r.Voters, r.Leaving, r.Learners), reg.id) {
				continue
			}
			reg.leave(ctx, t, p, g)
		}
	}
}

// leave deletes a replica. Records that are followed meanwhile may give it to
// this node again: then nothing of it may be open or half deleted.
func (reg *Registry) leave(ctx context.Context, t *Channel, p *Partition, g *replica.Group) {
	reg.followMu.Lock()
	defer reg.followMu.Unlock()
	if reg.ByID(t.ID) != t || slices.Contains(reg.Placed(p), reg.id) || !p.group.CompareAndSwap(g, nil) {
		return
	}
	ctx, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	if err := reg.sched.Close(ctx, g, true); err != nil {
		slog.Warn("a replica that left could not be deleted", "partition", p.Address(), "error", err)
	}
}

// follow opens and closes the partitions of what has changed, so that they are
// those of the records.
func (reg *Registry) follow(d catalog.Delta) {
	reg.followMu.Lock()
	defer reg.followMu.Unlock()
	view := reg.catalog.View()
	if d.All {
		for _, t := range reg.Channels() {
			if view.Channel(t.ID) == nil {
				reg.followChannel(view, t.ID, nil)
			}
		}
		for _, ch := range view.Channels {
			reg.followChannel(view, ch.ID, ch)
		}
		return
	}
	for id := range reg.again {
		d.Channels[id] = true
	}
	for id := range d.Channels {
		reg.followChannel(view, id, view.Channel(id))
	}
}

// followChannel does it for one channel; nil is one that is gone.
func (reg *Registry) followChannel(view *catalog.View, id int64, ch *catalog.Channel) {
	t := reg.ByID(id)
	delete(reg.again, id)
	if ch == nil {
		if t != nil {
			reg.strike(t)
			reg.closeTopic(t)
		}
		return
	}
	made := t == nil
	if made {
		t = newChannel(ch, cmp.Or(reg.kinds[ch.Kind], plain))
		reg.Shelf.BringBack(ch)
	}
	changed := t.set(ch)
	if placed := view.Placed[id]; made || changed || !slices.EqualFunc(t.placed, placed, samePlace) {
		t.placed = placed
		if !reg.openPartitions(t, placed, ch.Partitions) {
			t.placed, reg.again[id] = nil, true
		}
	}
	if changed || made {
		reg.Shelf.Label(view, ch)
	}
	if made {
		reg.enter(t)
	}
}

// samePlace reports whether a partition is to be held as before.
func samePlace(a, b *catalog.Placement) bool {
	return a.Partition == b.Partition && a.Epoch == b.Epoch && slices.Equal(a.Replicas, b.Replicas)
}

// openPartitions knows the partitions of a topic, and opens those that this
// node shall hold, or still holds. It returns false when one could not be opened,
// and shall be tried again.
func (reg *Registry) openPartitions(t *Channel, placed []*catalog.Placement, count int) bool {
	all := slices.Clone(t.Partitions())
	for number := len(all); number < count; number++ {
		all = append(all, &Partition{Number: number, Channel: t})
	}
	var opening errgroup.Group
	opening.SetLimit(8)
	var failed atomic.Bool
	for _, p := range all {
		if p.Number >= len(placed) {
			continue
		}
		place := placed[p.Number]
		if g := p.Replica(); g != nil && g.Epoch() == place.Epoch {
			g.SetMembers(place.Replicas)
			continue
		}
		opening.Go(func() error {
			if err := reg.openPartition(t, p, place); err != nil {
				slog.Error("could not open a partition", "partition", p.Address(), "error", err)
				failed.Store(true)
			}
			return nil
		})
	}
	opening.Wait()
	t.partitions.Store(&all)
	return !failed.Load() && len(placed) >= count
}

func (reg *Registry) openPartition(t *Channel, p *Partition, place *catalog.Placement) error {
	if old := p.group.Swap(nil); old != nil { // recovered by force: it begins anew
		reg.closeGroup(old, p)
	}
	key := p.Key()
	if !slices.Contains(place.Replicas, reg.id) && !reg.store.Holds(key.String()) {
		return nil
	}
	base := &Machine{Partition: p, applied: topic.NewPublishers(), ahead: topic.NewPublishers(), routes: routed.New(uint64(place.Epoch))}
	base.journal = func() *journal.Journal { return p.Replica().Journal() }
	var m replica.Machine = base
	if t.kind.Machine != nil {
		m = t.kind.Machine(base)
	}
	p.machine.Store(&m)
	return reg.sched.Open(replica.Options{
		Key: key, Node: reg.id, Voters: place.BeganWith, Epoch: place.Epoch, Journal: t.Retention().Segments(),
		Survivor: place.Epoch > 0 && place.Survivor.Valid && uint64(place.Survivor.Int64) == reg.id,
		MemberOf: func(node uint64) uint64 {
			if r := reg.reports.Replica(node, key); r != nil {
				return r.Member
			}
			return 0
		},
		Changed: reg.reports.TellSoon, Led: reg.led, Broken: func() { reg.wg.Go(func() { reg.reopen(t, p) }) },
	}, m, func(g *replica.Group) {
		g.SetMembers(place.Replicas)
		p.group.Store(g)
	})
}

// reopen closes a partition that has found its log broken, and opens it again.
func (reg *Registry) reopen(t *Channel, p *Partition) {
	reg.followMu.Lock()
	defer reg.followMu.Unlock()
	view := reg.catalog.View()
	places := view.Placed[t.ID]
	if reg.ByID(t.ID) != t || p.Number >= len(places) || !reg.Serving() {
		return
	}
	if err := reg.openPartition(t, p, places[p.Number]); err != nil {
		slog.Error("could not open a partition", "partition", p.Address(), "error", err)
	}
}

func (reg *Registry) closeTopic(t *Channel) {
	for _, p := range t.Partitions() {
		if g := p.Replica(); g != nil {
			reg.closeGroup(g, p)
		}
	}
}

func (reg *Registry) closeGroup(g *replica.Group, p *Partition) {
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	if err := reg.sched.Close(ctx, g, false); err != nil {
		slog.Warn("could not close a partition", "partition", p.Address(), "error", err)
	}
}
