package groups

import (
	"context"
	"encoding/json"
	"errors"
	"time"

	"steadyferry/internal/core/group"
	"steadyferry/internal/engine/catalog"
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
	if c.taken {
		c.mu.Unlock()
		return catalog.ErrTakenOver
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
		next := c.table.Clone()
		c.mu.Unlock()
		if g := c.gs.catalog.View().GroupIDs[c.group]; g != nil {
			if t := c.gs.parts.ByID(g.ChannelID); t != nil {
				next.Grow(t.Record().Partitions)
			}
		}
		results := make([]error, len(pending))
		for i, w := range pending {
			results[i] = w.apply(next)
		}
		next.Balance(time.Now())
		shares, err := json.Marshal(next)
		if err == nil {
			err = c.gs.catalog.SetShares(context.Background(), c.group, c.epoch, shares)
		}
		if err == nil {
			c.show(next)
		}
		if errors.Is(err, catalog.ErrTakenOver) {
			c.gs.groups.drop(c)
		}
		for i, w := range pending {
			w.done <- errors.Join(err, results[i])
		}
	}
}

// show makes a table that is recorded the one in force, and tells those whose
// share it changes.
func (c *coordinator) show(next *group.Table) {
	c.mu.Lock()
	now := time.Now()
	for p, h := range next.Holdings {
		old := group.Holding{}
		if p < len(c.table.Holdings) {
			old = c.table.Holdings[p]
		}
		if h == old {
			continue
		}
		for _, id := range []string{h.Member, old.Member} {
			c.touched[id] = next.Generation
		}
		if h.Member != old.Member || h.Since != old.Since {
			delete(c.sent, p)
		}
	}
	for id := range next.Members {
		if _, ok := c.heard[id]; !ok {
			c.heard[id] = now
			c.touched[id] = next.Generation
		}
	}
	for id := range c.heard {
		if _, ok := next.Members[id]; !ok {
			delete(c.heard, id)
			delete(c.touched, id)
			delete(c.told, id)
		}
	}
	c.table = next
	c.mu.Unlock()
	c.changed.Broadcast()
}
