// Package jobs moves replicas between nodes, step by step: what is asked for is
// a job in the records, which the node on duty brings forward, and another one
// after it. It may be called at once by many.
package jobs

import (
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/part"
	"steadyferry/internal/service/cluster"
)

// Jobs moves replicas.
type Jobs struct {
	parts   *part.Registry
	cluster *cluster.Cluster
	catalog *catalog.Catalog
	peers   part.Network
	id      uint64
}

// New returns the service.
func New(parts *part.Registry, records *catalog.Catalog, cl *cluster.Cluster) *Jobs {
	return &Jobs{parts: parts, cluster: cl, catalog: records, peers: parts.Peers(), id: parts.ID()}
}
