package main

import (
	"bytes"
	"context"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/google/uuid"

	"steadyferry/client"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/message"
	"steadyferry/internal/engine/postgres"
)

// nodes is a cluster of three nodes on this machine, beside the single one.
type nodes struct {
	b       *bench
	records *postgres.Server
	cmds    []*exec.Cmd
	args    [][]string
	dirs    []string
	urls    []string
	cluster *bench // the same measurements, asked of the cluster
}

func (b *bench) startNodes() (*nodes, error) {
	records := filepath.Join(b.dir, "records-of-three") // the single node has its own beside
	if err := os.Mkdir(records, 0o711); err != nil {
		return nil, err
	}
	server, err := postgres.Start(b.ctx, records)
	if err != nil {
		return nil, err
	}
	n := &nodes{b: b, records: server}
	for i := range 3 {
		listen, peer := freePort(), freePort()
		dir := filepath.Join(b.dir, fmt.Sprintf("node-%c", 'a'+i))
		n.dirs = append(n.dirs, dir)
		n.urls = append(n.urls, "http://"+listen)
		n.args = append(n.args, []string{"serve", "-node", filepath.Base(dir), "-dir", dir, "-listen", listen, "-peer-listen", peer, "-database", server.URL(), "-log-level", "ERROR"})
		n.cmds = append(n.cmds, nil)
		if err := n.start(i); err != nil {
			return n, err
		}
	}
	token, err := os.ReadFile(filepath.Join(n.dirs[0], "owner.token"))
	if err != nil {
		return n, err
	}
	c := &bench{ctx: b.ctx, dir: b.dir, values: map[string][]float64{}}
	servers := strings.Join(n.urls, ",")
	c.env = append(os.Environ(), "FERRY_SERVER="+servers, "FERRY_TOKEN="+strings.TrimSpace(string(token)))
	if c.api, err = client.New(servers, strings.TrimSpace(string(token))); err != nil {
		return n, err
	}
	n.cluster = c
	if err := n.inStep(3); err != nil {
		return n, err
	}
	return n, c.api.Call(b.ctx, http.MethodPost, "/spaces", nil, map[string]string{"space": "bench"}, nil)
}

func (n *nodes) start(i int) error {
	cmd := exec.Command("bin/ferryd", n.args[i]...)
	cmd.Stderr = os.Stderr
	if err := cmd.Start(); err != nil {
		return err
	}
	n.cmds[i] = cmd
	for range 1000 {
		if response, err := http.Get(n.urls[i] + "/readyz"); err == nil {
			response.Body.Close()
			if response.StatusCode == http.StatusOK {
				return nil
			}
		}
		time.Sleep(10 * time.Millisecond)
	}
	return fmt.Errorf("%s does not start", n.urls[i])
}

func (n *nodes) end(i int, with syscall.Signal) {
	n.cmds[i].Process.Signal(with)
	n.cmds[i].Wait()
}

func (n *nodes) stop() {
	for i, cmd := range n.cmds {
		if cmd != nil {
			n.end(i, syscall.SIGTERM)
		}
	}
	n.records.Stop(n.b.ctx)
}

// inStep waits until so many nodes are up and every replica on them is in
// step.
func (n *nodes) inStep(up int) error {
	var c client.Cluster
	for range 6000 {
		if err := n.cluster.api.Call(n.b.ctx, http.MethodGet, "/nodes", nil, nil, &c); err == nil {
			count := 0
			for _, node := range c.Nodes {
				if node.Up {
					count++
				}
			}
			if count == up && c.WithoutLeader == 0 && (c.ReplicasMissing == 0 || up < 3) {
				return nil
			}
		}
		time.Sleep(10 * time.Millisecond)
	}
	return fmt.Errorf("the nodes do not get in step: %+v", c)
}

// measureCluster compares three nodes with the single one, in turns.
func (b *bench) measureCluster(rounds int) error {
	n, err := b.startNodes()
	if n != nil {
		defer n.stop()
	}
	if err != nil {
		return err
	}
	for _, topic := range []struct {
		name       string
		partitions int
	}{{"six", 6}, {"wide", 64}, {"latency", 6}, {"fail", 6}} {
		if err := n.cluster.newTopic(topic.name, topic.partitions); err != nil {
			return err
		}
	}
	for round := range rounds {
		fmt.Fprintf(os.Stderr, "three nodes, round %d of %d\n", round+1, rounds)
		for _, step := range []struct {
			of    *bench
			topic string
			note  string
		}{{b, "six", "single again"}, {n.cluster, "six", "three six"}, {n.cluster, "wide", "three wide"}} {
			r, err := step.of.load("bench/"+step.topic, "-count", "5000000", "-publishers", "4")
			if err != nil {
				return err
			}
			b.note(step.note, r.Published.PerSecond)
		}
		if err := n.cluster.latency(); err != nil {
			return err
		}
	}
	for _, step := range []func() error{n.catchUp, n.failover, n.idle} {
		if err := step(); err != nil {
			return err
		}
	}
	n.print()
	return nil
}

func (n *nodes) print() {
	b := n.b
	row := func(name, value, compared string) { fmt.Printf("%-44s %18s   %s\n", name, value, compared) }
	perSecond := func(name string) string { return fmt.Sprintf("%.0f/s", b.median(name)) }
	fmt.Printf("\nthree nodes with three replicas on %d cores\n\n", runtime.NumCPU())
	row("one node, 6 partitions, in the same turns", perSecond("single again"), "")
	row("publish, 6 partitions, batches", perSecond("three six"), fmt.Sprintf("%.0f%% of one node", 100*b.median("three six")/b.median("single again")))
	row("publish, 64 partitions, batches", perSecond("three wide"), fmt.Sprintf("%.0f%% of 6 partitions", 100*b.median("three wide")/b.median("three six")))
	row("publish to tail at 1,000/s", fmt.Sprintf("p99 %.1f ms", n.cluster.median("tail p99")), fmt.Sprintf("p50 %.1f ms", n.cluster.median("tail p50")))
	row("writing again after kill -9 of a leader", fmt.Sprintf("median %.0f ms", b.median("failover median")), fmt.Sprintf("slowest of 20: %.0f ms", b.median("failover slowest")))
	row("a node that lacks 1 GB, nothing else going on", fmt.Sprintf("%.0f MB/s", b.median("catch up alone")), "with its start")
	steady, err := strconv.ParseFloat(steadyRate, 64)
	if err != nil {
		panic(err) // a constant
	}
	row("the same, "+steadyRate+"/s being published", fmt.Sprintf("%.0f MB/s", b.median("catch up steady")), fmt.Sprintf("%.0f%% of them are taken meanwhile, p99 %.0f ms", 100*b.median("meanwhile steady")/steady, b.median("meanwhile p99 steady")))
	row("the same, publishing as fast as it goes", fmt.Sprintf("%.0f MB/s", b.median("catch up full")), fmt.Sprintf("publishing meanwhile %.0f%% of that with two nodes", 100*b.median("meanwhile full")/b.median("before full")))
	row("300 idle partitions", fmt.Sprintf("%.1f%% of a core", 100*b.median("idle core")), "of the busiest node")
}

// failover kills the node that leads most, twenty times, and measures how long
// it takes until every partition that it led takes messages again.
func (n *nodes) failover() error {
	a := address.Channel("bench", "fail")
	ctx, cancel := context.WithCancel(n.b.ctx)
	defer cancel()
	type kept struct {
		mu      sync.Mutex
		last    time.Time
		longest time.Duration
	}
	lanes := make([]*kept, 6)
	var wg sync.WaitGroup
	defer wg.Wait()
	defer cancel()
	for p := range lanes {
		l := &kept{last: time.Now()}
		lanes[p] = l
		wg.Go(func() {
			id := uuid.New()
			for sequence := uint64(1); ctx.Err() == nil; sequence++ {
				var builder message.Builder
				builder.Add(&message.Message{Body: []byte("x")})
				batch := bytes.Clone(builder.Build(message.Plain, &message.Publisher{ID: id, Sequence: sequence}))
				for ctx.Err() == nil {
					if _, err := n.cluster.api.Publish(ctx, a, p, client.BatchType, nil, batch); err == nil {
						break
					}
					time.Sleep(2 * time.Millisecond)
				}
				now := time.Now()
				l.mu.Lock()
				l.longest = max(l.longest, now.Sub(l.last))
				l.last = now
				l.mu.Unlock()
				time.Sleep(2 * time.Millisecond)
			}
		})
	}
	var times []float64
	for range 20 {
		if err := n.inStep(3); err != nil {
			return err
		}
		time.Sleep(300 * time.Millisecond)
		for _, l := range lanes {
			l.mu.Lock()
			l.longest, l.last = 0, time.Now()
			l.mu.Unlock()
		}
		i, err := n.busiest(a)
		if err != nil {
			return err
		}
		n.end(i, syscall.SIGKILL)
		time.Sleep(2 * time.Second)
		longest := time.Duration(0)
		for _, l := range lanes {
			l.mu.Lock()
			longest = max(longest, l.longest, time.Since(l.last))
			l.mu.Unlock()
		}
		times = append(times, longest.Seconds()*1000)
		if err := n.start(i); err != nil {
			return err
		}
	}
	slices.Sort(times)
	n.b.note("failover median", times[len(times)/2])
	n.b.note("failover slowest", times[len(times)-1])
	return nil
}

// busiest returns the node that leads most partitions of a topic.
func (n *nodes) busiest(a address.Address) (int, error) {
	var t client.Channel
	if err := n.cluster.api.Call(n.b.ctx, http.MethodGet, client.ChannelPath(a), nil, nil, &t); err != nil {
		return 0, err
	}
	leads := make([]int, 3)
	for _, p := range t.Each {
		for i, dir := range n.dirs {
			if filepath.Base(dir) == p.Leader {
				leads[i]++
			}
		}
	}
	return slices.Index(leads, slices.Max(leads)), nil
}

// steadyRate is how many messages a second are published while a node catches
// up.
const steadyRate = "200000"

// catchUp measures how fast a node that lacks 1 GB gets it, alone and while
// messages are published, and what that costs publishing.
func (n *nodes) catchUp() error {
	const lack = 10_000_000 // messages of 100 bytes
	for _, busy := range []struct{ name, rate string }{{"alone", ""}, {"steady", steadyRate}, {"full", ""}} {
		name := "catch-up-" + busy.name
		if err := n.inStep(3); err != nil {
			return err
		}
		if err := n.cluster.newTopic(name, 6); err != nil {
			return err
		}
		n.end(2, syscall.SIGTERM)
		r, err := n.cluster.load("bench/"+name, "-count", strconv.Itoa(lack), "-publishers", "4")
		if err != nil {
			return err
		}
		n.b.note("before "+busy.name, r.Published.PerSecond)
		var wg sync.WaitGroup
		var loadErr error
		began := time.Now()
		if err := n.start(2); err != nil {
			return err
		}
		if busy.name != "alone" {
			args := []string{"bench/" + name, "-for", "6s", "-publishers", "4"}
			if busy.rate != "" {
				args = append(args, "-rate", busy.rate+"/s")
			}
			wg.Go(func() {
				var r loadResult
				r, loadErr = n.cluster.load(args...)
				n.b.note("meanwhile "+busy.name, r.Published.PerSecond)
				n.b.note("meanwhile p99 "+busy.name, r.Published.Latency["p99"])
			})
		}
		behind := int64(0)
		for {
			lacks, err := n.lacks(name)
			if err == nil {
				behind = max(behind, lacks)
				if lacks < 8<<20 && behind > 0 {
					break
				}
			}
			if time.Since(began) > 2*time.Minute {
				return fmt.Errorf("the node does not catch up: it lacks %d bytes", lacks)
			}
			time.Sleep(200 * time.Millisecond)
		}
		n.b.note("catch up "+busy.name, lack*102/1e6/time.Since(began).Seconds())
		wg.Wait()
		if loadErr != nil {
			return loadErr
		}
	}
	return nil
}

// lacks returns the bytes that replicas of a topic lack.
func (n *nodes) lacks(topic string) (bytes int64, err error) {
	var t client.Channel
	if err := n.cluster.api.Call(n.b.ctx, http.MethodGet, client.ChannelPath(address.Channel("bench", topic)), nil, nil, &t); err != nil {
		return 0, err
	}
	for _, p := range t.Each {
		for _, r := range p.Replicas {
			if r.State != "leads" {
				bytes += r.BehindBytes
			}
			if r.BehindMessages == nil {
				bytes += 1 << 30
			}
		}
	}
	return bytes, nil
}

// idle measures what 300 partitions that have nothing to do cost each node.
func (n *nodes) idle() error {
	if err := n.inStep(3); err != nil {
		return err
	}
	if err := n.cluster.newTopic("idle", 300); err != nil {
		return err
	}
	if err := n.inStep(3); err != nil {
		return err
	}
	time.Sleep(5 * time.Second)
	before := make([]time.Duration, 3)
	for i := range before {
		before[i] = processorTime(n.cmds[i].Process.Pid)
	}
	const span = 15 * time.Second
	time.Sleep(span)
	most := 0.0
	for i := range before {
		most = max(most, (processorTime(n.cmds[i].Process.Pid)-before[i]).Seconds()/span.Seconds())
	}
	n.b.note("idle core", most)
	return nil
}
