package main

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync/atomic"
	"time"

	"golang.org/x/sync/errgroup"

	"steadyferry/client"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/group"
	"steadyferry/internal/core/message"
	"steadyferry/internal/engine/catalog"
)

// Sizes of the measurements of groups.
const (
	benchMembers  = 200
	benchGroups   = 500
	commitSpan    = 5 * time.Second
	readMessages  = 6_000_000
	lagPartitions = 20
)

func groupOf(topic, name string) address.Address {
	a := address.Channel("bench", topic)
	a.Group = name
	return a
}

// measureGroups measures commits, lag and reading as a group.
func (b *bench) measureGroups(rounds int) error {
	for name, partitions := range map[string]int{"members": benchMembers, "lagging": lagPartitions, "sharing": lagPartitions} {
		if err := b.newTopic(name, partitions); err != nil {
			return err
		}
	}
	if err := b.fillTopic("members", benchMembers, 20_000); err != nil {
		return err
	}
	if err := b.fillTopic("lagging", lagPartitions, 1000); err != nil {
		return err
	}
	if _, err := b.load("bench/six", "-count", fmt.Sprint(readMessages), "-publishers", "4"); err != nil {
		return err
	}
	for i := range benchGroups {
		if err := b.api.Call(b.ctx, http.MethodPost, client.ChannelPath(address.Channel("bench", "lagging"))+"/groups", nil, client.NewGroup{Group: fmt.Sprintf("g%d", i)}, nil); err != nil {
			return err
		}
	}
	for round := range rounds {
		fmt.Fprintf(os.Stderr, "groups, round %d of %d\n", round+1, rounds)
		for _, step := range []func() error{b.statements, b.commits, b.lag, b.plainFetch, b.groupRead, b.shares} {
			if err := step(); err != nil {
				return err
			}
		}
	}
	row := func(name, value, compared string) { fmt.Printf("%-44s %18s   %s\n", name, value, compared) }
	fmt.Println()
	row("reference: a statement for each commit", fmt.Sprintf("%.0f/s", b.median("one commit")), "16 connections, without HTTP")
	row(fmt.Sprintf("%d commits a statement", benchMembers), fmt.Sprintf("%.0f/s", b.median("gathered")), fmt.Sprintf("%.1f times the reference", b.median("gathered")/b.median("one commit")))
	row(fmt.Sprintf("commits of %d members over HTTP", benchMembers), fmt.Sprintf("%.0f/s", b.median("commits")), fmt.Sprintf("%.1f times the reference", b.median("commits")/b.median("one commit")))
	row(fmt.Sprintf("lag of %d groups x %d partitions", benchGroups, lagPartitions), fmt.Sprintf("%.0f ms", b.median("lag")), fmt.Sprintf("ferry lag -json as a whole %.0f ms", b.median("ferry lag")))
	row("reference: fetch of 6 partitions", fmt.Sprintf("%.0f/s", b.median("plain fetch")), "")
	row("the same as a group, with commits", fmt.Sprintf("%.0f/s", b.median("group read")), fmt.Sprintf("%.0f%% of the fetch", 100*b.median("group read")/b.median("plain fetch")))
	row("a new member has its share", fmt.Sprintf("%.0f ms", b.median("first share")), fmt.Sprintf("%.0f ms when others must give up theirs", b.median("later share")))
	return nil
}

func (b *bench) fillTopic(name string, partitions, each int) error {
	var builder message.Builder
	for range each {
		builder.Add(&message.Message{Body: []byte("x")})
	}
	batch := builder.Build(message.Plain, nil)
	for p := range partitions {
		if _, err := b.api.Publish(b.ctx, address.Channel("bench", name), p, client.BatchType, nil, batch); err != nil {
			return err
		}
	}
	return nil
}

// statements is the reference, without HTTP: every commit is a statement of
// its own, and then those of all members together are one.
func (b *bench) statements() error {
	url, err := os.ReadFile(filepath.Join(b.dir, "database.url"))
	if err != nil {
		return err
	}
	records, err := catalog.Open(b.ctx, strings.TrimSpace(string(url)), func(catalog.Delta) {})
	if err != nil {
		return err
	}
	defer records.Close()
	a := groupOf("members", fmt.Sprintf("statements-%d", len(b.values["one commit"])))
	if err := b.api.Call(b.ctx, http.MethodPost, client.ChannelPath(a)+"/groups", nil, client.NewGroup{Group: a.Group}, nil); err != nil {
		return err
	}
	if err := records.Reload(b.ctx); err != nil {
		return err
	}
	var id int64
	for _, g := range records.View().GroupIDs {
		if g.Name == a.Group {
			id = g.ID
		}
	}
	from, err := records.TakeOver(b.ctx, id)
	if err != nil {
		return err
	}
	var count atomic.Int64
	record := func(commits []catalog.Commit) error {
		refused, err := records.Commits(b.ctx, commits)
		if err == nil && len(refused) > 0 {
			err = group.ErrOver
		}
		count.Add(int64(len(commits)))
		return err
	}
	err = b.during(commitSpan, benchMembers, func(_ context.Context, i, n int) error {
		return record([]catalog.Commit{{Group: id, Epoch: from.Epoch, Partition: i, Offset: int64(n)}})
	})
	b.note("one commit", float64(count.Load())/commitSpan.Seconds())
	if err != nil {
		return err
	}
	count.Store(0)
	err = b.during(commitSpan, 1, func(_ context.Context, _, n int) error {
		commits := make([]catalog.Commit, benchMembers)
		for i := range commits {
			commits[i] = catalog.Commit{Group: id, Epoch: from.Epoch, Partition: i, Offset: int64(n)}
		}
		return record(commits)
	})
	b.note("gathered", float64(count.Load())/commitSpan.Seconds())
	return err
}

// during lets many do something again and again for a while.
func (b *bench) during(span time.Duration, many int, do func(ctx context.Context, i, n int) error) error {
	ctx, cancel := context.WithTimeout(b.ctx, span)
	defer cancel()
	var all errgroup.Group
	for i := range many {
		all.Go(func() error {
			for n := 1; ctx.Err() == nil; n++ {
				if err := do(ctx, i, n); err != nil && ctx.Err() == nil {
					return err
				}
			}
			return nil
		})
	}
	return all.Wait()
}

func (b *bench) commits() error {
	a := groupOf("members", fmt.Sprintf("commits-%d", len(b.values["commits"])))
	if err := b.api.Call(b.ctx, http.MethodPost, client.ChannelPath(a)+"/groups", nil, client.NewGroup{Group: a.Group}, nil); err != nil {
		return err
	}
	members := make([]*client.Member, benchMembers)
	for i := range members {
		var err error
		if members[i], err = b.api.Join(b.ctx, a, client.JoinGroup{Timeout: "1m"}); err != nil {
			return err
		}
		for _, m := range members[:i] { // give up what is too much
			if s := m.Share(); len(s.Partitions)+len(s.Leaving) > 1 {
				if err := m.Beat(b.ctx, nil, 0); err != nil {
					return err
				}
			}
		}
	}
	for range 3 {
		for _, m := range members {
			var holds []int
			for _, h := range m.Share().Partitions {
				holds = append(holds, h.Partition)
			}
			if err := m.Beat(b.ctx, holds, 0); err != nil {
				return err
			}
		}
	}
	var count atomic.Int64
	err := b.during(commitSpan, benchMembers, func(ctx context.Context, i, n int) error {
		share := members[i].Share()
		if len(share.Partitions) == 0 {
			return fmt.Errorf("member %d has no partition", i)
		}
		if err := members[i].Commit(ctx, []client.OffsetOf{{Partition: share.Partitions[0].Partition, Offset: int64(n)}}); err != nil {
			return err
		}
		count.Add(1)
		return nil
	})
	b.note("commits", float64(count.Load())/commitSpan.Seconds())
	for _, m := range members {
		if err := m.Leave(b.ctx); err != nil {
			return err
		}
	}
	return err
}

func (b *bench) lag() error {
	began := time.Now()
	groups, err := b.api.Lag(b.ctx, address.Channel("bench", "lagging"))
	if err != nil || len(groups) != benchGroups {
		return fmt.Errorf("%d groups: %w", len(groups), err)
	}
	b.note("lag", float64(time.Since(began).Milliseconds()))
	cmd := exec.CommandContext(b.ctx, "bin/ferry", "lag", "bench/lagging", "-json")
	cmd.Env = b.env
	began = time.Now()
	out, err := cmd.Output()
	b.note("ferry lag", float64(time.Since(began).Milliseconds()))
	if lines := strings.Count(string(out), "\n"); lines != benchGroups*lagPartitions || !json.Valid(out[:strings.IndexByte(string(out), '\n')]) {
		return fmt.Errorf("ferry lag: %d lines", lines)
	}
	return err
}

// fetchBytes is the size of a fetch, as a plain one and as that of a group.
const fetchBytes = 1 << 20

func (b *bench) plainFetch() error {
	var count atomic.Int64
	began := time.Now()
	var all errgroup.Group
	for p := range 6 {
		all.Go(func() error {
			buffer := make([]byte, 2*fetchBytes)
			for next := int64(0); ; {
				f, err := b.api.Fetch(b.ctx, address.Channel("bench", "six"), p, address.Position{Kind: address.AtOffset, Offset: next}, fetchBytes, 0, buffer)
				if err != nil || len(f.Records) == 0 {
					return err
				}
				count.Add(f.Next - next)
				next = f.Next
			}
		})
	}
	err := all.Wait()
	b.note("plain fetch", float64(count.Load())/time.Since(began).Seconds())
	return err
}

func (b *bench) groupRead() error {
	total := int64(0)
	var topic client.Channel
	if err := b.api.Call(b.ctx, http.MethodGet, client.ChannelPath(address.Channel("bench", "six")), nil, nil, &topic); err != nil {
		return err
	}
	r, err := b.api.ReadGroup(b.ctx, groupOf("six", fmt.Sprintf("reads-%d", len(b.values["group read"]))), client.ReadOptions{MaxBytes: fetchBytes, JoinGroup: client.JoinGroup{From: "first"}})
	if err != nil {
		return err
	}
	defer r.Close(b.ctx)
	began := time.Now()
	for total < topic.Messages {
		batch, err := r.Next(b.ctx)
		if err != nil {
			return err
		}
		total += batch.Next - batch.From
		r.Done(batch, true)
	}
	b.note("group read", float64(total)/time.Since(began).Seconds())
	return nil
}

// shares measures how long a new member waits for its share.
func (b *bench) shares() error {
	a := groupOf("sharing", fmt.Sprintf("shares-%d", len(b.values["first share"])))
	wait := func() (*client.GroupReader, error) {
		has := make(chan struct{}, 100)
		began := time.Now()
		r, err := b.api.ReadGroup(b.ctx, a, client.ReadOptions{JoinGroup: client.JoinGroup{From: "end"}, Changed: func(m *client.Membership) {
			if len(m.Partitions) >= lagPartitions/2 {
				has <- struct{}{}
			}
		}})
		if err != nil {
			return nil, err
		}
		<-has
		name := "later share"
		if len(b.values["first share"]) == len(b.values["later share"]) {
			name = "first share"
		}
		b.note(name, float64(time.Since(began).Milliseconds()))
		return r, nil
	}
	for range 2 {
		r, err := wait()
		if err != nil {
			return err
		}
		defer r.Close(b.ctx)
	}
	return nil
}
