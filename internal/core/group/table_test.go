package group

import (
	"encoding/json"
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestAssignIsEvenAndStable(t *testing.T) {
	for name, c := range map[string]struct {
		holders, members, want []string
	}{
		"nobody":                      {[]string{"", ""}, nil, []string{"", ""}},
		"all to one":                  {[]string{"", "", ""}, []string{"a"}, []string{"a", "a", "a"}},
		"the first keeps the odd one": {[]string{"a", "a", "a"}, []string{"a", "b"}, []string{"a", "a", "b"}},
		"who stays keeps all":         {[]string{"a", "b", "c", "a", "b", "c"}, []string{"a", "b"}, []string{"a", "b", "a", "a", "b", "b"}},
		"more members than there are": {[]string{"a", "b"}, []string{"a", "b", "c"}, []string{"a", "b"}},
		"a stranger's are free":       {[]string{"x", "b"}, []string{"a", "b"}, []string{"a", "b"}},
	} {
		assert.Equal(t, c.want, Assign(c.holders, c.members), name)
	}
}

func FuzzAssign(f *testing.F) {
	f.Add(uint64(1), uint8(6), uint8(3))
	f.Add(uint64(7), uint8(1), uint8(200))
	f.Fuzz(func(t *testing.T, seed uint64, partitions, count uint8) {
		random := rand.New(rand.NewPCG(seed, 0))
		var members []string
		for i := range count {
			members = append(members, fmt.Sprintf("m%03d", i))
		}
		holders := make([]string, partitions)
		for p := range holders {
			holders[p] = fmt.Sprintf("m%03d", random.IntN(int(count)+3))
		}
		targets := Assign(holders, members)
		require.Len(t, targets, len(holders))
		if count == 0 {
			return
		}
		has, kept := map[string]int{}, map[string]int{}
		for p, m := range targets {
			require.Contains(t, members, m)
			has[m]++
			if holders[p] == m {
				kept[m]++
			}
		}
		least, most := len(holders), 0
		for _, m := range members {
			least, most = min(least, has[m]), max(most, has[m])
		}
		require.LessOrEqual(t, most-least, 1, "even")
		for _, m := range members {
			had := 0
			for _, h := range holders {
				if h == m {
					had++
				}
			}
			require.GreaterOrEqual(t, kept[m], min(had, len(holders)/len(members)), "%s keeps its share", m)
		}
		require.Equal(t, targets, Assign(targets, members), "nothing moves when it is even")
	})
}

// Members come, go and fall silent at random; each gives up what it is told to
// only after a while, or not at all.
func TestAPartitionNeverHasTwoHoldersNorIsWithoutOne(t *testing.T) {
	for seed := range uint64(8) {
		random := rand.New(rand.NewPCG(seed, 1))
		table := NewTable(24)
		now := time.Unix(1_800_000_000, 0)
		holds := map[string]map[int]uint64{} // what each member believes to hold, and since
		for step := range 1200 {
			now = now.Add(time.Duration(random.IntN(300)) * time.Millisecond)
			switch random.IntN(6) {
			case 0:
				id := fmt.Sprintf("m%d", step)
				require.NoError(t, table.Join(id, Member{Timeout: 5 * time.Second}))
				holds[id] = map[int]uint64{}
			case 1:
				if ids := slices.Sorted(maps.Keys(table.Members)); len(ids) > 3 {
					id := ids[random.IntN(len(ids))]
					table.Leave(id)
					delete(holds, id)
				}
			default: // one looks at its share, gives up and takes
				ids := slices.Sorted(maps.Keys(table.Members))
				if len(ids) == 0 {
					break
				}
				id := ids[random.IntN(len(ids))]
				mine, leaving := table.Share(id)
				for p := range holds[id] {
					if !slices.Contains(mine, p) && (!slices.Contains(leaving, p) || random.IntN(2) == 0) {
						delete(holds[id], p)
					}
				}
				for _, p := range mine {
					holds[id][p] = table.Holdings[p].Since
				}
				table.GiveUp(id, slices.Collect(maps.Keys(holds[id])))
			}
			table.Overdue(now)
			before := table.Round
			table.Balance(now)
			require.LessOrEqual(t, table.Round, before+1)
			b, err := json.Marshal(table)
			require.NoError(t, err)
			again := NewTable(0)
			require.NoError(t, json.Unmarshal(b, again))
			table = again // as another node would go on

			for p, h := range table.Holdings {
				require.Equal(t, len(table.Members) > 0, h.Member != "", "partition %d has a holder while there are members", p)
				allowed := 0
				for id, parts := range holds {
					if _, ok := parts[p]; ok && table.Check(id, table.Round, p) == nil {
						allowed++
						require.Equal(t, h.Member, id)
					}
				}
				require.LessOrEqual(t, allowed, 1, "one may commit")
			}
		}
	}
}

func TestAPartitionIsHandedOverWhenItsHolderLetsGo(t *testing.T) {
	now := time.Unix(1_800_000_000, 0)
	table := NewTable(2)
	require.NoError(t, table.Join("a", Member{Timeout: time.Second}))
	require.True(t, table.Balance(now))
	require.NoError(t, table.Join("b", Member{Timeout: time.Second}))
	require.True(t, table.Balance(now))
	holds, leaving := table.Share("a")
	assert.Equal(t, []int{0}, holds)
	assert.Equal(t, []int{1}, leaving)
	holds, _ = table.Share("b")
	assert.Empty(t, holds, "it waits for a")
	assert.NoError(t, table.Check("a", 1, 1), "what is in hand may still be committed")
	assert.ErrorIs(t, table.Check("b", 2, 1), ErrNotHeld)

	given := table.Clone()
	given.GiveUp("a", []int{0})
	require.True(t, given.Balance(now))
	assert.ErrorIs(t, given.Check("a", 3, 1), ErrNotHeld)
	assert.NoError(t, given.Check("b", 3, 1))
	assert.ErrorIs(t, given.Check("b", 2, 1), ErrOldRound)

	taken := table.Clone()
	assert.False(t, taken.HasOverdue(now.Add(900*time.Millisecond)))
	assert.True(t, taken.HasOverdue(now.Add(time.Second)), "its timeout is over")
	taken.Overdue(now.Add(time.Second))
	assert.False(t, taken.HasOverdue(now.Add(time.Hour)))
	taken.Balance(now)
	assert.NoError(t, taken.Check("b", 3, 1))

	table.Leave("b")
	table.Balance(now)
	holds, leaving = table.Share("a")
	assert.Equal(t, []int{0, 1}, holds, "it stays where it is")
	assert.Empty(t, leaving)
	assert.NoError(t, table.Check("a", 1, 1), "and goes on without a pause")

	table.Sought([]int{1})
	assert.ErrorIs(t, table.Check("a", table.Round-1, 1), ErrOldRound)
	assert.NoError(t, table.Check("a", table.Round-1, 0), "only what was moved")
	assert.ErrorIs(t, table.Check("z", 1, 0), ErrNoMember)
}
