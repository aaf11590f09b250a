package node

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"log/slog"
	"slices"
	"sync"
	"time"

	"steadyferry/internal/core/clock"
	"steadyferry/internal/core/rate"
	"steadyferry/internal/engine/replica"
)

// Report is what a node tells the others about itself: all of it when they
// meet, and then every second what has changed.
type Report struct {
	Whole    bool              `json:"whole"`
	Number   uint64            `json:"number"` // one more than that of the report before
	Started  time.Time         `json:"started"`
	Version  string            `json:"version"`
	Disk     Disk              `json:"disk"`
	Memory   int64             `json:"memory"`
	Streams  int64             `json:"streams"`
	OnDuty   bool              `json:"onDuty"`
	Records  bool              `json:"records"` // the database answers
	Hears    []uint64          `json:"hears"`   // nodes that answer it
	Replicas []json.RawMessage `json:"replicas,omitempty"`
	Gone     []replica.Key     `json:"gone,omitempty"`
	Changes  []LeaderChange    `json:"changes,omitempty"`
}

// ReplicaReport is how one replica is.
type ReplicaReport struct {
	Key      replica.Key      `json:"key"`
	Member   uint64           `json:"member"` // its Raft id
	Term     uint64           `json:"term"`
	Lead     uint64           `json:"lead"` // the leader it knows of
	Leading  bool             `json:"leading"`
	Voters   []uint64         `json:"voters"`
	Leaving  []uint64         `json:"leaving,omitempty"`
	Learners []uint64         `json:"learners,omitempty"`
	Majority bool             `json:"majority"`
	Has      uint64           `json:"has"` // index of the last record that it knows to be committed
	Status   PartitionStatus  `json:"status"`
	LostEnd  *replica.LostEnd `json:"lostEnd,omitempty"`
	Others   []FollowerReport `json:"others,omitempty"` // of the leader
}

// FollowerReport is another replica as the leader sees it.
type FollowerReport struct {
	Node     uint64 `json:"node"`
	Active   bool   `json:"active"`
	Fed      bool   `json:"fed"`
	Messages int64  `json:"messages"` // that it lacks
	Bytes    int64  `json:"bytes"`
	// Seconds is the age of the first message that it lacks, by the clock of
	// the leader, which has stamped it: those of other nodes may differ.
	Seconds float64 `json:"seconds"`
}

// LeaderChange tells when and why a partition got another leader.
type LeaderChange struct {
	At        time.Time `json:"at"`
	Channel   int64     `json:"channel"`
	Partition int       `json:"partition"`
	Term      uint64    `json:"term"`
	From      uint64    `json:"from"`
	To        uint64    `json:"to"`
	Reason    string    `json:"reason"`
}

// keptChanges is how many changes of leaders a node remembers.
const keptChanges = 500

// others is what this node knows of the other ones.
type others struct {
	mu      sync.RWMutex
	reports map[uint64]*known
	changes []LeaderChange // oldest first
	fresh   []LeaderChange // of this node, not yet told
	told    uint64         // number of the last report of this node
	soon    chan struct{}
	wholeTo []uint64 // nodes that have just come
}

type known struct {
	Report
	at       time.Time
	wholeAt  time.Time // when it told all; zero when something was lost since
	replicas map[replica.Key]*ReplicaReport
}

func newOthers() *others {
	return &others{reports: map[uint64]*known{}, soon: make(chan struct{}, 1)}
}

func (o *others) tellSoon() {
	select {
	case o.soon <- struct{}{}:
	default:
	}
}

func (o *others) led(c LeaderChange, own bool) {
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

// LeaderChanges returns the changes of leaders that are remembered, newest
// first.
func (n *Node) LeaderChanges() []LeaderChange {
	n.others.mu.RLock()
	defer n.others.mu.RUnlock()
	out := slices.Clone(n.others.changes)
	slices.Reverse(out)
	return out
}

// take keeps what another node reports, and returns the replicas it told of.
func (o *others) take(from uint64, body []byte) []*ReplicaReport {
	var r Report
	if err := json.Unmarshal(body, &r); err != nil {
		slog.Warn("a report of another node cannot be read", "node", from, "error", err)
		return nil
	}
	parsed := make([]*ReplicaReport, 0, len(r.Replicas))
	for _, raw := range r.Replicas {
		rr := &ReplicaReport{}
		if json.Unmarshal(raw, rr) == nil {
			parsed = append(parsed, rr)
		}
	}
	for _, c := range r.Changes {
		o.led(c, false)
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	k := o.reports[from]
	if k == nil || r.Whole {
		k = &known{replicas: map[replica.Key]*ReplicaReport{}}
		o.reports[from] = k
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
	k.Report, k.at = r, time.Now()
	return parsed
}

// replica returns what a node last reported of its replica, or nil.
func (o *others) replica(node uint64, key replica.Key) *ReplicaReport {
	o.mu.RLock()
	defer o.mu.RUnlock()
	if k := o.reports[node]; k != nil {
		return k.replicas[key]
	}
	return nil
}

// leader returns the node that reported last, by its term, that it leads.
func (o *others) leader(key replica.Key) (id, term uint64) {
	o.mu.RLock()
	defer o.mu.RUnlock()
	for node, k := range o.reports {
		if r := k.replicas[key]; r != nil && r.Leading && r.Term > term {
			id, term = node, r.Term
		}
	}
	return id, term
}

// of returns what another node said of itself last, when that was, and what it
// handed to readers then; the time is zero when nothing was heard.
func (o *others) of(node uint64) (about Report, at time.Time, out rate.Flow) {
	o.mu.RLock()
	defer o.mu.RUnlock()
	k := o.reports[node]
	if k == nil {
		return about, at, out
	}
	for _, r := range k.replicas {
		out.MessagesOut += r.Status.Rates.MessagesOut
		out.BytesOut += r.Status.Rates.BytesOut
	}
	return k.Report, k.at, out
}

// wanted tells when this node has something that it should tell soon.
func (o *others) wanted() <-chan struct{} { return o.soon }

// next numbers this node's next report, puts the changes of leaders into its
// two forms, that of what has changed and the whole, and returns who gets the
// whole one.
func (o *others) next(changed, whole *Report) (wholeTo []uint64) {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.told++
	changed.Number, whole.Number = o.told, o.told
	changed.Changes, o.fresh = o.fresh, nil
	whole.Changes = slices.Clone(o.changes)
	wholeTo, o.wholeTo = o.wholeTo, nil
	return wholeTo
}

// reporting tells the other nodes about this one.
func (n *Node) reporting(ctx context.Context) {
	ticker := time.NewTicker(time.Second)
	defer ticker.Stop()
	told := map[replica.Key][]byte{}
	for {
		select {
		case <-ctx.Done():
			return
		case <-ticker.C:
			n.askToTell()
		case <-n.others.wanted():
			time.Sleep(10 * time.Millisecond) // several changes come together
		}
		n.report(told)
	}
}

// askToTell asks nodes that answer, but have not told all since, to do so: they
// may not have noticed that they were away.
func (n *Node) askToTell() {
	for _, id := range n.otherNodes() {
		if n.peers.Up(id) && !n.hasToldAll(id) {
			n.peers.Cast(id, "tell", nil)
		}
	}
}

func (n *Node) report(told map[replica.Key][]byte) {
	now := time.Now()
	r := n.about()
	whole := r
	whole.Whole = true
	seen := map[replica.Key]bool{}
	for _, t := range n.Topics() {
		for _, p := range t.Partitions() {
			g := p.Replica()
			if g == nil {
				continue
			}
			b, err := json.Marshal(n.replicaReport(p, g, now))
			if err != nil {
				panic(err) // plain values
			}
			key := g.Key()
			seen[key] = true
			whole.Replicas = append(whole.Replicas, b)
			if !bytes.Equal(told[key], b) {
				r.Replicas = append(r.Replicas, b)
				told[key] = b
			}
		}
	}
	for key := range told {
		if !seen[key] {
			r.Gone = append(r.Gone, key)
			delete(told, key)
		}
	}
	wholeTo := n.others.next(&r, &whole)
	var delta, all []byte
	for _, id := range n.otherNodes() {
		if !n.peers.Up(id) {
			continue
		}
		var err error
		if slices.Contains(wholeTo, id) {
			if all == nil {
				all, err = json.Marshal(whole)
			}
			n.peers.Cast(id, "report", all)
		} else {
			if delta == nil {
				delta, err = json.Marshal(r)
			}
			n.peers.Cast(id, "report", delta)
		}
		if err != nil {
			panic(err) // plain values
		}
	}
}

// about is the part of the report that is about the node as a whole.
func (n *Node) about() Report {
	r := Report{Started: n.started.UTC().Truncate(time.Millisecond), Version: n.version, Memory: MemoryUsed(), Streams: int64(n.Streams.Open()), OnDuty: n.onDuty.Load(), Records: n.catalog.AwaySince().IsZero()}
	if d, err := n.Disk(); err == nil {
		r.Disk = d
	}
	for _, id := range n.otherNodes() {
		if n.peers.Up(id) {
			r.Hears = append(r.Hears, id)
		}
	}
	return r
}

// inStepBytes and inStepTime say what a replica may lack at the moment that it
// is looked at and still be in step: what is on its way.
const (
	inStepBytes = 1 << 20
	inStepTime  = time.Second
)

func (n *Node) replicaReport(p *Partition, g *replica.Group, now time.Time) *ReplicaReport {
	m := g.Membership()
	r := &ReplicaReport{Key: g.Key(), Member: g.ID(), Term: m.Term, Lead: m.Lead, Leading: m.Leading && g.Refusal() == nil, Voters: m.Voters, Leaving: m.Leaving, Learners: m.Learners, Majority: g.HasMajority(), Has: g.Committed(), Status: p.here(g, now), LostEnd: g.LostEnd()}
	if r.Leading {
		committed := g.Committed()
		for _, o := range m.Others {
			f := FollowerReport{Node: o.Member, Active: o.Active && n.peers.Up(o.Member), Fed: o.Fed}
			match := o.Match
			if match == 0 {
				// Since this replica leads, nothing was heard of it: what it
				// said of itself last is known.
				if last := n.others.replica(o.Member, r.Key); last != nil {
					match = last.Has
				}
			}
			if match < committed {
				if b, err := g.Journal().BehindOf(match); err == nil {
					f.Messages, f.Bytes = b.Messages, b.Bytes
					if b.Time > 0 {
						f.Seconds = max(clock.Now().Sub(time.UnixMicro(b.Time)).Seconds(), 0)
					}
				}
			}
			r.Others = append(r.Others, f)
		}
	}
	return r
}

// view returns the best report there is of a partition: that of its leader,
// or else of the replica that knows most.
func (n *Node) view(p *Partition, now time.Time) (node uint64, r *ReplicaReport) {
	key := p.key()
	if g := p.Replica(); g != nil {
		node, r = n.id, n.replicaReport(p, g, now)
		if r.Leading {
			return node, r
		}
	}
	n.others.mu.RLock()
	defer n.others.mu.RUnlock()
	better := func(a, b *ReplicaReport) bool {
		if a.Leading != b.Leading {
			return a.Leading
		}
		return cmp.Or(cmp.Compare(a.Term, b.Term), cmp.Compare(a.Status.End, b.Status.End)) > 0
	}
	for id, k := range n.others.reports {
		other := k.replicas[key]
		if other == nil {
			continue
		}
		if other.Leading && !n.current(id, k) {
			stale := *other
			stale.Leading = false
			other = &stale
		}
		if r == nil || better(other, r) {
			node, r = id, other
		}
	}
	return node, r
}

// current reports whether a node answers, and has told all since it does: what
// it told before it was away may have changed long ago.
func (n *Node) current(id uint64, k *known) bool {
	since, ok := n.upSince.Load(id)
	return n.peers.Up(id) && ok && !k.wholeAt.Before(since.(time.Time))
}

// upFor returns for how long another node has answered, 0 when it does not.
func (n *Node) upFor(id uint64, now time.Time) time.Duration {
	since, ok := n.upSince.Load(id)
	if !ok || !n.peers.Up(id) {
		return 0
	}
	return now.Sub(since.(time.Time))
}

// hasToldAll reports whether what is known of another node is current.
func (n *Node) hasToldAll(id uint64) bool {
	n.others.mu.RLock()
	defer n.others.mu.RUnlock()
	k := n.others.reports[id]
	return k != nil && n.current(id, k)
}

// outRates adds up what all nodes hand to readers of a partition.
func (n *Node) outRates(key replica.Key, own rate.Flow) rate.Flow {
	n.others.mu.RLock()
	defer n.others.mu.RUnlock()
	for id, k := range n.others.reports {
		if r := k.replicas[key]; r != nil && n.peers.Up(id) {
			own.MessagesOut += r.Status.Rates.MessagesOut
			own.BytesOut += r.Status.Rates.BytesOut
		}
	}
	return own
}
