package groups

import (
	"context"
	"log/slog"
	"maps"
	"slices"
	"time"

	"steadyferry/internal/core/group"
	"steadyferry/internal/engine/part"
)

// Tend removes members that no longer answer, takes partitions from those
// that do not give them up, and lets go of groups that others coordinate.
func (gs *Groups) Tend(ctx context.Context, now time.Time) {
	gs.groups.mu.Lock()
	all := slices.Collect(maps.Values(gs.groups.groups))
	gs.groups.mu.Unlock()
	view := gs.catalog.View()
	// While this process did not run it heard nobody; that is not their fault.
	pause := now.Sub(gs.tended)
	gs.tended = now
	for _, c := range all {
		if pause > time.Second {
			c.forgive(pause)
		}
		g := view.GroupIDs[c.group]
		if g == nil || gs.coordinatorOf(c.group) != gs.id {
			gs.groups.drop(c)
			continue
		}
		c.tend(ctx, now, gs.parts.ByID(g.ChannelID))
	}
}

// forgive adds a time to the sessions of all members.
func (c *coordinator) forgive(pause time.Duration) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for id, at := range c.heard {
		c.heard[id] = at.Add(pause)
	}
}

// silent returns the members that have said nothing in their session time.
func (c *coordinator) silent(now time.Time) (ids []string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for id, m := range c.table.Members {
		if now.Sub(c.heard[id]) > m.Session {
			ids = append(ids, id)
		}
	}
	return ids
}

func (c *coordinator) tend(ctx context.Context, now time.Time, t *part.Channel) {
	silent := c.silent(now)
	c.mu.Lock()
	grown := t != nil && len(c.table.Members) > 0 && t.Record().Partitions > len(c.table.Holdings)
	due := !c.writing && (len(silent) > 0 || grown || c.table.HasOverdue(now))
	c.mu.Unlock()
	if !due {
		return
	}
	go func() {
		ctx, cancel := context.WithTimeout(ctx, 5*time.Second)
		defer cancel()
		var removed []string
		err := c.change(ctx, func(t *group.Table) error {
			removed = c.silent(now) // who has said something meanwhile stays
			for _, id := range removed {
				t.Leave(id)
			}
			t.Overdue(now)
			return nil
		})
		if err == nil && len(removed) > 0 {
			slog.Info("members that no longer answered were removed", "group", c.group, "members", removed)
		}
	}()
}
