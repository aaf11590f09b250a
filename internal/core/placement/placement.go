// Package placement decides which nodes hold which partitions, and works out
// what a loss of nodes would mean. It only computes: nothing here touches a
// node or a record.
package placement

import (
	"cmp"
	"fmt"
	"slices"
)

// Node is a node that can hold replicas.
type Node struct {
	ID     uint64
	Name   string
	Zone   string
	Usable bool // takes new replicas: it is a member, answers, and is not being emptied
}

// Partition is a partition and the nodes that hold it. The first of them is
// the one that should lead it.
type Partition struct {
	Channel  int64
	Number   int
	Replicas []uint64
}

// MaxReplicas is how many replicas a partition can have.
const MaxReplicas = 7

// DefaultReplicas returns how many replicas a new topic gets with so many
// usable nodes.
func DefaultReplicas(nodes int) int {
	if nodes >= 3 {
		return 3
	}
	return 1
}

// load counts what the nodes hold, so that new replicas go where there are
// fewest.
type load struct {
	holds, leads, topic map[uint64]int
}

func count(partitions []Partition) *load {
	l := &load{holds: map[uint64]int{}, leads: map[uint64]int{}, topic: map[uint64]int{}}
	for _, p := range partitions {
		for i, id := range p.Replicas {
			l.holds[id]++
			if i == 0 {
				l.leads[id]++
			}
		}
	}
	return l
}

// TooFewError says that there are fewer usable nodes than replicas asked for.
type TooFewError struct{ Usable, Wanted int }

func (e *TooFewError) Error() string {
	return fmt.Sprintf("%d replicas need as many nodes, and %d can take one", e.Wanted, e.Usable)
}

// Choose places the partitions of a new topic, or new partitions of one: each
// on as many nodes as replicas are asked for, in as many zones as there are,
// evenly over the nodes, with the leaders spread too. It returns the nodes of
// each partition, the one that should lead first.
func Choose(nodes []Node, existing []Partition, partitions, replicas int) ([][]uint64, error) {
	l := count(existing)
	placed := make([][]uint64, partitions)
	for i := range placed {
		chosen, err := l.fill(nodes, nil, replicas)
		if err != nil {
			return nil, err
		}
		placed[i] = chosen
	}
	return placed, nil
}

// Replace returns the nodes of a partition that shall have so many replicas:
// those that it has, without the ones that are to be left, and others in their
// place. Those that stay keep their order, so that leaders stay too.
func Replace(nodes []Node, existing []Partition, p Partition, leave []uint64, replicas int) ([]uint64, error) {
	l := count(existing)
	var kept []uint64
	for _, id := range p.Replicas {
		if !slices.Contains(leave, id) {
			kept = append(kept, id)
		}
	}
	for len(kept) > replicas {
		kept = slices.Delete(kept, l.spare(nodes, kept), l.spare(nodes, kept)+1)
	}
	var others []Node
	for _, n := range nodes {
		if !slices.Contains(leave, n.ID) {
			others = append(others, n)
		}
	}
	return l.fill(others, kept, replicas)
}

// spare returns which of the replicas is given up first: one whose zone has
// another, else the one on the fullest node, but not the leader.
func (l *load) spare(nodes []Node, kept []uint64) int {
	zones := map[string]int{}
	for _, id := range kept {
		zones[zoneOf(nodes, id)]++
	}
	best := len(kept) - 1
	for i := len(kept) - 1; i > 0; i-- {
		a, b := zones[zoneOf(nodes, kept[i])], zones[zoneOf(nodes, kept[best])]
		if a > b || a == b && l.holds[kept[i]] > l.holds[kept[best]] {
			best = i
		}
	}
	return best
}

// fill adds nodes to those that are kept until there are as many as asked
// for, and counts them. When none is kept, the node with the fewest leaders
// comes first.
func (l *load) fill(nodes []Node, kept []uint64, replicas int) ([]uint64, error) {
	chosen := slices.Clone(kept)
	usable := len(kept)
	for _, n := range nodes {
		if n.Usable && !slices.Contains(kept, n.ID) {
			usable++
		}
	}
	if usable < replicas {
		return nil, &TooFewError{Usable: usable, Wanted: replicas}
	}
	for len(chosen) < replicas {
		zones := map[string]int{}
		for _, id := range chosen {
			zones[zoneOf(nodes, id)]++
		}
		var best *Node
		for i := range nodes {
			n := &nodes[i]
			if !n.Usable || slices.Contains(chosen, n.ID) {
				continue
			}
			if best == nil || cmp.Or(cmp.Compare(zones[n.Zone], zones[best.Zone]), cmp.Compare(l.holds[n.ID], l.holds[best.ID]),
				cmp.Compare(l.leads[n.ID], l.leads[best.ID]), cmp.Compare(n.ID, best.ID)) < 0 {
				best = n
			}
		}
		chosen = append(chosen, best.ID)
		l.holds[best.ID]++
	}
	if len(kept) == 0 {
		first := 0
		for i, id := range chosen {
			if cmp.Or(cmp.Compare(l.leads[id], l.leads[chosen[first]]), cmp.Compare(id, chosen[first])) < 0 {
				first = i
			}
		}
		chosen[0], chosen[first] = chosen[first], chosen[0]
		l.leads[chosen[0]]++
	}
	return chosen, nil
}

func zoneOf(nodes []Node, id uint64) string {
	for _, n := range nodes {
		if n.ID == id {
			return n.Zone
		}
	}
	return ""
}
