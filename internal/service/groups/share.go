package groups

import (
	"context"
	"encoding/json"
	"errors"
	"time"

	"steadyferry/internal/core/group"
)

// shareChange is a change of who reads what, on its way into the records.
type shareChange struct {
	apply func(*group.Table) error
	done  chan error
}

// change changes who reads what, in the records first. Changes that come
// together are recorded together.
func (c *coordinator) change(ctx context.Context, apply func(*group.Table) error) error {
	w := &shareChange{apply: apply, done: make(chan error, 1)}
	c.mu.Lock()
	if err := c.desk.Over(); err != nil {
		c.mu.Unlock()
		return err
	}
	c.pending = append(c.pending, w)
	if !c.writing {
		c.writing = true
		go c.write()
	}
	c.mu.Unlock()
	select {
	case err := <-w.done:
		return err
	case <-ctx.Done():
		return ctx.Err()
	}
}

func (c *coordinator) write() {
	for {
		c.mu.Lock()
		pending := c.pending
		c.pending = nil
		if len(pending) == 0 {
			c.writing = false
			c.mu.Unlock()
			return
		}
		next := c.desk.Next(c.partitions())
		c.mu.Unlock()
		results := make([]error, len(pending))
		for i, w := range pending {
			results[i] = w.apply(next)
		}
		next.Balance(time.Now())
		err := c.record(next)
		if errors.Is(err, group.ErrOver) && !c.inDoubt() {
			c.gs.groups.drop(c)
		}
		for i, w := range pending {
			w.done <- errors.Join(err, results[i])
		}
	}
}

// record records a table and shows it, unless what it was made from is in doubt by
// now: it would undo a seek that is in the records.
func (c *coordinator) record(next *group.Table) error {
	if err := with(c, (*group.Desk).Over); err != nil {
		return err
	}
	shares, err := json.Marshal(next)
	if err == nil {
		err = c.gs.catalog.SetShares(context.Background(), c.group, c.epoch, shares)
	}
	if err == nil {
		c.show(next)
	}
	return err
}

// partitions returns how many partitions the group's topic has.
func (c *coordinator) partitions() int {
	if g := c.gs.catalog.View().GroupIDs[c.group]; g != nil {
		if t := c.gs.parts.ByID(g.ChannelID); t != nil {
			return t.Record().Partitions
		}
	}
	return 0
}

// show makes a table that is recorded the one in force, and tells those whose
// share it changes.
func (c *coordinator) show(next *group.Table) {
	c.mu.Lock()
	c.desk.Show(next, time.Now())
	c.mu.Unlock()
	c.changed.Broadcast()
}
