// Package look finds messages: those that are there, by place, time and
// condition, and those that come. It may be called at once by many.
package look

import (
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/part"
)

// Look goes through the messages of topics.
type Look struct {
	parts   *part.Registry
	catalog *catalog.Catalog
}

// New returns the service.
func New(parts *part.Registry, records *catalog.Catalog) *Look {
	return &Look{parts: parts, catalog: records}
}
