package part

import (
	"cmp"
	"encoding/json"
	"log/slog"
	"slices"
	"sync"
	"time"

	"steadyferry/internal/core/clock"
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/rate"
	"steadyferry/internal/engine/replica"
)

// led notes that a replica of this node began to lead.
func (reg *Registry) led(l replica.Led) {
	reg.reports.led(LeaderChange{At: time.Now().UTC().Truncate(time.Millisecond), Channel: l.Key.Channel, Partition: l.Key.Partition, Term: l.Term, From: l.From, To: reg.id, Reason: l.Reason}, true)
	reg.reports.tellSoon()
}

// Report is what a node tells the others about itself: all of it when they
// meet, and then every second what has changed.
type Report struct {
	Whole    bool              `json:"whole"`
	Number   uint64            `json:"number"` // one more than that of the report before
	Started  time.Time         `json:"started"`
	Version  string            `json:"version"`
	Disk     form.Disk         `json:"disk"`
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

// Reports is what this node knows of the other ones.
type Reports struct {
	mu      sync.RWMutex
	of      map[uint64]*known
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

func newReports() *Reports {
	return &Reports{of: map[uint64]*known{}, soon: make(chan struct{}, 1)}
}

func (o *Reports) tellSoon() {
	select {
	case o.soon <- struct{}{}:
	default:
	}
}

func (o *Reports) led(c LeaderChange, own bool) {
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
func (reg *Registry) LeaderChanges() []LeaderChange {
	reg.reports.mu.RLock()
	defer reg.reports.mu.RUnlock()
	out := slices.Clone(reg.reports.changes)
	slices.Reverse(out)
	return out
}

// take keeps what another node reports, and returns the replicas it told of.
func (o *Reports) take(from uint64, body []byte) []*ReplicaReport {
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
	k := o.of[from]
	if k == nil || r.Whole {
		k = &known{replicas: map[replica.Key]*ReplicaReport{}}
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
	k.Report, k.at = r, time.Now()
	return parsed
}

// Replica returns what a node last reported of its replica, or nil.
func (o *Reports) Replica(node uint64, key replica.Key) *ReplicaReport {
	o.mu.RLock()
	defer o.mu.RUnlock()
	if k := o.of[node]; k != nil {
		return k.replicas[key]
	}
	return nil
}

// leader returns the node that reported last, by its term, that it leads.
func (o *Reports) leader(key replica.Key) (id, term uint64) {
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
func (o *Reports) About(node uint64) (about Report, at time.Time, out rate.Flow) {
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
	return k.Report, k.at, out
}

// Wanted tells when this node has something that it should tell soon.
func (o *Reports) Wanted() <-chan struct{} { return o.soon }

// Next numbers this node's next report, puts the changes of leaders into its
// two forms, that of what has changed and the whole, and returns who gets the
// whole one.
func (o *Reports) Next(changed, whole *Report) (wholeTo []uint64) {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.told++
	changed.Number, whole.Number = o.told, o.told
	changed.Changes, o.fresh = o.fresh, nil
	whole.Changes = slices.Clone(o.changes)
	wholeTo, o.wholeTo = o.wholeTo, nil
	return wholeTo
}

// inStepBytes and inStepTime say what a replica may lack at the moment that it
// is looked at and still be in step: what is on its way.
const (
	inStepBytes = 1 << 20
	inStepTime  = time.Second
)

// Standing is what a replica's report depends on. While it is the same and still,
// so is the report.
type Standing struct {
	committed uint64
	first     int64
	bytes     int64
	segments  int
	end       int64
	members   *replica.Membership
	majority  bool
	refuses   bool
	rates     rate.Flow
	working   bool // what its kind tells of it changes without a record
	hears     string
}

// IsStill reports whether nothing goes on that is not in the standing.
func (s Standing) IsStill() bool { return s.rates == rate.Flow{} && !s.working }

// Standing returns how a replica stands; hears says which nodes answer this one.
func (reg *Registry) Standing(p *Partition, g *replica.Group, hears string) Standing {
	b := g.Journal().Bounds()
	m := g.Membership()
	s := Standing{committed: g.Committed(), first: b.First, bytes: b.Bytes, segments: b.Segments, end: g.End(), members: m, majority: g.HasMajority(), refuses: g.Refusal() != nil,
		rates: p.Rates(), hears: hears,
		working: p.Channel.kind.Summary != nil || g.Stalled() || g.Failed() || g.LostEnd() != nil}
	for _, o := range m.Others {
		if o.Match < s.committed {
			s.working = true // it is catching up
		}
	}
	return s
}

// ReplicaReport is how the replica here is.
func (reg *Registry) ReplicaReport(p *Partition, g *replica.Group, now time.Time) *ReplicaReport {
	m := g.Membership()
	r := &ReplicaReport{Key: g.Key(), Member: g.ID(), Term: m.Term, Lead: m.Lead, Leading: m.Leading && g.Refusal() == nil, Voters: m.Voters, Leaving: m.Leaving, Learners: m.Learners, Majority: g.HasMajority(), Has: g.Committed(), Status: p.here(g, now), LostEnd: g.LostEnd()}
	if r.Leading {
		committed := g.Committed()
		for _, o := range m.Others {
			f := FollowerReport{Node: o.Member, Active: o.Active && reg.peers.Up(o.Member), Fed: o.Fed}
			match := o.Match
			if match == 0 {
				// Since this replica leads, nothing was heard of it: what it
				// said of itself last is known.
				if last := reg.reports.Replica(o.Member, r.Key); last != nil {
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

// View returns the best report there is of a partition: that of its leader,
// or else of the replica that knows most.
func (reg *Registry) View(p *Partition, now time.Time) (node uint64, r *ReplicaReport) {
	key := p.Key()
	if g := p.Replica(); g != nil {
		node, r = reg.id, reg.ReplicaReport(p, g, now)
		if r.Leading {
			return node, r
		}
	}
	reg.reports.mu.RLock()
	defer reg.reports.mu.RUnlock()
	better := func(a, b *ReplicaReport) bool {
		if a.Leading != b.Leading {
			return a.Leading
		}
		return cmp.Or(cmp.Compare(a.Term, b.Term), cmp.Compare(a.Status.End, b.Status.End)) > 0
	}
	for id, k := range reg.reports.of {
		other := k.replicas[key]
		if other == nil {
			continue
		}
		if other.Leading && !reg.current(id, k) {
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
func (reg *Registry) current(id uint64, k *known) bool {
	since, ok := reg.upSince.Load(id)
	return reg.peers.Up(id) && ok && !k.wholeAt.Before(since.(time.Time))
}

// outRates adds up what all nodes hand to readers of a partition.
func (reg *Registry) outRates(key replica.Key, own rate.Flow) rate.Flow {
	reg.reports.mu.RLock()
	defer reg.reports.mu.RUnlock()
	for id, k := range reg.reports.of {
		if r := k.replicas[key]; r != nil && reg.peers.Up(id) {
			own.MessagesOut += r.Status.Rates.MessagesOut
			own.BytesOut += r.Status.Rates.BytesOut
		}
	}
	return own
}
