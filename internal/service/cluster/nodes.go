package cluster

import (
	"cmp"
	"slices"
	"time"

	"steadyferry/internal/core/form"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/part"
	"steadyferry/internal/engine/report"
)

// Nodes returns how the nodes and the partitions on them are.
func (cl *Cluster) Nodes(now time.Time) form.Cluster {
	byID := cl.statuses()
	cluster := form.Cluster{Nodes: []form.Node{}, SpreadLeaders: cl.catalog.View().Cluster.SpreadLeaders, LogbookTo: cl.catalog.View().Cluster.LogbookTo}
	for _, t := range cl.parts.Channels() {
		for _, p := range t.Partitions() {
			s := cl.parts.PartitionStatus(p, now)
			cluster.Partitions++
			switch s.State {
			case part.StateReady:
			case part.StateFewer:
				cluster.ReplicasMissing++
			default:
				cluster.WithoutLeader++
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
	for _, n := range byID {
		cluster.Nodes = append(cluster.Nodes, *n)
	}
	slices.SortFunc(cluster.Nodes, func(a, b form.Node) int { return cmp.Compare(a.Node, b.Node) })
	return cluster
}

// statuses are the nodes that belong to the cluster, by their ids, without what needs a look
// at all partitions.
func (cl *Cluster) statuses() map[uint64]*form.Node {
	byID := map[uint64]*form.Node{}
	for id, r := range cl.catalog.View().Nodes {
		if r.State == catalog.NodeMember || r.State == catalog.NodeDraining {
			byID[id] = cl.nodeStatus(r)
		}
	}
	return byID
}

// Condition is what is measured of a node alone.
type Condition struct {
	Name            string
	DiskFree        int64         // -1: it has said nothing of its disk yet
	Away            time.Duration // not heard of for so long
	RecordsAway     time.Duration // they do not answer it for so long
	CertificateLeft time.Duration // -1: it shows none
}

// Conditions returns that of each node, by its id.
func (cl *Cluster) Conditions(now time.Time) map[uint64]Condition {
	all := map[uint64]Condition{}
	for id, n := range cl.statuses() {
		c := Condition{Name: n.Node, DiskFree: -1, CertificateLeft: -1}
		if n.Disk.Total > 0 {
			c.DiskFree = n.Disk.Free
		}
		if !n.Up && n.Since != nil {
			c.Away = max(now.Sub(*n.Since), time.Second)
		}
		about, _, _ := cl.parts.Reports().About(id)
		if n.Self {
			about = cl.about()
		}
		if !about.Away.IsZero() && n.Up {
			c.RecordsAway = now.Sub(about.Away)
		}
		if !about.Ends.IsZero() {
			c.CertificateLeft = about.Ends.Sub(now)
		}
		all[id] = c
	}
	return all
}

func (cl *Cluster) nodeStatus(r *catalog.Node) *form.Node {
	n := &form.Node{Node: r.Name, Zone: r.Zone, URL: r.API, State: "up", Self: r.ID == cl.id, Up: r.ID == cl.id || cl.peers.Up(r.ID), Catalog: "reachable"}
	var about report.Node
	var lastWord time.Time
	if n.Self {
		about = cl.about()
	} else {
		heard, at, out := cl.parts.Reports().About(r.ID)
		about, lastWord = heard, at.UTC().Truncate(time.Millisecond)
		if n.Up {
			n.Rates.MessagesOut, n.Rates.BytesOut = out.MessagesOut, out.BytesOut
		}
	}
	n.Disk, n.MemoryBytes, n.Streams, n.Version, n.OnDuty = about.Disk, about.Memory, about.Streams, about.Version, about.OnDuty && n.Up
	if !about.Records {
		n.Catalog = "away"
	}
	switch {
	case !n.Up:
		n.State = "away"
	case r.State == catalog.NodeDraining:
		n.State = "draining"
	}
	switch {
	case n.Up && !about.Started.IsZero():
		n.Since = &about.Started
	case !n.Up && !lastWord.IsZero():
		n.Since = &lastWord
	case !n.Up && !r.SeenAt.Before(r.CreatedAt):
		at := r.SeenAt.UTC().Truncate(time.Second)
		n.Since = &at
	}
	return n
}
