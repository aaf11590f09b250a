package routes

import (
	"iter"
	"maps"
	"time"

	"steadyferry/internal/core/address"
	"steadyferry/internal/engine/part"
)

// stalledAfter is how long a route waits before that is an event.
const stalledAfter = 3 * time.Second

// stall is that a route stands still, as was noted.
type stall struct {
	reason string
	since  time.Time
}

// noteStalls notes which routes have come to stand still on partitions that this node
// leads, and which go on.
func (rs *Routes) noteStalls(now time.Time) {
	is := map[string]stall{}
	for name, w := range rs.waiting() {
		// A pause is somebody's wish, and is an event as such.
		if w.Reason == waitsPaused || now.Sub(w.Since) < stalledAfter {
			continue
		}
		if _, known := is[name]; !known {
			is[name] = stall{w.Reason, w.Since}
		}
		if rs.stalls[name].reason != w.Reason {
			rs.stalls[name] = is[name]
			rs.outside.Happened(name, "stalled", w.Reason+": "+w.Why)
		}
	}
	for name, was := range rs.stalls {
		if _, still := is[name]; !still {
			delete(rs.stalls, name)
			rs.outside.Happened(name, "goes-on", "after "+address.FormatDuration(now.Sub(was.since).Round(time.Second)))
		}
	}
}

// waiting goes through the routes that wait on partitions that this node leads, by their
// addresses: a route comes once for each.
func (rs *Routes) waiting() iter.Seq2[string, Waiting] {
	return func(yield func(string, Waiting) bool) {
		view := rs.catalog.View()
		rs.mu.Lock()
		carriers := maps.Clone(rs.carriers)
		rs.mu.Unlock()
		for p, c := range carriers {
			wait := c.states.waiting()
			if len(wait) == 0 {
				continue
			}
			for _, g := range view.Routes[p.Channel.ID] {
				if w, waits := wait[g.Route.ID]; waits && !yield(part.GroupAddress(p.Channel, g.Name).String(), w) {
					return
				}
			}
		}
	}
}
