package report

import (
	"encoding/json"
	"log/slog"
	"slices"
	"sync"
	"time"

	"steadyferry/internal/core/rate"
	"steadyferry/internal/engine/link"
)

// Table is what this node knows of the other ones.
type Table struct {
	mu      sync.RWMutex
	of      map[uint64]*known
	changes []LeaderChange // oldest first
	fresh   []LeaderChange // of this node, not yet told
	told    uint64         // number of the last report of this node
	soon    chan struct{}
	wholeTo []uint64 // nodes that have just come
}

type known struct {
	Node
	at       time.Time
	wholeAt  time.Time // when it told all; zero when something was lost since
	replicas map[link.Key]*Replica
}

// NewTable returns an empty table.
func NewTable() *Table {
	return &Table{of: map[uint64]*known{}, soon: make(chan struct{}, 1)}
}

// TellSoon has this node report before its time.
func (o *Table) TellSoon() {
	select {
	case o.soon <- struct{}{}:
	default:
	}
}

// Led notes a change of leaders; own is one to this node, which others are told.
func (o *Table) Led(c LeaderChange, own bool) {
	o.mu.Lock()
	defer o.mu.Unlock()
	for _, have := range o.changes {
		if have.Channel == c.Channel && have.Partition == c.Partition && have.Term == c.Term {
			return
		}
	}
	o.changes = append(o.changes, c)
	slices.SortStableFunc(o.changes, func(a, b LeaderChange) int { return a.At.Compare(b.At) })
	o.changes = o.changes[max(len(o.changes)-keptChanges, 0):]
	if own {
		o.fresh = append(o.fresh, c)
	}
}

// Take keeps what another node reports, and returns the replicas it told of.
func (o *Table) Take(from uint64, body []byte) []*Replica {
	var r Node
	if err := json.Unmarshal(body, &r); err != nil {
		slog.Warn("a report of another node cannot be read", "node", from, "error", err)
		return nil
	}
	parsed := make([]*Replica, 0, len(r.Replicas))
	for _, raw := range r.Replicas {
		rr := &Replica{}
		if json.Unmarshal(raw, rr) == nil {
			parsed = append(parsed, rr)
		}
	}
	for _, c := range r.Changes {
		o.Led(c, false)
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	k := o.of[from]
	if k == nil || r.Whole {
		k = &known{replicas: map[link.Key]*Replica{}}
		o.of[from] = k
	}
	switch {
	case r.Whole:
		k.wholeAt = time.Now()
	case r.Number != k.Number+1:
		// A report was lost, and with it changes that are told once: it shall
		// tell all.
		k.wholeAt = time.Time{}
	}
	for _, rr := range parsed {
		k.replicas[rr.Key] = rr
	}
	for _, key := range r.Gone {
		delete(k.replicas, key)
	}
	r.Replicas, r.Gone, r.Changes = nil, nil, nil
	k.Node, k.at = r, time.Now()
	return parsed
}

// Replica returns what a node last reported of its replica, or nil.
func (o *Table) Replica(node uint64, key link.Key) *Replica {
	o.mu.RLock()
	defer o.mu.RUnlock()
	if k := o.of[node]; k != nil {
		return k.replicas[key]
	}
	return nil
}

// Leader returns the node that reported last, by its term, that it leads.
func (o *Table) Leader(key link.Key) (id, term uint64) {
	o.mu.RLock()
	defer o.mu.RUnlock()
	for node, k := range o.of {
		if r := k.replicas[key]; r != nil && r.Leading && r.Term > term {
			id, term = node, r.Term
		}
	}
	return id, term
}

// About returns what another node said of itself last, when that was, and what it
// handed to readers then; the time is zero when nothing was heard.
func (o *Table) About(node uint64) (about Node, at time.Time, out rate.Flow) {
	o.mu.RLock()
	defer o.mu.RUnlock()
	k := o.of[node]
	if k == nil {
		return about, at, out
	}
	for _, r := range k.replicas {
		out.MessagesOut += r.Status.Rates.MessagesOut
		out.BytesOut += r.Status.Rates.BytesOut
	}
	return k.Node, k.at, out
}

// Wanted tells when this node has something that it should tell soon.
func (o *Table) Wanted() <-chan struct{} { return o.soon }

// Next numbers this node's next report, puts the changes of leaders into its
// two forms, that of what has changed and the whole, and returns who gets the
// whole one.
func (o *Table) Next(changed, whole *Node) (wholeTo []uint64) {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.told++
	changed.Number, whole.Number = o.told, o.told
	changed.Changes, o.fresh = o.fresh, nil
	whole.Changes = slices.Clone(o.changes)
	wholeTo, o.wholeTo = o.wholeTo, nil
	return wholeTo
}

// Changes returns the changes of leaders that are remembered, newest first.
func (o *Table) Changes() []LeaderChange {
	o.mu.RLock()
	defer o.mu.RUnlock()
	out := slices.Clone(o.changes)
	slices.Reverse(out)
	return out
}

// Met notes that a node has just come: it gets the whole report next.
func (o *Table) Met(node uint64) {
	o.mu.Lock()
	o.wholeTo = append(o.wholeTo, node)
	o.mu.Unlock()
	o.TellSoon()
}

// Of goes through what nodes have reported of a replica. WholeAt is when the node
// told all; it is zero when something was lost since.
func (o *Table) Of(key link.Key, yield func(node uint64, r *Replica, wholeAt time.Time)) {
	o.mu.RLock()
	defer o.mu.RUnlock()
	for id, k := range o.of {
		if r := k.replicas[key]; r != nil {
			yield(id, r, k.wholeAt)
		}
	}
}

// Heard returns when a node told all, which is zero when something was lost since,
// and whether anything was heard of it.
func (o *Table) Heard(node uint64) (wholeAt time.Time, ok bool) {
	o.mu.RLock()
	defer o.mu.RUnlock()
	k := o.of[node]
	if k == nil {
		return time.Time{}, false
	}
	return k.wholeAt, true
}

// Empty reports whether nothing was heard of any node.
func (o *Table) Empty() bool {
	o.mu.RLock()
	defer o.mu.RUnlock()
	return len(o.of) == 0
}
