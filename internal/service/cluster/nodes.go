package cluster

import (
	"cmp"
	"slices"
	"time"

	"steadyferry/internal/core/rate"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/part"
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
	Disk     part.Disk
	Memory   int64
	Streams  int64
	Version  string
	Records  bool // the database answers it
	OnDuty   bool // it runs the duties of the cluster
	Self     bool
	Rates    rate.Flow
	LastWord *time.Time
}

// Status is how all partitions are.
type Status struct {
	Partitions    int
	Fewer         int // with replicas that are missing or not in step
	Leaderless    int
	SpreadLeaders bool
}

// Nodes returns how the nodes and the partitions on them are.
func (cl *Cluster) Nodes(now time.Time) ([]NodeStatus, Status) {
	view := cl.catalog.View()
	byID := map[uint64]*NodeStatus{}
	for id, r := range view.Nodes {
		if r.State != catalog.NodeMember && r.State != catalog.NodeDraining {
			continue
		}
		byID[id] = cl.nodeStatus(r)
	}
	cluster := Status{SpreadLeaders: view.Cluster.SpreadLeaders}
	for _, t := range cl.parts.Channels() {
		for _, p := range t.Partitions() {
			s := cl.parts.PartitionStatus(p, now)
			cluster.Partitions++
			switch s.State {
			case part.StateReady:
			case part.StateFewer:
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
			if own := byID[cl.id]; own != nil {
				out := p.Rates()
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

func (cl *Cluster) nodeStatus(r *catalog.Node) *NodeStatus {
	s := &NodeStatus{ID: r.ID, Name: r.Name, Zone: r.Zone, URL: r.API, State: r.State, Self: r.ID == cl.id, Up: r.ID == cl.id || cl.peers.Up(r.ID)}
	var about part.Report
	if s.Self {
		about = cl.about()
	} else {
		heard, at, out := cl.parts.Reports().About(r.ID)
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
