// Package replays sends messages again: dead letters back to their queue, or
// stretches of a topic to another, at a pace and with edits. A replay is a job,
// each of whose steps is recorded before its effect. It may be called at once by
// many.
package replays

import (
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/part"
	"steadyferry/internal/service/groups"
	"steadyferry/internal/service/jobs"
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
	jobs    *jobs.Jobs
	kind    *jobs.Kind[Spec, progress]
}

// New returns the service, and has jobs know how replays are run.
func New(parts *part.Registry, records *catalog.Catalog, js *jobs.Jobs, qs *queues.Queues, gs *groups.Groups, lk *look.Look) *Replays {
	rs := &Replays{parts: parts, queues: qs, groups: gs, look: lk, catalog: records, jobs: js}
	rs.kind = rs.newKind()
	jobs.Register(js, rs.kind)
	return rs
}
