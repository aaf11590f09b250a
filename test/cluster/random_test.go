package cluster

import (
	"flag"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"steadyferry/test/harness"
)

var (
	faultTime = flag.Duration("faults", 3*time.Minute, "how long the random faults go on")
	faultSeed = flag.Uint64("seed", 11, "of the random faults; 0 takes one from the clock, which is printed")
)

// Faults at random, of all kinds, one after another and two at a time, over
// nodes in namespaces of their own. The same seed makes the same faults at the
// same times:
//
//	go test ./test/cluster -run TestRandomFaults -v -args -faults 1h -seed 7
func TestRandomFaults(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes minutes")
	}
	seed := *faultSeed
	if seed == 0 {
		seed = uint64(time.Now().UnixNano())
	}
	t.Logf("repeat with: -args -faults %s -seed %d", *faultTime, seed)
	random := rand.New(rand.NewPCG(seed, 0))
	network := harness.NewNet(t)
	clock := filepath.Join(t.TempDir(), "clock")
	require.NoError(t, os.WriteFile(clock, []byte("0s"), 0o600))
	t.Setenv("FERRYD_CLOCK_FILE", clock)
	c := harness.StartClusterOn(t, network, 3)
	topic := c.Nodes[0].Topic("coldchain/doors", partitions)
	c.WaitInStep(15 * time.Second)
	w := startWorkload(t, c, topic, partitions)
	w.flows(10 * time.Second)

	for end := time.Now().Add(*faultTime); time.Now().Before(end) && !t.Failed(); {
		i, kind := random.IntN(3), random.IntN(8)
		hold := time.Duration(200+random.IntN(4000)) * time.Millisecond
		n, other := c.Nodes[i], (i+1+random.IntN(2))%3
		t.Logf("%s: fault %d for %s", n.Name, kind, hold)
		switch kind {
		case 0:
			n.Kill()
			time.Sleep(hold)
			n.Run()
		case 1:
			require.Zero(t, n.Stop())
			time.Sleep(hold)
			n.Run()
		case 2:
			require.NoError(t, syscall.Kill(n.Pid(), syscall.SIGSTOP))
			time.Sleep(hold)
			require.NoError(t, syscall.Kill(n.Pid(), syscall.SIGCONT))
		case 3:
			network.Cut(i)
			time.Sleep(hold)
			network.Mend(i)
		case 4:
			network.Mute(i, other)
			time.Sleep(hold)
			network.Unmute(i, other)
		case 5: // no majority for a while
			n.Kill()
			c.Nodes[other].Kill()
			time.Sleep(hold)
			c.Nodes[other].Run()
			n.Run()
		case 6:
			require.NoError(t, os.WriteFile(clock, fmt.Appendf(nil, "%dm", random.IntN(120)-60), 0o600))
			time.Sleep(hold)
		case 7:
			c.Nodes[0].Ferry("", "nodes", "spread", []string{"on", "off"}[random.IntN(2)], "-yes")
			require.NoError(t, syscall.Kill(harness.SharedPostgres(t), syscall.SIGKILL))
			time.Sleep(hold)
		}
		// Now and then the next fault comes before all is well again.
		if random.IntN(3) > 0 {
			w.flows(2 * time.Minute)
			c.WaitInStep(2 * time.Minute)
		}
	}
	w.finish()
}
