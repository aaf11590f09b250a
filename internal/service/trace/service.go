// Package trace tells the story of one message: when it was published, who read
// it, how work on it went, and where it was sent again. It may be called at once
// by many.
package trace

import (
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/part"
	"steadyferry/internal/service/groups"
	"steadyferry/internal/service/look"
	"steadyferry/internal/service/publishers"
	"steadyferry/internal/service/queues"
	"steadyferry/internal/service/routes"
)

// Traces finds the stories of messages.
type Traces struct {
	parts      *part.Registry
	queues     *queues.Queues
	groups     *groups.Groups
	look       *look.Look
	routes     *routes.Routes
	publishers *publishers.Publishers
	catalog    *catalog.Catalog
}

// New returns the service.
func New(parts *part.Registry, records *catalog.Catalog, qs *queues.Queues, gs *groups.Groups, lk *look.Look, rs *routes.Routes, ps *publishers.Publishers) *Traces {
	return &Traces{parts: parts, queues: qs, groups: gs, look: lk, routes: rs, catalog: records, publishers: ps}
}
