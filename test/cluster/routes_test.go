package cluster

import (
	"context"
	"flag"
	"fmt"
	"math/rand/v2"
	"net/http"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/client"
	"steadyferry/internal/core/address"
	"steadyferry/test/harness"
)

var routeFaults = flag.Int("route-faults", 14, "how many faults the routes live through; 200 take about an hour")

// sourceOf reads where a message of the workload was published: its partition, and
// its number there.
func sourceOf(t *testing.T, body string) (partition, number int) {
	t.Helper()
	parts := strings.SplitN(body, "-", 3)
	partition, err := strconv.Atoi(parts[0])
	require.NoError(t, err)
	number, err = strconv.Atoi(parts[1])
	require.NoError(t, err)
	return partition, number
}

// leftOf returns how many messages a route has not decided, -1 when that is not
// known.
func leftOf(c *harness.Cluster, a address.Address) int64 {
	var g client.Group
	if err := c.API.Call(context.Background(), http.MethodGet, client.GroupPath(a), nil, nil, &g); err != nil {
		return -1
	}
	return g.Lag
}

// Routes in a chain of four, one of them through a queue, with a split and edits, through faults of all kinds:
// each message comes to each target once, and in order; to a table too, and to an address
// that keeps the last place of each lane. What becomes a dead letter is copied each time that
// it does.
func TestRoutesSendOnceThroughFaults(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes minutes")
	}
	const orders = 4
	c := harness.StartCluster(t, 3, outsideFlags(t)...)
	topic := c.Nodes[0].Topic("coldchain/orders", orders)
	must := c.Nodes[0].Must
	for name, partitions := range map[string]string{"all": "4", "even": "2", "third": "3", "end": "2"} {
		must("new", "topic", "coldchain/"+name, "-partitions", partitions, "-replicas", "3")
	}
	must("new", "queue", "coldchain/last", "-partitions", "2", "-replicas", "3")
	routes := [][]string{{"orders@all", "all", ""}, {"orders@even", "even", "size % 2 == 0"}, {"all@third", "third", "size % 3 == 0"}, {"third@last", "last", ""}, {"last@end", "end", ""}}
	for _, r := range routes {
		args := []string{"new", "route", "coldchain/" + r[0], "-to", "coldchain/" + r[1], "-where", r[2], "-from", "first"}
		if r[0] != "orders@all" { // which sends batches on as they are
			args = append(args, "-edit", "set header.from="+r[0])
		}
		must(args...)
	}
	outside := newHook(t)
	must("new", "endpoint", "coldchain/hook", "-url", outside.URL, "-handshake=false", "-backoff", "50ms..500ms")
	rowsOf(t, c, "coldchain/rows")
	for _, name := range []string{"hook", "rows"} {
		routes = append(routes, []string{"orders@" + name})
		must("new", "route", "coldchain/orders@"+name, "-to", "coldchain/"+name, "-from", "first")
	}
	must("new", "queue", "coldchain/checked", "-partitions", "2", "-replicas", "3", "-lease", "5s", "-backoff", "0s..0s")
	must("new", "topic", "coldchain/failures", "-partitions", "2", "-replicas", "3")
	must("new", "route", "coldchain/orders@checked", "-to", "coldchain/checked", "-where", "size % 5 == 0", "-from", "first")
	must("new", "route", "coldchain/checked/dead@copies", "-to", "coldchain/failures")
	c.WaitInStep(30 * time.Second)
	checked := startRejecter(t, c, address.Channel("coldchain", "checked"))
	w := startWorkload(t, c, topic, orders, largeBatches)
	w.flows(10 * time.Second)
	random := rand.New(rand.NewPCG(*faultSeed, 1))
	for fault := range *routeFaults {
		i := random.IntN(3)
		n, other := c.Nodes[i], c.Nodes[(i+1+random.IntN(2))%3]
		hold := time.Duration(200+random.IntN(2500)) * time.Millisecond
		kind := random.IntN(7)
		t.Logf("%s: fault %d is %d, for %s", n.Name, fault, kind, hold)
		switch kind {
		case 0, 1:
			n.Kill()
			time.Sleep(hold)
			n.Run()
		case 2:
			require.Zero(t, n.Stop())
			time.Sleep(hold)
			n.Run()
		case 3:
			require.NoError(t, syscall.Kill(n.Pid(), syscall.SIGSTOP))
			time.Sleep(hold)
			require.NoError(t, syscall.Kill(n.Pid(), syscall.SIGCONT))
		case 4:
			n.Kill()
			other.Kill()
			time.Sleep(hold)
			other.Run()
			n.Run()
		case 5:
			require.NoError(t, syscall.Kill(harness.SharedPostgres(t), syscall.SIGKILL))
			time.Sleep(hold)
			c.Wait(time.Minute, "the database is there again", func() bool {
				_, _, code := other.Ferry("", "logbook", "-limit", "1")
				return code == 0
			})
		case 6:
			other.Ferry("", "set", "coldchain/all@third", "-edit", fmt.Sprintf("set header.fault=%d", fault))
			if fault < 20 {
				other.Ferry("", "set", "coldchain/even", "-partitions", strconv.Itoa(2+fault), "-yes")
			}
		}
		checked.someReturn(other)
		if random.IntN(3) > 0 {
			w.flows(2 * time.Minute)
		}
	}
	w.finish()
	for _, r := range routes {
		a, err := address.Parse("coldchain/" + r[0])
		require.NoError(t, err)
		c.Wait(2*time.Minute, r[0]+" has sent everything", func() bool { return leftOf(c, a) == 0 })
	}
	time.Sleep(2 * time.Second) // what is told of lag may be a second old
	kept := map[string]int{}    // length of each body
	for p := range orders {
		for _, body := range readFrom(t, c.Nodes[0], topic, p) {
			kept[body] = len(body)
		}
	}
	checked.copied(t, address.Channel("coldchain", "failures"), kept, func(size int) bool { return size%5 == 0 })
	outside.has(t, kept)
	rowsHave(t, c, kept)
	want := map[string]func(size int) bool{"all": func(int) bool { return true }, "even": func(size int) bool { return size%2 == 0 }, "third": func(size int) bool { return size%3 == 0 }, "end": func(size int) bool { return size%3 == 0 }}
	for name, takes := range want {
		a := address.Channel("coldchain", name)
		seen := map[string]bool{}
		for p := range partitionsOf(t, c, a) {
			last := map[int]int{}
			for _, body := range readFrom(t, c.Nodes[1], a, p) {
				require.False(t, seen[body], "%s has a message twice: %s", name, body)
				require.True(t, takes(kept[body]), "%s has a message that is not for it", name)
				seen[body] = true
				from, number := sourceOf(t, body)
				require.Greater(t, number, last[from], "%s is in order", name)
				last[from] = number
			}
		}
		expected := 0
		for body, size := range kept {
			if takes(size) {
				expected++
				assert.True(t, seen[body], "%s lacks a message", name)
			}
		}
		require.Len(t, seen, expected, name)
		if name == "end" {
			assert.Equal(t, client.Counts{Accepted: int64(expected)}, countsOf(t, c, address.Channel("coldchain", "last")), "the queue in the chain has sent each on")
		}
		t.Logf("%s: %d messages", name, expected)
	}
}

func partitionsOf(t *testing.T, c *harness.Cluster, a address.Address) int {
	t.Helper()
	var channel client.Channel
	require.NoError(t, c.API.Call(context.Background(), http.MethodGet, client.ChannelPath(a), nil, nil, &channel))
	return channel.Partitions
}
