package main

import (
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"time"

	"steadyferry/client"
	"steadyferry/internal/core/message"
)

// replicated runs the cycle on three nodes, each with a replica, on the same
// two cores, in turn with that on one node.
func (b *bench) replicated() error {
	fmt.Fprintln(os.Stderr, "three replicas")
	n, err := b.startNodes()
	if n != nil {
		defer n.stop()
	}
	if err != nil {
		return err
	}
	replicas := 3
	a, err := n.cluster.newQueue("replicated", client.Settings{"replicas": replicas})
	if err == nil {
		err = n.inStep(3)
	}
	if err != nil {
		return err
	}
	var t client.Channel
	if err := n.cluster.api.Call(b.ctx, http.MethodGet, client.ChannelPath(a), nil, nil, &t); err != nil {
		return err
	}
	// Members speak with the node that leads, as those do that learn it.
	for i, dir := range n.dirs {
		if filepath.Base(dir) == t.Each[0].Leader {
			token, err := os.ReadFile(filepath.Join(n.dirs[0], "owner.token"))
			if err != nil {
				return err
			}
			if n.cluster.api, err = client.New(n.urls[i], strings.TrimSpace(string(token))); err != nil {
				return err
			}
		}
	}
	for range 3 {
		var c cycle
		rate, err := c.run(b.ctx, cycleWorkers, cycleWorkers, cycleSpan, n.cluster.publishBatches(a, 100), n.cluster.workBatches(&c, a, 100))
		if err != nil {
			return err
		}
		b.note("replicated", rate)
		if rate, err = b.cycleOf(100); err != nil {
			return err
		}
		b.note("alone", rate)
	}
	return nil
}

func (b *bench) memory() (float64, error) {
	var live client.Live
	err := b.api.Call(b.ctx, http.MethodGet, "/status", nil, nil, &live)
	return float64(live.Status.MemoryBytes) / (1 << 20), err
}

// standing compares the rate of a queue in which much stands about with that
// of an empty one.
func (b *bench) standing() error {
	fmt.Fprintln(os.Stderr, "standing messages")
	b.stop()
	if err := b.start(); err != nil {
		return err
	}
	a, err := b.newQueue("standing", client.Settings{})
	if err != nil {
		return err
	}
	var c cycle
	rate, err := c.run(b.ctx, cycleWorkers, cycleWorkers, 5*time.Second, b.publishBatches(a, 100), b.workBatches(&c, a, 100))
	if err != nil {
		return err
	}
	b.note("fresh rate", rate)
	time.Sleep(2 * time.Second)
	before, err := b.memory()
	if err != nil {
		return err
	}
	publish := func(count int, terms *message.Terms) error {
		for range count / 1000 {
			if _, err := b.api.Publish(b.ctx, a, 0, client.BatchType, nil, batchOf(1000, terms)); err != nil {
				return err
			}
		}
		return nil
	}
	if err := publish(standing, nil); err != nil {
		return err
	}
	time.Sleep(2 * time.Second)
	after, err := b.memory()
	if err != nil {
		return err
	}
	b.note("memory", after-before)
	other, err := b.newQueue("other", client.Settings{})
	if err != nil {
		return err
	}
	if err := b.reject(other, standingDead); err != nil {
		return err
	}
	// The dead letters must stand in the same queue: they are made of the
	// oldest that wait there.
	if err := b.reject(a, standingDead); err != nil {
		return err
	}
	if err := publish(standing, &message.Terms{NotBefore: time.Now().Add(time.Hour)}); err != nil {
		return err
	}
	reader, err := b.api.OpenWork(b.ctx, a, "a reader that stays", 1)
	if err != nil {
		return err
	}
	if _, err := reader.Next(b.ctx); err != nil {
		return err
	}
	if _, err := c.run(b.ctx, cycleWorkers, cycleWorkers, 55*time.Second, b.publishBatches(a, 100), b.workBatches(&c, a, 100)); err != nil {
		return err
	}
	// In turn with a queue in which nothing stands, since the machine's speed
	// drifts within a minute.
	for range 3 {
		rate, err := c.run(b.ctx, cycleWorkers, cycleWorkers, 5*time.Second, b.publishBatches(a, 100), b.workBatches(&c, a, 100))
		if err != nil {
			return err
		}
		b.note("standing rate", rate)
		empty, err := b.newQueue("empty", client.Settings{})
		if err != nil {
			return err
		}
		var beside cycle
		if rate, err = beside.run(b.ctx, cycleWorkers, cycleWorkers, 5*time.Second, b.publishBatches(empty, 100), b.workBatches(&beside, empty, 100)); err != nil {
			return err
		}
		b.note("empty rate", rate)
	}
	return nil
}
