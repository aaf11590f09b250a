package routes

import (
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
	for g, states := range rs.Here() {
		source := rs.parts.ByID(g.ChannelID)
		if source == nil {
			continue
		}
		for _, s := range states {
			name := part.GroupAddress(source, g.Name).String()
			// A pause is somebody's wish, and is an event as such.
			if w := s.Waits; w.Reason != "" && w.Reason != waitsPaused && now.Sub(w.Since) >= stalledAfter {
				if _, known := is[name]; !known {
					is[name] = stall{w.Reason, w.Since}
				}
				if was := rs.stalls[name]; was.reason != w.Reason {
					rs.stalls[name] = is[name]
					rs.outside.Happened(name, "stalled", w.Reason+": "+w.Why)
				}
			}
		}
	}
	for name, was := range rs.stalls {
		if _, still := is[name]; !still {
			delete(rs.stalls, name)
			rs.outside.Happened(name, "goes-on", "after "+address.FormatDuration(now.Sub(was.since).Round(time.Second)))
		}
	}
}
