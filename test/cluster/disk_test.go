package cluster

import (
	"bytes"
	"context"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
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

// A node whose disk is full gives away what it leads, and comes back into
// step when there is room.
func TestADiskIsFull(t *testing.T) {
	small := harness.Dir(t)
	if err := syscall.Mount("tmpfs", small, "tmpfs", 0, "size=160m,mode=711"); err != nil {
		t.Skipf("a small file system is needed, and mounting one is not allowed here: %v", err)
	}
	t.Cleanup(func() { syscall.Unmount(small, syscall.MNT_DETACH) })
	c := harness.StartCluster(t, 2)
	c.Add(small)
	c.WaitUp(3)
	topic := c.Nodes[0].Topic("coldchain/doors", partitions)
	c.WaitInStep(10 * time.Second)
	w := startWorkload(t, c, topic, partitions)
	w.flows(10 * time.Second)
	w.pause()

	filler := filepath.Join(small, "filler")
	f, err := os.Create(filler)
	require.NoError(t, err)
	for chunk := make([]byte, 1<<20); err == nil; {
		_, err = f.Write(chunk)
	}
	require.ErrorIs(t, err, syscall.ENOSPC)
	f.Close()
	c.Wait(20*time.Second, "the full node leads nothing", func() bool {
		status, err := c.Status()
		return err == nil && status.Nodes[2].Leads == 0 && status.WithoutLeader == 0
	})
	w.flows(10 * time.Second)
	time.Sleep(3 * time.Second)
	w.flows(10 * time.Second)
	assert.Less(t, w.pause(), 6*time.Second)
	assert.Contains(t, c.Nodes[0].Must("nodes"), ", full")
	require.NoError(t, os.Remove(filler))
	w.finish()
}

// With nothing free at all a node starts, and what it keeps can be read.
func TestANodeStartsOnAFullDisk(t *testing.T) {
	small := harness.Dir(t)
	if err := syscall.Mount("tmpfs", small, "tmpfs", 0, "size=160m,mode=711"); err != nil {
		t.Skipf("a small file system is needed, and mounting one is not allowed here: %v", err)
	}
	t.Cleanup(func() { syscall.Unmount(small, syscall.MNT_DETACH) })
	n := harness.StartIn(t, small, "-database", harness.SharedDatabase(t))
	n.Topic("coldchain/doors", 2)
	n.Must("new", "queue", "coldchain/inspections")
	for i := range 20 {
		for _, channel := range []string{"doors", "inspections"} {
			require.Equal(t, 200, n.Ask("POST", "/api/v1/channels/coldchain/"+channel+"/messages", fmt.Sprintf("message-%02d", i)).Status)
		}
	}
	for _, end := range []func(){n.Kill, func() { n.Stop() }} {
		filler := filepath.Join(small, "filler")
		f, err := os.Create(filler)
		require.NoError(t, err)
		for _, size := range []int{1 << 20, 4096, 1} {
			for chunk := make([]byte, size); err == nil; {
				_, err = f.Write(chunk)
			}
			require.ErrorIs(t, err, syscall.ENOSPC)
			err = nil
		}
		f.Close()
		end()
		n.Run()
		assert.Equal(t, 20, strings.Count(n.Must("browse", "coldchain/doors", "-json"), "\n"))
		assert.Equal(t, 507, n.Ask("POST", "/api/v1/channels/coldchain/doors/messages", "x").Status)
		ready := n.Ask("GET", "/readyz", "")
		assert.Equal(t, 503, ready.Status, ready.Body)
		assert.Contains(t, ready.Body, "disk full")
		assert.Contains(t, ready.Body, "coldchain/doors#1")
		assert.NotContains(t, n.Ask("GET", "/readyz", "", "Authorization", "").Body, "doors", "names are for those with a token")
		require.NoError(t, os.Remove(filler))
		require.Eventually(t, func() bool { return n.Ask("GET", "/readyz", "").Status == 200 }, 20*time.Second, 50*time.Millisecond)
		require.Equal(t, 200, n.Ask("POST", "/api/v1/channels/coldchain/inspections/messages", "x").Status)
	}
}

// What is damaged on one disk is not served, and is fetched again from
// another replica.
func TestDamageIsMendedFromAnotherReplica(t *testing.T) {
	c := harness.StartCluster(t, 3)
	topic := c.Nodes[0].Topic("coldchain/doors", 1)
	c.WaitInStep(10 * time.Second)
	n := c.Nodes[0]
	for i := range 30 {
		require.Equal(t, http.StatusOK, n.Ask("POST", "/api/v1/channels/coldchain/doors/messages", fmt.Sprintf("message-%02d", i)).Status)
	}
	c.WaitInStep(10 * time.Second)
	hurt := idlest(t, c)
	require.Zero(t, hurt.Stop())
	segments, err := filepath.Glob(filepath.Join(hurt.Dir, "logs", "*", "0", "*.seg"))
	require.NoError(t, err)
	require.Len(t, segments, 1)
	b, err := os.ReadFile(segments[0])
	require.NoError(t, err)
	for _, body := range []string{"message-03", "message-11", "message-12"} {
		b[bytes.Index(b, []byte(body))] ^= 0xff
	}
	require.NoError(t, os.WriteFile(segments[0], b, 0o600))
	hurt.Run()
	c.WaitInStep(20 * time.Second)

	verify := func() string {
		out, _ := hurt.Tool("ferryd", "verify", "-server", n.URL, "-token", n.Token, topic.String())
		return out
	}
	assert.Contains(t, verify(), "3 damaged on "+hurt.Name, "it is found and named")
	c.Wait(10*time.Second, "it is mended", func() bool { return equalOn(verify()) == 3 })
	out, errOut, code := hurt.Ferry("", "browse", topic.String(), "-any-replica", "-json")
	assert.Zero(t, code, errOut)
	assert.Equal(t, 30, strings.Count(out, "\n"))
	assert.NotContains(t, errOut, "damaged")
}

// A leased message whose bytes are damaged on the leader's disk is fetched from
// another replica, and handed out then.
func TestADamagedMessageOfAQueueIsMended(t *testing.T) {
	c := harness.StartCluster(t, 3)
	c.Nodes[0].Must("new", "space", "coldchain")
	c.Nodes[0].Must("new", "queue", "coldchain/inspections", "-replicas", "3")
	c.WaitInStep(15 * time.Second)
	a := address.Channel("coldchain", "inspections")
	for i := range 3 {
		require.Equal(t, http.StatusOK, c.Nodes[0].Ask("POST", "/api/v1/channels/coldchain/inspections/messages", fmt.Sprintf("message-%02d", i)).Status)
	}
	c.WaitInStep(10 * time.Second)
	leader := c.Node(leaderOf(t, c, a))
	segments, err := filepath.Glob(filepath.Join(leader.Dir, "logs", "*", "0", "*.seg"))
	require.NoError(t, err)
	require.Len(t, segments, 1)
	b, err := os.ReadFile(segments[0])
	require.NoError(t, err)
	at := bytes.Index(b, []byte("message-01"))
	f, err := os.OpenFile(segments[0], os.O_WRONLY, 0)
	require.NoError(t, err)
	_, err = f.WriteAt([]byte("broken"), int64(at))
	require.NoError(t, err)
	require.NoError(t, f.Close())

	got := map[string]int{}
	for began := time.Now(); len(got) < 3 && time.Since(began) < 20*time.Second; {
		w, err := c.API.Work(context.Background(), a, client.WorkRequest{Member: "m", Max: 3, Wait: "1s"})
		require.NoError(t, err)
		for _, l := range w.Leased {
			got[string(l.Message.Body)] = l.Attempt
		}
	}
	assert.Len(t, got, 3)
	assert.Greater(t, got["message-01"], 1)
	assert.Zero(t, countsOf(t, c, a).Dead)
}
