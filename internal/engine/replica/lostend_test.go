package replica

import (
	"context"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/journal"
	"steadyferry/internal/core/message"
)

func segments(t *testing.T, dir string) []string {
	t.Helper()
	paths, err := filepath.Glob(filepath.Join(dir, "1", "0", "*.seg"))
	require.NoError(t, err)
	require.NotEmpty(t, paths)
	return paths
}

// alone opens a group of one replica.
func alone(t *testing.T, dir string, o Options) (*Scheduler, *Group, *recorder) {
	t.Helper()
	store, err := journal.OpenStore(dir)
	require.NoError(t, err)
	s := NewScheduler(store, Alone{}, 2, DefaultFeedRate)
	m := &recorder{}
	var g *Group
	o.Key, o.Node, o.Voters, o.Journal = Key{Channel: 1, Partition: 0}, 1, []uint64{1}, journal.Options{SegmentBytes: 40_000}
	require.NoError(t, s.Open(o, m, func(opened *Group) { g = opened }))
	return s, g, m
}

func TestAnEndThatIsLostIsNamedAndItsOffsetsAreNotGivenAgain(t *testing.T) {
	for name, hurt := range map[string]func(t *testing.T, paths []string){
		"the last bytes are zeros": func(t *testing.T, paths []string) {
			last := paths[len(paths)-1]
			b, err := os.ReadFile(last)
			require.NoError(t, err)
			clear(b[len(b)-9000:])
			require.NoError(t, os.WriteFile(last, b, 0o600))
		},
		"the last segment is gone": func(t *testing.T, paths []string) { require.NoError(t, os.Remove(paths[len(paths)-1])) },
		"all segments are gone": func(t *testing.T, paths []string) {
			for _, p := range paths {
				require.NoError(t, os.Remove(p))
			}
		},
	} {
		t.Run(name, func(t *testing.T) {
			ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
			defer cancel()
			dir := t.TempDir()
			s, g, _ := alone(t, dir, Options{})
			for range 100 {
				require.NoError(t, g.Publish(ctx, proposal(1000)).Err)
			}
			require.NoError(t, s.Stop(ctx))
			require.NoError(t, s.store.Close())
			hurt(t, segments(t, dir))

			var lost *LostEnd
			for range 2 { // it is not forgotten by another start
				s, g, _ = alone(t, dir, Options{})
				lost = g.LostEnd()
				require.NotNil(t, lost)
				assert.EqualValues(t, 100, lost.To)
				assert.ErrorIs(t, g.Refusal(), ErrLostEnd)
				assert.ErrorIs(t, g.Publish(ctx, proposal(10)).Err, ErrLostEnd)
				assert.EqualValues(t, 100, g.End())
				_, err := g.Journal().CursorAt(lost.From).Read(make([]byte, 4096), g.Committed())
				assert.Equal(t, &journal.Damage{From: lost.From, To: 100}, err)
				require.NoError(t, s.Stop(ctx))
				require.NoError(t, s.store.Close())
			}

			// A person says that it shall go on.
			s, g, _ = alone(t, dir, Options{Epoch: 1, Survivor: true})
			assert.Nil(t, g.LostEnd())
			r := g.Publish(ctx, proposal(1000))
			require.NoError(t, r.Err)
			assert.EqualValues(t, 100, r.Offset, "behind what is lost")
			require.NoError(t, s.Stop(ctx))
			require.NoError(t, s.store.Close())
			s, g, _ = alone(t, dir, Options{Epoch: 1, Survivor: true})
			assert.Nil(t, g.LostEnd())
			assert.EqualValues(t, 101, g.End())
			require.NoError(t, s.Stop(ctx))
		})
	}
}

func TestWithoutItsStateALoneReplicaGoesOn(t *testing.T) {
	ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
	defer cancel()
	dir := t.TempDir()
	s, g, _ := alone(t, dir, Options{})
	for range 50 {
		require.NoError(t, g.Publish(ctx, proposal(1000)).Err)
	}
	require.NoError(t, s.Stop(ctx))
	require.NoError(t, s.store.Close())
	require.NoError(t, os.WriteFile(filepath.Join(dir, "1", "0", "state"), make([]byte, 1024), 0o600))
	s, g, _ = alone(t, dir, Options{})
	r := g.Publish(ctx, proposal(1000))
	require.NoError(t, r.Err)
	assert.EqualValues(t, 50, r.Offset)
	require.NoError(t, s.Stop(ctx))
}

// panics is a machine that fails at one record.
type panics struct{ recorder }

func (m *panics) Prepare(p *Proposal, _ message.Stamp) (Result, bool) {
	if p.Count == 2 {
		panic("a record that nobody expected")
	}
	return Result{}, false
}

func TestOnePartitionsMistakeStopsNoOther(t *testing.T) {
	ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
	defer cancel()
	store, err := journal.OpenStore(t.TempDir())
	require.NoError(t, err)
	s := NewScheduler(store, Alone{}, 2, DefaultFeedRate)
	groups := make([]*Group, 2)
	for i := range groups {
		require.NoError(t, s.Open(Options{Key: Key{Channel: 1, Partition: i}, Node: 1, Voters: []uint64{1}, Journal: journal.Options{SegmentBytes: 1 << 20}}, &panics{}, func(g *Group) { groups[i] = g }))
	}
	p := proposal(10)
	p.Count = 2
	short, stop := context.WithTimeout(ctx, time.Second)
	defer stop()
	assert.Error(t, groups[0].Publish(short, p).Err)
	assert.ErrorIs(t, groups[0].Publish(ctx, proposal(10)).Err, ErrFailed)
	assert.True(t, groups[0].Failed())
	for range 20 {
		require.NoError(t, groups[1].Publish(ctx, proposal(10)).Err)
	}
	require.NoError(t, s.Stop(ctx))
}
