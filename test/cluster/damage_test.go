package cluster

import (
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/message"
	"steadyferry/test/harness"
)

// What a node loses of its files while it is away, the other replicas give it
// back: no node stops, nothing is missing, and verifying says so.
func TestWhatADiskLosesIsFetchedFromTheOthers(t *testing.T) {
	c := harness.StartCluster(t, 3)
	topic := c.Nodes[0].Topic("coldchain/doors", 1)
	c.WaitInStep(10 * time.Second)
	count := 0
	publish := func(n *harness.Node, batches int) {
		for range batches {
			var b message.Builder
			for range 500 {
				b.Add(&message.Message{Body: fmt.Appendf(nil, "message-%06d-%s", count, strings.Repeat("x", 180))})
				count++
			}
			answer := n.Ask("POST", "/api/v1/channels/coldchain/doors/messages", string(b.Build(message.Plain, nil)), "Content-Type", "application/vnd.steady-ferry.batch")
			require.Equal(t, http.StatusOK, answer.Status, answer.Body)
		}
	}
	n := c.Nodes[0]
	files := func(node *harness.Node) []string {
		paths, err := filepath.Glob(filepath.Join(node.Dir, "logs", "*", "0", "*.seg"))
		require.NoError(t, err)
		return paths
	}
	// Segments are a sixteenth of what is kept.
	n.Must("set", topic.String(), "-retain-bytes", "16MiB", "-yes")
	publish(n, 60)
	c.WaitInStep(10 * time.Second)

	zeroEnd := func(t *testing.T, paths []string) {
		last := paths[len(paths)-1]
		b, err := os.ReadFile(last)
		require.NoError(t, err)
		clear(b[max(64, len(b)-60_000):])
		require.NoError(t, os.WriteFile(last, b, 0o600))
	}
	for _, drill := range []struct {
		name string
		kill bool
		hurt func(t *testing.T, paths []string)
	}{
		{"the end of the active segment is zeros", false, zeroEnd},
		{"the same after a crash", true, zeroEnd},
		{"the active segment is gone", false, func(t *testing.T, paths []string) { require.NoError(t, os.Remove(paths[len(paths)-1])) }},
		{"an ended segment is cut off", false, func(t *testing.T, paths []string) { require.NoError(t, os.Truncate(paths[1], 500_000)) }},
		{"an ended segment is gone", false, func(t *testing.T, paths []string) { require.NoError(t, os.Remove(paths[1])) }},
		{"the first segment is gone", false, func(t *testing.T, paths []string) { require.NoError(t, os.Remove(paths[0])) }},
		{"a header has another byte", false, func(t *testing.T, paths []string) {
			b, err := os.ReadFile(paths[1])
			require.NoError(t, err)
			b[20] ^= 1
			require.NoError(t, os.WriteFile(paths[1], b, 0o600))
		}},
		{"both slots of the state are damaged", false, func(t *testing.T, paths []string) {
			require.NoError(t, os.WriteFile(filepath.Join(filepath.Dir(paths[0]), "state"), make([]byte, 1024), 0o600))
		}},
	} {
		t.Run(drill.name, func(t *testing.T) {
			hurt := idlest(t, c)
			if drill.kill {
				publish(n, 4) // behind the last saved state
				c.WaitInStep(10 * time.Second)
				hurt.Kill()
			} else {
				require.Zero(t, hurt.Stop())
			}
			paths := files(hurt)
			require.Greater(t, len(paths), 3)
			drill.hurt(t, paths)
			other := c.Nodes[0]
			if other == hurt {
				other = c.Nodes[1]
			}
			n = other
			publish(other, 2)
			hurt.Run()
			c.WaitInStep(30 * time.Second)
			publish(other, 2)
			verify := func() string {
				out, _ := hurt.Tool("ferryd", "verify", "-server", other.URL, "-token", other.Token, topic.String())
				return out
			}
			c.Wait(20*time.Second, "all three are equal", func() bool { return equalOn(verify()) == 3 })
			assert.NotContains(t, verify(), "damaged")
			// What nodes tell of each other may be a second old, of before it was hurt.
			c.Wait(20*time.Second, "its own replica has all", func() bool {
				out, errOut, code := hurt.Ferry("", "browse", topic.String(), "-any-replica", "-limit", "100000", "-json")
				assert.Zero(t, code, errOut)
				assert.NotContains(t, errOut, "damaged")
				return strings.Count(out, "message-") == count
			})
		})
	}
}

// A replica whose saved states are all damaged, and whose log retention has begun to take,
// begins anew as another member, and is in step again.
func TestAReplicaWithoutAnySavedStateComesBack(t *testing.T) {
	c := harness.StartCluster(t, 3)
	topic := c.Nodes[0].Topic("coldchain/doors", 1)
	c.WaitInStep(10 * time.Second)
	n := c.Nodes[0]
	n.Must("set", topic.String(), "-retain-bytes", "1MiB", "-yes")
	publish := func(n *harness.Node) {
		var b message.Builder
		for range 500 {
			b.Add(&message.Message{Body: fmt.Appendf(nil, "message-%s", strings.Repeat("x", 180))})
		}
		answer := n.Ask("POST", "/api/v1/channels/coldchain/doors/messages", string(b.Build(message.Plain, nil)), "Content-Type", "application/vnd.steady-ferry.batch")
		require.Equal(t, http.StatusOK, answer.Status, answer.Body)
	}
	states := func(n *harness.Node) []string {
		paths, err := filepath.Glob(filepath.Join(n.Dir, "logs", "*", "0", "state*"))
		require.NoError(t, err)
		return paths
	}
	first := func(n *harness.Node) string {
		paths, err := filepath.Glob(filepath.Join(n.Dir, "logs", "*", "0", "*.seg"))
		require.NoError(t, err)
		require.NotEmpty(t, paths)
		return filepath.Base(paths[0])
	}
	lost := idlest(t, c)
	beginning := first(lost)
	c.Wait(time.Minute, "retention takes the beginning", func() bool {
		publish(n)
		return first(lost) != beginning
	})
	c.WaitInStep(10 * time.Second)
	require.Zero(t, lost.Stop())
	for _, path := range states(lost) {
		require.NoError(t, os.WriteFile(path, make([]byte, 512), 0o600))
	}
	other := c.Nodes[0]
	if other == lost {
		other = c.Nodes[1]
	}
	publish(other)
	lost.Run()
	c.WaitInStep(30 * time.Second)
	publish(other)
	c.Wait(20*time.Second, "all three are equal", func() bool {
		out, _ := lost.Tool("ferryd", "verify", "-server", other.URL, "-token", other.Token, topic.String())
		return equalOn(out) == 3
	})
}
