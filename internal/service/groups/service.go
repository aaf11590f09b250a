// Package groups is consumer groups: who has joined, which partitions each
// member reads, what is committed, how far behind they are, and how offsets are
// moved by hand. One node coordinates each group; calls reach it from any other.
// It may be called at once by many.
package groups

import (
	"sync"
	"time"

	"steadyferry/internal/core/proof"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/part"
	"steadyferry/internal/service/cluster"
	"steadyferry/internal/service/queues"
)

// Groups is the consumer groups of the cluster.
type Groups struct {
	parts   *part.Registry
	cluster *cluster.Cluster
	queues  *queues.Queues
	catalog *catalog.Catalog
	peers   part.Network
	id      uint64
	groups  *coordinators
	commits *committer
	offsets *mirror
	tended  time.Time // when the groups that this node coordinates were looked at last
	reached ReachedHere
	proofs  func() *proof.Key // proves to whom ids of members were given
}

// ReachedHere tells the offset before which a route has sent everything of a partition that
// this node leads, as of a moment ago.
type ReachedHere func(route *catalog.Group, p *part.Partition) (offset int64, known bool)

// Routes has the lag of routes be by what the node knows that does their work, as far as
// that is this one; the records come twice a second. It is called before the service is used.
func (gs *Groups) Routes(reached ReachedHere) { gs.reached = reached }

// New returns the service and registers what it answers of other nodes.
func New(parts *part.Registry, records *catalog.Catalog, cl *cluster.Cluster, qs *queues.Queues) *Groups {
	proofs := sync.OnceValue(func() *proof.Key { return proof.New(records.View().Cluster.Secret, "members") })
	gs := &Groups{proofs: proofs, parts: parts, cluster: cl, queues: qs, catalog: records, peers: parts.Peers(), id: parts.ID(),
		groups: newCoordinators(), commits: &committer{catalog: records}, offsets: newMirror(), tended: time.Now()}
	gs.answer()
	return gs
}
