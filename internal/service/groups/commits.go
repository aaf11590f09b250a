package groups

import (
	"context"
	"errors"
	"sync"
	"time"

	"steadyferry/internal/core/group"
	"steadyferry/internal/engine/catalog"
)

// committer gathers what groups commit for a moment and records it in one
// statement. While one statement runs, the next gathers, so that the more
// comes in, the more goes together.
type committer struct {
	catalog *catalog.Catalog
	mu      sync.Mutex
	next    *commitBatch    // still gathers
	last    <-chan struct{} // closed when the newest batch is recorded
}

// commitBatch is what one statement records.
type commitBatch struct {
	offsets map[commitKey]catalog.Commit
	done    chan struct{}
	refused map[int64]bool // groups that another node coordinates
	err     error
}

type commitKey struct {
	group     int64
	partition int
}

// commitGather is how long the first one waits for others, and commitMost how
// many go into one statement.
const (
	commitGather = 2 * time.Millisecond
	commitMost   = 10_000
)

// commit records offsets of one group and returns when the database has them.
// While it does not answer, it is tried again until ctx ends: an offset that
// is recorded twice is the same offset.
func (c *committer) commit(ctx context.Context, commits []catalog.Commit) error {
	for {
		b := c.add(commits)
		select {
		case <-b.done:
		case <-ctx.Done():
			return catalog.ErrAway
		}
		if b.err == nil {
			if b.refused[commits[0].Group] {
				return group.ErrOver
			}
			return nil
		}
		if !errors.Is(b.err, catalog.ErrAway) {
			return b.err
		}
		select {
		case <-time.After(100 * time.Millisecond):
		case <-ctx.Done():
			return b.err
		}
	}
}

func (c *committer) add(commits []catalog.Commit) *commitBatch {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.next == nil || len(c.next.offsets) >= commitMost {
		c.next = &commitBatch{offsets: map[commitKey]catalog.Commit{}, done: make(chan struct{})}
		go c.run(c.next, c.last)
		c.last = c.next.done
	}
	for _, m := range commits {
		c.next.offsets[commitKey{m.Group, m.Partition}] = m
	}
	return c.next
}

// run records a batch once the one before it is recorded, so that an older
// offset never comes behind a newer one.
func (c *committer) run(b *commitBatch, before <-chan struct{}) {
	time.Sleep(commitGather)
	if before != nil {
		<-before
	}
	c.mu.Lock()
	if c.next == b {
		c.next = nil
	}
	c.mu.Unlock()
	list := make([]catalog.Commit, 0, len(b.offsets))
	for _, m := range b.offsets {
		list = append(list, m)
	}
	b.refused, b.err = c.catalog.Commits(context.Background(), list)
	close(b.done)
}
