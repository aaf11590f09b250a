package replica

import (
	"context"
	"errors"
	"math"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/journal"
)

// spoil makes files of saved states unreadable.
func spoil(t *testing.T, dir, pattern string) {
	t.Helper()
	files, err := filepath.Glob(filepath.Join(dir, "1", "0", pattern))
	require.NoError(t, err)
	require.NotEmpty(t, files)
	for _, f := range files {
		require.NoError(t, os.WriteFile(f, make([]byte, 256), 0o600))
	}
}

// publishAny publishes at whichever of the nodes leads: a busy disk may bring about another
// one.
func publishAny(t *testing.T, nodes []*testNode, count, size int) {
	t.Helper()
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	for range count {
		for {
			err := leaderOf(t, nodes...).group.Publish(ctx, proposal(size)).Err
			if errors.Is(err, ErrNotLeading) {
				continue // and nothing of it is in the log
			}
			require.NoError(t, err)
			break
		}
	}
}

// A replica that is behind gets the state from the first segment that has one, and never
// none as if nothing had been.
func TestAReplicaBehindGetsAStateThatIsWhole(t *testing.T) {
	nodes := cluster(t, 3, []uint64{1, 2, 3})
	publishAny(t, nodes, 3, 1000)
	caughtUp(t, 3, nodes...)
	behind, others := nodes[0], nodes[1:]
	behind.stop()
	publishAny(t, others, 60, 1<<20)
	caughtUp(t, 63, others...)
	first := int64(math.MaxInt64)
	for _, n := range others {
		require.NoError(t, n.group.Drop(context.Background(), 5))
		bounds := n.group.Journal().Bounds()
		spoil(t, n.dir, segmentCheckpoint(bounds.FirstIdx))
		first = min(first, bounds.First)
	}
	behind.start([]uint64{1, 2, 3}, nil)
	connect(nodes)
	publishAny(t, nodes, 5, 1000)
	caughtUp(t, 68, nodes...)
	assert.Len(t, behind.machine.applied, 68, "all that ever was counts")
	assert.Greater(t, behind.group.Journal().Bounds().First, first)

	// With none at all it waits, until retention has left the damage behind.
	behind.stop()
	publishAny(t, others, 20, 1<<20)
	for _, n := range others {
		spoil(t, n.dir, checkpointName+"-*")
		require.NoError(t, n.group.Do(context.Background(), func(j *journal.Journal) error { return nil }))
		_, err := n.group.snapshot()
		require.Error(t, err)
	}
	for _, n := range others {
		n.stop()
	}
}

// A replica that has lost its state begins with an older one that is whole; without any, as
// another member, which gets all from the others.
func TestAReplicaWithoutItsStateDoesNotBeginWithNone(t *testing.T) {
	for _, c := range []struct{ name, pattern string }{{"the last is lost", checkpointName}, {"all are lost", checkpointName + "*"}} {
		t.Run(c.name, func(t *testing.T) {
			nodes := cluster(t, 3, []uint64{1, 2, 3})
			publishAny(t, nodes, 60, 1<<20)
			caughtUp(t, 60, nodes...)
			for _, n := range nodes {
				require.NoError(t, n.group.Drop(context.Background(), 5))
			}
			lost := nodes[0]
			lost.stop()
			spoil(t, lost.dir, c.pattern)
			lost.start([]uint64{1, 2, 3}, nil)
			connect(nodes)
			publishAny(t, nodes[1:], 5, 1000)
			if c.pattern == checkpointName {
				caughtUp(t, 65, lost)
				assert.Len(t, lost.machine.applied, 65, "all that ever was counts")
			} else {
				assert.NotEqual(t, lost.id, lost.group.ID(), "another member")
				assert.Zero(t, lost.group.End())
				assert.Empty(t, lost.machine.applied)
			}
			for _, n := range nodes {
				n.stop()
			}
		})
	}
}
