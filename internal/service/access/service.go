// Package access looks after who may get in: the token of the owner that lies in
// the data directory.
package access

import (
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/part"
)

// Access looks after the owner's token of this node.
type Access struct {
	parts   *part.Registry
	catalog *catalog.Catalog
	dir     string
}

// New returns the service; dir is the node's data directory.
func New(parts *part.Registry, records *catalog.Catalog, dir string) *Access {
	return &Access{parts: parts, catalog: records, dir: dir}
}
