package part

import (
	"cmp"
	"time"

	"steadyferry/internal/core/clock"
	"steadyferry/internal/core/rate"
	"steadyferry/internal/engine/replica"
	"steadyferry/internal/engine/report"
)

// led notes that a replica of this node began to lead.
func (reg *Registry) led(l replica.Led) {
	reg.reports.Led(report.LeaderChange{At: time.Now().UTC().Truncate(time.Millisecond), Channel: l.Key.Channel, Partition: l.Key.Partition, Term: l.Term, From: l.From, To: reg.id, Reason: l.Reason}, true)
	reg.reports.TellSoon()
	if p := reg.At(l.Key); p != nil {
		reg.recoverRoutes(p)
	}
}

// LeaderChanges returns the changes of leaders that are remembered, newest
// first.
func (reg *Registry) LeaderChanges() []report.LeaderChange { return reg.reports.Changes() }

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
func (reg *Registry) ReplicaReport(p *Partition, g *replica.Group, now time.Time) *report.Replica {
	m := g.Membership()
	r := &report.Replica{Key: g.Key(), Member: g.ID(), Term: m.Term, Lead: m.Lead, Leading: m.Leading && g.Refusal() == nil, Voters: m.Voters, Leaving: m.Leaving, Learners: m.Learners, Majority: g.HasMajority(), Has: g.Committed(), Status: p.here(g, now), LostEnd: g.LostEnd()}
	if r.Leading {
		committed := g.Committed()
		for _, o := range m.Others {
			f := report.Follower{Node: o.Member, Active: o.Active && reg.peers.Up(o.Member), Fed: o.Fed}
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
func (reg *Registry) View(p *Partition, now time.Time) (node uint64, r *report.Replica) {
	key := p.Key()
	if g := p.Replica(); g != nil {
		node, r = reg.id, reg.ReplicaReport(p, g, now)
		if r.Leading {
			return node, r
		}
	}
	better := func(a, b *report.Replica) bool {
		if a.Leading != b.Leading {
			return a.Leading
		}
		return cmp.Or(cmp.Compare(a.Term, b.Term), cmp.Compare(a.Status.End, b.Status.End)) > 0
	}
	reg.reports.Of(key, func(id uint64, other *report.Replica, wholeAt time.Time) {
		if other.Leading && !reg.current(id, wholeAt) {
			stale := *other
			stale.Leading = false
			other = &stale
		}
		if r == nil || better(other, r) {
			node, r = id, other
		}
	})
	return node, r
}

// current reports whether a node answers, and has told all since it does: what
// it told before it was away may have changed long ago.
func (reg *Registry) current(id uint64, wholeAt time.Time) bool {
	since, ok := reg.upSince.Load(id)
	return reg.peers.Up(id) && ok && !wholeAt.Before(since.(time.Time))
}

// outRates adds up what all nodes hand to readers of a partition.
func (reg *Registry) outRates(key replica.Key, own rate.Flow) rate.Flow {
	reg.reports.Of(key, func(id uint64, r *report.Replica, _ time.Time) {
		if reg.peers.Up(id) {
			own.MessagesOut += r.Status.Rates.MessagesOut
			own.BytesOut += r.Status.Rates.BytesOut
		}
	})
	return own
}
