package placement

import "slices"

// Outcome is what becomes of a partition when nodes are lost.
type Outcome string

// The outcomes.
const (
	Writable    Outcome = "writable"    // a majority of its replicas is left
	Readable    Outcome = "readable"    // some are left: what is committed can be read
	Unreachable Outcome = "unreachable" // none is left
)

// After returns what becomes of a partition without the nodes.
func After(p Partition, without []uint64) Outcome {
	left := 0
	for _, id := range p.Replicas {
		if !slices.Contains(without, id) {
			left++
		}
	}
	switch {
	case 2*left > len(p.Replicas):
		return Writable
	case left > 0:
		return Readable
	}
	return Unreachable
}

// Move is a change of the nodes of a partition.
type Move struct {
	Partition Partition
	To        []uint64
}

// Loss is what a loss of nodes would mean, and what would help.
type Loss struct {
	Outcomes []Outcome // of the partitions, in their order
	// NodeSafe and ZoneSafe count the partitions of which any one node, or
	// any one zone, may be lost without an end to writing.
	NodeSafe, ZoneSafe int
	// Moves would make any one node, and where there are zones enough any one
	// zone, dispensable for every partition.
	Moves []Move
	// Short is how many more nodes, or zones, it takes before moves can do
	// that: 0 when there are enough.
	NodesShort, ZonesShort int
}

// WhatIf works out what would be without the nodes, and how the partitions
// should be placed on the nodes that stay.
func WhatIf(nodes []Node, partitions []Partition, without []uint64) Loss {
	loss := Loss{Outcomes: make([]Outcome, len(partitions))}
	var left []Node
	zones := map[string]bool{}
	usable := 0
	for _, n := range nodes {
		if slices.Contains(without, n.ID) {
			continue
		}
		left = append(left, n)
		if n.Usable {
			usable++
			zones[n.Zone] = true
		}
	}
	loss.NodesShort = max(3-usable, 0)
	manyZones := len(zonesOf(nodes)) > 1
	if manyZones {
		loss.ZonesShort = max(3-len(zones), 0)
	}
	now := slices.Clone(partitions)
	for i, p := range partitions {
		loss.Outcomes[i] = After(p, without)
		stays := Partition{Channel: p.Channel, Number: p.Number, Replicas: remaining(p.Replicas, without)}
		nodeSafe, zoneSafe := safe(nodes, p)
		if nodeSafe {
			loss.NodeSafe++
		}
		if zoneSafe {
			loss.ZoneSafe++
		}
		wanted := max(len(p.Replicas), 3)
		if usable < 3 {
			continue
		}
		wanted = min(wanted, usable)
		if manyZones && loss.ZonesShort == 0 && wanted%2 == 0 {
			wanted-- // of an even number, half may be in one zone
		}
		stillNode, stillZone := safe(nodes, stays)
		if len(stays.Replicas) >= min(wanted, 3) && stillNode && (stillZone || !manyZones || loss.ZonesShort > 0) {
			continue
		}
		if to := spread(left, now, stays, wanted, manyZones && loss.ZonesShort == 0); to != nil && !slices.Equal(to, p.Replicas) {
			loss.Moves = append(loss.Moves, Move{Partition: p, To: to})
			now[i].Replicas = to
		}
	}
	return loss
}

// spread returns nodes for a partition so that no zone has half of them.
func spread(nodes []Node, existing []Partition, p Partition, replicas int, overZones bool) []uint64 {
	kept := p
	if overZones {
		// Only as many in a zone as still leave a majority without it.
		most := (replicas - 1) / 2
		zones := map[string]int{}
		kept.Replicas = nil
		for _, id := range p.Replicas {
			if z := zoneOf(nodes, id); zones[z] < most {
				zones[z]++
				kept.Replicas = append(kept.Replicas, id)
			}
		}
	}
	to, err := Replace(nodes, existing, kept, nil, replicas)
	if err != nil {
		return nil
	}
	return to
}

func remaining(replicas, without []uint64) (left []uint64) {
	for _, id := range replicas {
		if !slices.Contains(without, id) {
			left = append(left, id)
		}
	}
	return left
}

// safe reports whether writing goes on after the loss of any one node, and of
// any one zone, of the partition.
func safe(nodes []Node, p Partition) (node, zone bool) {
	node = len(p.Replicas) > 2
	zones := map[string][]uint64{}
	for _, id := range p.Replicas {
		z := zoneOf(nodes, id)
		zones[z] = append(zones[z], id)
	}
	zone = node
	for _, ids := range zones {
		if After(p, ids) != Writable {
			zone = false
		}
	}
	return node, zone
}

func zonesOf(nodes []Node) map[string]bool {
	zones := map[string]bool{}
	for _, n := range nodes {
		zones[n.Zone] = true
	}
	return zones
}
