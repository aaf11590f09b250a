package journal

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/message"
)

// TestCuttingOneLogLeavesTheOthersAlone cuts off the ends of a hundred logs:
// none of it may have the sync log begun anew, which syncs all the others.
func TestCuttingOneLogLeavesTheOthersAlone(t *testing.T) {
	dir := t.TempDir()
	store, err := openStore(dir, 4<<20)
	require.NoError(t, err)
	var all []*Journal
	for i := range 100 {
		j, err := store.Open(fmt.Sprintf("1/%d", i), Options{SegmentBytes: 1 << 20})
		require.NoError(t, err)
		require.NoError(t, j.Append([]message.Record{record(1, 1, 0, "kept"), record(2, 1, 1, "cut off")}))
		all = append(all, j)
	}
	require.NoError(t, store.FlushTogether(all))
	generation := store.log.generation
	for _, j := range all {
		require.NoError(t, j.Append([]message.Record{record(2, 2, 1, "instead")}))
	}
	require.NoError(t, store.FlushTogether(all))
	assert.Equal(t, generation, store.log.generation)
	crash(store)
	store, err = openStore(dir, 4<<20)
	require.NoError(t, err)
	for i := range all {
		j, err := store.Open(fmt.Sprintf("1/%d", i), Options{SegmentBytes: 1 << 20})
		require.NoError(t, err)
		assert.Equal(t, []string{"0=kept", "1=instead"}, bodies(t, j, 0, 2))
	}
}

// TestLogsAfterAnyCrash lets a few logs grow, lose their ends, begin elsewhere
// and be deleted, with kills in between, and compares each with a plain list.
func TestLogsAfterAnyCrash(t *testing.T) {
	for seed := range uint64(16) {
		rng := rand.New(rand.NewPCG(seed, 5))
		dir := t.TempDir()
		const logs = 4
		type model struct {
			base   uint64   // index of the first record
			bodies []string // of the records
		}
		models := [logs]model{}
		for i := range models {
			models[i].base = 1
		}
		term := uint64(1)
		var store *Store
		var open [logs]*Journal
		begin := func() {
			var err error
			store, err = openStore(dir, 2<<10<<(seed%4)) // is full sooner or later: often between two kills, or seldom
			require.NoError(t, err)
			for i := range open {
				open[i], err = store.Open(fmt.Sprintf("1/%d", i), Options{SegmentBytes: 2000})
				require.NoError(t, err)
			}
		}
		begin()
		for step := range 150 {
			i := rng.IntN(logs)
			j, m := open[i], &models[i]
			next := m.base + uint64(len(m.bodies))
			switch rng.IntN(12) {
			case 0: // a new leader replaces the end
				cut := rng.IntN(len(m.bodies) + 1)
				term++
				m.bodies = m.bodies[:cut]
				next = m.base + uint64(cut)
				fallthrough
			case 1, 2, 3, 4, 5, 6, 7:
				var records []message.Record
				for k := range uint64(1 + rng.IntN(3)) {
					body := fmt.Sprint(seed, step, k, strings.Repeat("x", rng.IntN(300)))
					records = append(records, record(next+k, term, int64(next+k)-1, body))
					m.bodies = append(m.bodies, body)
				}
				require.NoError(t, j.Append(records))
				if rng.IntN(3) == 0 {
					require.NoError(t, j.Flush())
				} else {
					require.NoError(t, store.FlushTogether([]*Journal{j, open[(i+1)%logs]}))
				}
			case 8: // left behind: it begins elsewhere
				m.base, m.bodies = next+uint64(rng.IntN(5)), nil
				require.NoError(t, j.Restart(m.base, term, int64(m.base)-1, 0))
			case 9: // the replica goes, and comes back
				require.NoError(t, store.Retire(j))
				var err error
				open[i], err = store.Open(fmt.Sprintf("1/%d", i), Options{SegmentBytes: 2000})
				require.NoError(t, err)
				m.base, m.bodies = 1, nil
			default:
				crash(store)
				begin()
			}
			for i, j := range open {
				want := make([]string, 0, len(models[i].bodies))
				for k, body := range models[i].bodies {
					want = append(want, fmt.Sprintf("%d=%s", int64(models[i].base)-1+int64(k), body))
				}
				got := bodies(t, j, int64(models[i].base)-1, models[i].base+uint64(len(want))-1)
				require.Equal(t, strings.Join(want, "\n"), strings.Join(got, "\n"), "seed %d, step %d, log %d", seed, step, i)
				b := j.Bounds()
				require.Equal(t, models[i].base+uint64(len(want))-1, b.LastIdx, "seed %d, step %d, log %d", seed, step, i)
			}
		}
		crash(store)
	}
}
