package part

import (
	"context"
	"slices"
	"time"

	"steadyferry/internal/core/rate"
	"steadyferry/internal/engine/report"
)

// ReadyTime is how long making a topic waits for its partitions to take
// messages.
const ReadyTime = 3 * time.Second

// States of a partition and a topic.
const (
	StateReady    = "ready"
	StatePaused   = "paused"
	StateStarting = "starting"
	StateDiskFull = "disk-full"
	StateFailed   = "failed"
	StateLostEnd  = "end-lost"
	StateNoLeader = "no-leader"
	StateReadOnly = "no-majority"
	StateFewer    = "replicas-missing"
	StateAway     = "away"
)

// States of a replica.
const (
	ReplicaLeads   = "leads"
	ReplicaInStep  = "in-step"
	ReplicaBehind  = "behind"
	ReplicaCatches = "catching-up"
	ReplicaJoins   = "joining"
	ReplicaLeaves  = "leaving"
	ReplicaAway    = "away" // its node does not answer
)

// rateSpan is over which time a rate "now" is taken.
const rateSpan = 5 * time.Second

// PartitionStatus returns how a partition is now, from what its replicas
// report.
func (reg *Registry) PartitionStatus(p *Partition, now time.Time) report.Partition {
	placed := reg.Placed(p)
	node, r := reg.View(p, now)
	if r == nil {
		s := report.Partition{Partition: p.Number, State: StateAway}
		if p.Replica() == nil && len(placed) > 0 && now.Sub(reg.started) < 3*time.Second {
			s.State = StateStarting
		}
		for _, id := range placed {
			s.Replicas = append(s.Replicas, report.Standing{Node: id, Messages: -1, State: ReplicaAway})
		}
		return s
	}
	s := r.Status
	s.Term = r.Term
	own := rate.Flow{}
	if node != reg.id {
		own = p.Rates()
	} else {
		own = s.Rates
	}
	s.Rates.MessagesOut, s.Rates.BytesOut = own.MessagesOut, own.BytesOut
	if reg.hasOthers() {
		s.Rates = reg.outRates(p.Key(), s.Rates)
	}
	if r.Leading {
		s.Leader = node
	}
	s.Replicas = reg.replicas(placed, node, r)
	s.State = partitionState(s, r, placed)
	return s
}

func (reg *Registry) hasOthers() bool {
	return !reg.reports.Empty()
}

func partitionState(s report.Partition, r *report.Replica, placed []uint64) string {
	if s.State != StateReady && len(r.Voters) < 2 {
		return s.State
	}
	switch {
	case s.Leader == 0 && !r.Majority && len(r.Voters) > 1:
		return StateReadOnly
	case s.Leader == 0 && len(r.Voters) > 1:
		return StateNoLeader
	case s.Leader == 0:
		return StateAway
	}
	in := 0
	for _, rep := range s.Replicas {
		if rep.InStep {
			in++
		}
	}
	if in < len(placed) {
		return StateFewer
	}
	return StateReady
}

// replicas describes the replicas of a partition: those that it shall have
// first, and then others that are still there.
func (reg *Registry) replicas(placed []uint64, reporter uint64, r *report.Replica) []report.Standing {
	ids := slices.Clone(placed)
	for _, id := range slices.Concat(r.Voters, r.Leaving, r.Learners) {
		if !slices.Contains(ids, id) {
			ids = append(ids, id)
		}
	}
	out := make([]report.Standing, len(ids))
	for i, id := range ids {
		rep := report.Standing{Node: id, Messages: -1}
		up := id == reg.id || reg.peers.Up(id)
		voter := slices.Contains(r.Voters, id)
		var seen *report.Follower
		for j := range r.Others {
			if r.Others[j].Node == id {
				seen = &r.Others[j]
			}
		}
		switch {
		case id == reporter && r.Leading:
			rep.InStep, rep.Messages, rep.State = true, 0, ReplicaLeads
		case seen != nil && r.Leading:
			rep.Messages, rep.Bytes, rep.Seconds = seen.Messages, seen.Bytes, seen.Seconds
			small := seen.Messages == 0 || seen.Bytes < inStepBytes && rep.Seconds < inStepTime.Seconds()
			rep.InStep = voter && up && small
			switch {
			case !up:
				rep.State = ReplicaAway
			case !slices.Contains(placed, id):
				rep.State = ReplicaLeaves
			case !voter:
				rep.State = ReplicaJoins
			case rep.InStep:
				rep.State = ReplicaInStep
			case seen.Active:
				rep.State = ReplicaCatches
			default:
				rep.State = ReplicaBehind
			}
		case !up:
			rep.State = ReplicaAway
		case voter:
			rep.State = ReplicaBehind // without a leader nobody knows better
		default:
			rep.State = ReplicaJoins
		}
		out[i] = rep
	}
	return out
}

// ChannelStatus is how a channel is now: the sums of its partitions.
type ChannelStatus struct {
	Messages int64      `json:"messages"` // kept
	Bytes    int64      `json:"bytes"`    // on disk, of one replica of each partition
	Oldest   *time.Time `json:"oldest"`
	Newest   *time.Time `json:"newest"`
	State    string     `json:"state"`
	Rates    rate.Flow  `json:"rates"`
}

// stateRank orders the states of partitions: a topic shows the worst.
var stateRank = map[string]int{StateReady: 0, StateFewer: 1, StateStarting: 2, StateNoLeader: 3, StateDiskFull: 4, StateReadOnly: 5, StateAway: 6, StateFailed: 7}

// Status returns how the topic is now.
func (reg *Registry) Status(t *Channel, now time.Time) (ChannelStatus, []report.Partition) {
	s := ChannelStatus{State: StateReady}
	partitions := t.Partitions()
	each := make([]report.Partition, len(partitions))
	for i, p := range partitions {
		ps := reg.PartitionStatus(p, now)
		each[i] = ps
		s.Messages += ps.End - ps.First
		s.Bytes += ps.Bytes
		s.Rates = s.Rates.Add(ps.Rates)
		if ps.Oldest != nil && (s.Oldest == nil || ps.Oldest.Before(*s.Oldest)) {
			s.Oldest = ps.Oldest
		}
		if ps.Newest != nil && (s.Newest == nil || ps.Newest.After(*s.Newest)) {
			s.Newest = ps.Newest
		}
		if stateRank[ps.State] > stateRank[s.State] {
			s.State = ps.State
		}
	}
	switch {
	case reg.diskFull.Load() && t.Record().Replicas == 1:
		s.State = StateDiskFull
	case t.Record().Paused && s.State == StateReady:
		s.State = StatePaused
	}
	return s, each
}

// WaitReady waits until every partition of the topic has a leader that this
// node knows, at most until ctx ends.
func (reg *Registry) WaitReady(ctx context.Context, t *Channel) {
	for _, p := range t.Partitions() {
		for ctx.Err() == nil {
			leader := reg.LeaderOf(p)
			if p.Alone() || leader == reg.id {
				if g := p.Replica(); g.Refusal() == nil {
					break
				}
			} else if leader != 0 && reg.peers.Up(leader) {
				break
			}
			select {
			case <-ctx.Done():
			case <-time.After(2 * time.Millisecond):
			}
		}
	}
}
