package groups

import (
	"context"
	"log/slog"
	"maps"
	"slices"
	"time"

	"steadyferry/internal/core/group"
	"steadyferry/internal/engine/catalog"
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
			c.mu.Lock()
			c.desk.Forgive(pause)
			c.mu.Unlock()
		}
		g := view.GroupIDs[c.group]
		if g == nil || gs.coordinatorOf(c.group) != gs.id {
			gs.groups.drop(c)
			continue
		}
		c.tend(ctx, now, g)
	}
}

func (c *coordinator) tend(ctx context.Context, now time.Time, g *catalog.Group) {
	partitions := c.partitions()
	c.mu.Lock()
	due := !c.writing && c.desk.Due(now, partitions)
	c.mu.Unlock()
	if !due {
		return
	}
	go func() {
		ctx, cancel := context.WithTimeout(ctx, 5*time.Second)
		defer cancel()
		if c.inDoubt() {
			// Whoever takes it over from the records hears the members anew.
			_, _ = c.gs.groups.get(ctx, c.gs, g, true)
			return
		}
		var removed []string
		err := c.change(ctx, func(t *group.Table) error {
			// Who has said something meanwhile stays.
			removed = with(c, func(d *group.Desk) []string { return d.Silent(now) })
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
