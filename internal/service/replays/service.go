// Package replays sends messages again: dead letters back to their queue, or
// stretches of a topic to another, at a pace and with edits. A replay is a
// record; the node on duty runs it, writes down each step before its effect, and
// another node goes on where it stopped. It may be called at once by many.
package replays

import (
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/part"
	"steadyferry/internal/service/groups"
	"steadyferry/internal/service/look"
	"steadyferry/internal/service/queues"
)

// Replays runs replays.
type Replays struct {
	parts   *part.Registry
	queues  *queues.Queues
	groups  *groups.Groups
	look    *look.Look
	catalog *catalog.Catalog
}

// New returns the service.
func New(parts *part.Registry, records *catalog.Catalog, qs *queues.Queues, gs *groups.Groups, lk *look.Look) *Replays {
	return &Replays{parts: parts, queues: qs, groups: gs, look: lk, catalog: records}
}
