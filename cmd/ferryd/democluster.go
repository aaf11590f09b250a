package main

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"steadyferry/client"
	"steadyferry/internal/core/clock"
)

// restartAfter is how long the demo leaves a node that has ended alone: long
// enough to see what the others do.
const restartAfter = 20 * time.Second

// shiftTime is how long the demo waits for a node to shift its time.
const shiftTime = 5 * time.Second

// demoCluster runs several nodes, each a process of its own, over one
// database, and the demo's traffic beside them.
func (c *config) demoCluster(count int) (err error) {
	slog.SetDefault(slog.New(slog.NewTextHandler(os.Stderr, &slog.HandlerOptions{Level: c.logLevel})))
	ctx, cancel := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer cancel()
	unlock, err := c.takeDir()
	if err != nil {
		return err
	}
	defer unlock()
	database, stopDatabase, err := c.openDatabase(ctx)
	if err != nil {
		return err
	}
	defer stopDatabase()
	if _, err := c.keys(true); err != nil {
		return err
	}
	places, err := c.listenOutside()
	if err != nil {
		return err
	}
	defer places.Close()
	nodes, err := c.members(count, database)
	if err != nil {
		return err
	}
	for _, n := range nodes { // whatever a demo that was killed has left there
		if err := os.WriteFile(n.clock, []byte("0s"), 0o600); err != nil {
			return err
		}
	}
	var running sync.WaitGroup
	defer running.Wait()
	defer cancel()
	for _, n := range nodes {
		running.Go(func() { n.keep(ctx) })
	}
	urls := make([]string, count)
	for i, n := range nodes {
		urls[i] = n.url
	}
	servers := strings.Join(urls, ",")
	token, err := nodes[0].token(ctx)
	if err != nil {
		return err
	}
	if err := allUp(ctx, servers, token, count); err != nil {
		return err
	}
	outside, err := c.openOutside(ctx, places, database)
	if err != nil {
		return err
	}
	d, link, err := startDepot(ctx, servers, token, outside, func(by time.Duration) {
		var shifting sync.WaitGroup
		for _, n := range nodes {
			shifting.Go(func() { n.shift(ctx, by) })
		}
		shifting.Wait()
	})
	if err != nil {
		return err
	}
	self, err := os.Executable()
	if err != nil {
		return err
	}
	fmt.Printf(`
Steady Ferry is running with %d nodes and the demo of Northlight Cold Chain.

  Console        %s
  Sign in        %s%s   (as owner, once, for 15 minutes; at the console as one of the people)
  Clinics' hook  %s   (a place outside, with a switch)
  Duty desk      %s   (who is told of incidents)
  Duty mail      %s   (a stand-in for a mail server)

Try in another terminal:

  export FERRY_SERVER=%s
  export FERRY_TOKEN=$(cat %s/owner.token) PATH=%s:$PATH
  ferry nodes
  ferry show coldchain/readings -every 1s
  kill -9 $(cat %s/ferryd.lock)      # node-b; it is started again after %s

Ctrl-C stops all of them; what was published stays in %s.
`, count, urls[0], urls[0], link, outside.hook, outside.hook+deskPath, outside.hook+mailPath, servers, nodes[0].dir, filepath.Dir(self), nodes[1].dir, restartAfter, c.dir)
	return d.run(ctx)
}

// member is one node of the demo's cluster.
type member struct {
	name, dir, url string
	clock          string // file that says how much later its time of day is
	args           []string
}

// members lays out the nodes: each in a directory of its own, on the ports
// from that of -listen on, and ten higher for the talk between them.
func (c *config) members(count int, database string) ([]*member, error) {
	host, port, err := net.SplitHostPort(c.listen)
	if err != nil {
		return nil, &usageError{fmt.Errorf("-listen %s: %w", c.listen, err)}
	}
	base, err := strconv.Atoi(port)
	if err != nil || base == 0 {
		return nil, &usageError{fmt.Errorf("-listen %s: a port is needed, from which the nodes count on", c.listen)}
	}
	var nodes []*member
	for i := range count {
		n := &member{name: fmt.Sprintf("node-%c", 'a'+i)}
		n.dir, n.clock = filepath.Join(c.dir, n.name), filepath.Join(c.dir, n.name+".clock")
		listen := net.JoinHostPort(host, strconv.Itoa(base+i))
		n.url = "http://" + listen
		n.args = []string{"serve", "-node", n.name, "-dir", n.dir, "-listen", listen, "-peer-listen", net.JoinHostPort(host, strconv.Itoa(base+10+i)),
			"-database", database, "-zone", fmt.Sprintf("quay-%d", i+1), "-log-level", c.logLevel.String(),
			"-outside-networks", c.networks, "-outside-schemes", c.schemes, "-seal-keys", filepath.Join(c.dir, keysFile), "-sign-in", c.signIn, fmt.Sprintf("-plain=%t", c.plain)}
		nodes = append(nodes, n)
	}
	return nodes, nil
}

// keep runs the node, and again some time after it has ended.
func (m *member) keep(ctx context.Context) {
	self, err := os.Executable()
	if err != nil {
		slog.Error("the demo does not find its own program", "error", err)
		return
	}
	// The system ends a child with the thread that started it.
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	for ctx.Err() == nil {
		cmd := exec.CommandContext(ctx, self, m.args...)
		cmd.Cancel = func() error { return cmd.Process.Signal(syscall.SIGTERM) }
		cmd.WaitDelay = 12 * time.Second
		cmd.Env = append(os.Environ(), clockFileVariable+"="+m.clock)
		cmd.Stdout, cmd.Stderr = os.Stdout, os.Stderr
		// Ctrl-C comes to all processes of the terminal; each node is told
		// once, by us. Were we killed, the nodes would end too.
		cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGTERM}
		err := cmd.Run()
		if ctx.Err() != nil {
			return
		}
		fmt.Fprintf(os.Stderr, "demo: %s ended (%v); it is started again in %s\n", m.name, err, restartAfter)
		select {
		case <-ctx.Done():
		case <-time.After(restartAfter):
		}
	}
}

// shift has the node's time of day be so much later. A node that was killed
// meanwhile takes it on when it is there again.
func (m *member) shift(ctx context.Context, by time.Duration) {
	ctx, cancel := context.WithTimeout(ctx, shiftTime)
	defer cancel()
	if err := clock.Lead(ctx, m.clock, by); err != nil {
		slog.Warn("the clock of a node of the demo cannot be set", "node", m.name, "error", err)
	}
}

// token waits for the node's token.
func (m *member) token(ctx context.Context) (string, error) {
	for range 300 {
		if b, err := os.ReadFile(filepath.Join(m.dir, "owner.token")); err == nil && len(b) > 0 {
			return strings.TrimSpace(string(b)), nil
		}
		select {
		case <-ctx.Done():
			return "", ctx.Err()
		case <-time.After(100 * time.Millisecond):
		}
	}
	return "", fmt.Errorf("%s does not start", m.name)
}

// allUp waits until all nodes answer each other, so that the demo's topics get
// their replicas.
func allUp(ctx context.Context, servers, token string, count int) error {
	api, err := client.New(servers, token)
	if err != nil {
		return err
	}
	for range 300 {
		var cluster client.Cluster
		if err = api.Call(ctx, http.MethodGet, "/nodes", nil, nil, &cluster); err == nil {
			up := 0
			for _, n := range cluster.Nodes {
				if n.Up {
					up++
				}
			}
			if up >= count {
				return nil
			}
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(100 * time.Millisecond):
		}
	}
	return errors.Join(fmt.Errorf("the %d nodes do not find each other", count), err)
}
