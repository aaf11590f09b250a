package placement

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func nodes(zones ...string) (out []Node) {
	for i, z := range zones {
		out = append(out, Node{ID: uint64(i + 1), Name: fmt.Sprintf("node-%c", 'a'+i), Zone: z, Usable: true})
	}
	return out
}

// Whatever the cluster and the topics: as many different nodes as asked for,
// as many zones as can be, and no node with much more than another.
func TestPlacementIsEvenAndSpread(t *testing.T) {
	for seed := range uint64(200) {
		r := rand.New(rand.NewPCG(seed, 1))
		zones := 1 + r.IntN(4)
		perZone := 1 + r.IntN(3)
		var all []string
		for range perZone {
			for z := range zones {
				all = append(all, fmt.Sprint("z", z))
			}
		}
		ns := nodes(all...)
		var existing []Partition
		replicas := 1 + r.IntN(min(len(ns), MaxReplicas))
		for topic := range int64(1 + r.IntN(4)) {
			placed, err := Choose(ns, existing, 1+r.IntN(30), replicas)
			require.NoError(t, err)
			for i, ids := range placed {
				existing = append(existing, Partition{topic, i, ids})
				distinct, inZones := map[uint64]bool{}, map[string]bool{}
				for _, id := range ids {
					distinct[id] = true
					inZones[zoneOf(ns, id)] = true
				}
				require.Len(t, distinct, replicas)
				require.Len(t, inZones, min(replicas, zones))
			}
		}
		l := count(existing)
		for _, counts := range []map[uint64]int{l.holds, l.leads} {
			least, most := 1<<30, 0
			for _, n := range ns {
				least, most = min(least, counts[n.ID]), max(most, counts[n.ID])
			}
			assert.LessOrEqual(t, most-least, 2, "seed %d: %v", seed, counts)
		}
	}
}

func TestReplaceKeepsWhatCanStay(t *testing.T) {
	ns := nodes("x", "y", "z", "x")
	p := Partition{1, 0, []uint64{2, 1, 3}}
	for _, c := range []struct {
		leave    []uint64
		replicas int
		want     []uint64
	}{
		{nil, 3, []uint64{2, 1, 3}},
		{[]uint64{1}, 3, []uint64{2, 3, 4}},
		{nil, 1, []uint64{2}},
		{nil, 4, []uint64{2, 1, 3, 4}},
		{[]uint64{2}, 1, []uint64{1}},
	} {
		got, err := Replace(ns, []Partition{p}, p, c.leave, c.replicas)
		require.NoError(t, err)
		assert.Equal(t, c.want, got, "%+v", c)
	}
	_, err := Replace(ns, nil, p, []uint64{1, 2}, 3)
	assert.EqualError(t, err, "3 replicas need as many nodes, and 2 can take one")
}

func TestWhatIf(t *testing.T) {
	ps := []Partition{{1, 0, []uint64{1, 2, 3}}, {1, 1, []uint64{2}}, {1, 2, []uint64{2, 3}}, {1, 3, []uint64{2, 3, 4}}}
	for _, c := range []struct {
		name     string
		zones    []string
		without  []uint64
		outcomes []Outcome
		nodeSafe int
		zoneSafe int
		short    [2]int
	}{
		{"nothing lost", []string{"", "", "", ""}, nil, []Outcome{Writable, Writable, Writable, Writable}, 2, 0, [2]int{0, 0}},
		{"one lost", []string{"", "", "", ""}, []uint64{2}, []Outcome{Writable, Unreachable, Readable, Writable}, 2, 0, [2]int{0, 0}},
		{"two lost", []string{"", "", "", ""}, []uint64{2, 3}, []Outcome{Readable, Unreachable, Unreachable, Readable}, 2, 0, [2]int{1, 0}},
		{"three zones", []string{"x", "y", "z", "x"}, nil, []Outcome{Writable, Writable, Writable, Writable}, 2, 2, [2]int{0, 0}},
		{"two zones", []string{"x", "x", "y", "y"}, nil, []Outcome{Writable, Writable, Writable, Writable}, 2, 0, [2]int{0, 1}},
	} {
		t.Run(c.name, func(t *testing.T) {
			loss := WhatIf(nodes(c.zones...), ps, c.without)
			assert.Equal(t, c.outcomes, loss.Outcomes)
			assert.Equal(t, c.nodeSafe, loss.NodeSafe)
			assert.Equal(t, c.zoneSafe, loss.ZoneSafe)
			assert.Equal(t, c.short, [2]int{loss.NodesShort, loss.ZonesShort})
		})
	}
}

// The moves do what they promise: afterwards any node, and any zone, may go.
func TestTheMovesMakeAnyNodeAndZoneDispensable(t *testing.T) {
	for seed := range uint64(100) {
		r := rand.New(rand.NewPCG(seed, 2))
		ns := nodes("x", "y", "z", "x", "y", "z")
		var ps []Partition
		for i := range 1 + r.IntN(20) {
			ids := r.Perm(len(ns))[:1+r.IntN(5)]
			p := Partition{Channel: 1, Number: i}
			for _, id := range ids {
				p.Replicas = append(p.Replicas, uint64(id+1))
			}
			ps = append(ps, p)
		}
		var without []uint64
		if r.IntN(2) == 0 {
			without = []uint64{uint64(1 + r.IntN(len(ns)))}
		}
		for _, m := range WhatIf(ns, ps, without).Moves {
			i := slices.IndexFunc(ps, func(p Partition) bool { return p.Number == m.Partition.Number })
			ps[i].Replicas = m.To
		}
		for _, p := range ps {
			node, zone := safe(ns, Partition{Replicas: remaining(p.Replicas, without)})
			assert.True(t, node && zone, "seed %d without %v: %v", seed, without, p)
		}
	}
}
