package node

import (
	"cmp"
	"errors"
	"slices"
	"time"

	"steadyferry/internal/core/rate"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/replica"
)

// NodeStatus is how a node is, as this one knows it.
type NodeStatus struct {
	ID       uint64
	Name     string
	Zone     string
	URL      string
	State    string // member or draining
	Up       bool
	Since    *time.Time // of its start while it is up, of its last word when it is not
	Leads    int
	Holds    int // partitions
	Behind   int // partitions that it shall hold and is not in step with
	Disk     Disk
	Memory   int64
	Streams  int64
	Version  string
	Records  bool // the database answers it
	OnDuty   bool // it runs the duties of the cluster
	Self     bool
	Rates    rate.Flow
	LastWord *time.Time
}

// ClusterStatus is how all partitions are.
type ClusterStatus struct {
	Partitions    int
	Fewer         int // with replicas that are missing or not in step
	Leaderless    int
	SpreadLeaders bool
}

// Nodes returns how the nodes and the partitions on them are.
func (n *Node) Nodes(now time.Time) ([]NodeStatus, ClusterStatus) {
	view := n.catalog.View()
	byID := map[uint64]*NodeStatus{}
	for id, r := range view.Nodes {
		if r.State != catalog.NodeMember && r.State != catalog.NodeDraining {
			continue
		}
		byID[id] = n.nodeStatus(r)
	}
	cluster := ClusterStatus{SpreadLeaders: view.Cluster.SpreadLeaders}
	for _, t := range n.Topics() {
		for _, p := range t.Partitions() {
			s := n.PartitionStatus(p, now)
			cluster.Partitions++
			switch s.State {
			case StateReady:
			case StateFewer:
				cluster.Fewer++
			default:
				cluster.Leaderless++
			}
			if l := byID[s.Leader]; l != nil {
				l.Leads++
				l.Rates.MessagesIn += s.Rates.MessagesIn
				l.Rates.BytesIn += s.Rates.BytesIn
			}
			for _, r := range s.Replicas {
				if h := byID[r.Node]; h != nil {
					h.Holds++
					if !r.InStep {
						h.Behind++
					}
				}
			}
			if own := byID[n.id]; own != nil {
				out := p.rates()
				own.Rates.MessagesOut += out.MessagesOut
				own.Rates.BytesOut += out.BytesOut
			}
		}
	}
	out := make([]NodeStatus, 0, len(byID))
	for _, s := range byID {
		out = append(out, *s)
	}
	slices.SortFunc(out, func(a, b NodeStatus) int { return cmp.Compare(a.Name, b.Name) })
	return out, cluster
}

func (n *Node) nodeStatus(r *catalog.Node) *NodeStatus {
	s := &NodeStatus{ID: r.ID, Name: r.Name, Zone: r.Zone, URL: r.API, State: r.State, Self: r.ID == n.id, Up: r.ID == n.id || n.peers.Up(r.ID)}
	var about Report
	if s.Self {
		about = n.about()
	} else {
		heard, at, out := n.others.of(r.ID)
		if about = heard; !at.IsZero() {
			at = at.UTC().Truncate(time.Millisecond)
			s.LastWord = &at
		}
		if s.Up {
			s.Rates.MessagesOut, s.Rates.BytesOut = out.MessagesOut, out.BytesOut
		}
	}
	s.Disk, s.Memory, s.Streams, s.Version, s.Records, s.OnDuty = about.Disk, about.Memory, about.Streams, about.Version, about.Records, about.OnDuty && s.Up
	switch {
	case s.Up && !about.Started.IsZero():
		s.Since = &about.Started
	case !s.Up && s.LastWord != nil:
		s.Since = s.LastWord
	case !s.Up && !r.SeenAt.Before(r.MadeAt):
		at := r.SeenAt.UTC().Truncate(time.Second)
		s.Since = &at
	}
	return s
}

// ID returns the id of this node.
func (n *Node) ID() uint64 { return n.id }

// PartitionByID returns a partition by the id of its channel, or nil.
func (n *Node) PartitionByID(channel int64, partition int) *Partition {
	return n.partition(replica.Key{Channel: channel, Partition: partition})
}

// Here reports whether this node holds a replica of the partition.
func (p *Partition) Here() bool { return p.Replica() != nil }

// Starting returns a partition that only this node holds and that is not
// ready yet, or nothing.
func (n *Node) Starting() string {
	for _, t := range n.Topics() {
		for _, p := range t.Partitions() {
			if g := p.Replica(); g != nil && p.alone() && errors.Is(g.Refusal(), replica.ErrNotLeading) {
				return p.Address()
			}
		}
	}
	return ""
}

// Refusing returns the partitions that are this node's to lead and take nothing,
// by their states, and how many it leads in all.
func (n *Node) Refusing() (refusing map[string][]string, leads int) {
	refusing = map[string][]string{}
	for _, t := range n.Topics() {
		for _, p := range t.Partitions() {
			g := p.Replica()
			if g == nil || !g.Membership().Leading && !p.alone() {
				continue
			}
			leads++
			if s := p.here(g, time.Now()); s.State != StateReady {
				refusing[s.State] = append(refusing[s.State], p.Address())
			} else if n.diskIsFull() {
				refusing[StateDiskFull] = append(refusing[StateDiskFull], p.Address())
			}
		}
	}
	return refusing, leads
}

// LeaderURL returns the API of the node that leads a partition, or nothing
// when that is this node, or not known.
func (n *Node) LeaderURL(p *Partition) string {
	if p.alone() {
		return ""
	}
	if leader := n.leaderOf(p); leader != n.id {
		if r := n.catalog.View().Nodes[leader]; r != nil {
			return r.API
		}
	}
	return ""
}
