// Package cluster is what the nodes are to each other: how a node becomes a
// member, what it reports of itself, who leads, what the loss of nodes would
// mean, and how logs are compared and partitions recovered by force. It may be
// called at once by many.
package cluster

import (
	"context"
	"crypto/tls"
	"sync"
	"sync/atomic"

	"steadyferry/internal/core/admit"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/part"
	"steadyferry/internal/engine/replica"
)

// answerCluster has what other nodes ask of leaders and logs answered.
func (cl *Cluster) answer() {
	cl.parts.HandleAt("lead", cl.answerLead)
	part.AnswerHeld(cl.parts, "digest", cl.digest)
	part.AnswerHeld(cl.parts, "log", func(_ *part.Partition, g *replica.Group, _ struct{}) (logState, error) { return stateOf(g), nil })
}

// OnDuty runs what one node of the cluster does at a time.
func (cl *Cluster) OnDuty(ctx context.Context, duties ...func(context.Context)) {
	cl.onDuty.Store(true)
	defer cl.onDuty.Store(false)
	var running sync.WaitGroup
	defer running.Wait()
	for _, duty := range duties {
		running.Go(func() { duty(ctx) })
	}
}

// IsOnDuty reports whether this node alone holds the duties of the cluster.
func (cl *Cluster) IsOnDuty() bool { return cl.onDuty.Load() }

// Cluster is this node's part in the cluster.
type Cluster struct {
	parts   *part.Registry
	catalog *catalog.Catalog
	peers   part.Network
	id      uint64
	version string
	tls     *tls.Config // between nodes; nil: plain
	Streams *admit.Slots
	onDuty  atomic.Bool
}

// New returns the service and registers what it answers of other nodes. Version
// is that of the program, between how nodes talk, streams what is open for long on this node.
func New(parts *part.Registry, records *catalog.Catalog, version string, between *tls.Config, streams *admit.Slots) *Cluster {
	cl := &Cluster{parts: parts, catalog: records, peers: parts.Peers(), id: parts.ID(), version: version, tls: between, Streams: streams}
	cl.answer()
	return cl
}
