// Package queues is work that is handed out under leases: publishing is that of
// part; what is leased, settled, put off, dead and edited is here. Each
// partition's state is a machine over its log; calls go to the partition's
// leader, wherever it is. It may be called at once by many.
package queues

import (
	"sync"

	"steadyferry/internal/core/proof"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/part"
)

// answerQueues has what other nodes ask of queues answered.
func (qs *Queues) answer() {
	qs.parts.HandleAt("await", qs.answerAwait)
	qs.parts.HandleAt("work", qs.answerWork)
	qs.parts.HandleAt("queue", qs.answerAsk)
}

// Queues hands out the messages of queues.
type Queues struct {
	parts   *part.Registry
	catalog *catalog.Catalog
	peers   part.Network
	id      uint64
	leases  func() *proof.Key // proves to whom they were given
}

// New returns the service, and registers what queues do otherwise than topics
// and what it answers of other nodes.
func New(parts *part.Registry, records *catalog.Catalog) *Queues {
	qs := &Queues{parts: parts, catalog: records, peers: parts.Peers(), id: parts.ID()}
	qs.leases = sync.OnceValue(func() *proof.Key { return proof.New(records.View().Cluster.Secret, "leases") })
	parts.Register(catalog.KindQueue, qs.kind())
	qs.answer()
	return qs
}
