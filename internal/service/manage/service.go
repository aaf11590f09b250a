// Package manage makes, changes and removes spaces and channels, says before
// what a change would do, and looks after what is left of those that are gone.
// It may be called at once by many.
package manage

import (
	"time"

	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/part"
	"steadyferry/internal/service/cluster"
	"steadyferry/internal/service/moves"
	"steadyferry/internal/service/queues"
)

// Manage changes spaces and channels.
type Manage struct {
	parts       *part.Registry
	queues      *queues.Queues
	cluster     *cluster.Cluster
	moves       *moves.Moves
	catalog     *catalog.Catalog
	peers       part.Network
	id          uint64
	keepRemoved time.Duration
}

// New returns the service and registers what it answers of other nodes. What
// is removed can be brought back for keepRemoved.
func New(parts *part.Registry, records *catalog.Catalog, qs *queues.Queues, cl *cluster.Cluster, mv *moves.Moves, keepRemoved time.Duration) *Manage {
	mg := &Manage{parts: parts, queues: qs, cluster: cl, moves: mv, catalog: records, peers: parts.Peers(), id: parts.ID(), keepRemoved: keepRemoved}
	mg.answer()
	return mg
}
