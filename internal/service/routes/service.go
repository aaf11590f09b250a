// Package routes is the service's own readers: each copies what fulfils a condition
// from one channel to another, exactly once, or to an endpoint. It makes routes, has the leaders of
// their sources do the work, and tells how they are. What is sent is decided by
// plans in the logs (core/route); here is what carries them out. It may be called at
// once by many.
package routes

import (
	"context"
	"log/slog"
	"sync"
	"time"

	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/part"
	"steadyferry/internal/engine/peer"
	"steadyferry/internal/engine/replica"
	"steadyferry/internal/service/endpoints"
	"steadyferry/internal/service/groups"
	"steadyferry/internal/service/queues"
)

// Routes are the routes of the cluster.
type Routes struct {
	parts   *part.Registry
	catalog *catalog.Catalog
	groups  *groups.Groups
	queues  *queues.Queues
	outside *endpoints.Endpoints

	mu       sync.Mutex // guards carriers and places
	carriers map[*part.Partition]*carrier
	places   map[placeKey]catalog.RoutePlace // to be recorded

	stalls map[string]stall // by address; of Record alone
}

type placeKey struct {
	group     int64
	partition int
}

// New returns the service and registers what it answers of other nodes.
func New(parts *part.Registry, records *catalog.Catalog, gs *groups.Groups, qs *queues.Queues, outside *endpoints.Endpoints) *Routes {
	rs := &Routes{parts: parts, catalog: records, groups: gs, queues: qs, outside: outside, carriers: map[*part.Partition]*carrier{}, places: map[placeKey]catalog.RoutePlace{}, stalls: map[string]stall{}}
	peer.Answer(&parts.Calls, "routes", rs.answerStates)
	peer.Answer(&parts.Calls, "how routes do", func(context.Context, uint64, struct{}) (map[int64]Doing, error) { return rs.doingHere(), nil })
	gs.Routes(rs.reachedHere)
	return rs
}

// TendEvery is how often a node looks which partitions it leads for routes.
const TendEvery = 100 * time.Millisecond

// Tend has a carrier work at each partition with routes that this node leads.
func (rs *Routes) Tend(ctx context.Context) {
	view := rs.catalog.View()
	for channel, routes := range view.Routes {
		t := rs.parts.ByID(channel)
		if t == nil {
			continue
		}
		rs.tend(ctx, t)
		for _, g := range routes {
			if ch := view.DeadOf[g.ID]; ch != nil {
				if q := rs.parts.ByID(ch.ID); q != nil {
					rs.tend(ctx, q)
				}
			}
		}
	}
}

func (rs *Routes) tend(ctx context.Context, t *part.Channel) {
	for _, p := range t.Partitions() {
		if rs.parts.Leads(p) {
			rs.begin(ctx, p)
		}
	}
}

// begin starts the carrier of a partition, if none is at work.
func (rs *Routes) begin(ctx context.Context, p *part.Partition) {
	g := p.Replica()
	if g == nil {
		return
	}
	rs.mu.Lock()
	defer rs.mu.Unlock()
	if rs.carriers[p] != nil {
		return
	}
	c := newCarrier(rs, p, g)
	rs.carriers[p] = c
	rs.parts.Go(func() {
		c.run(ctx)
		rs.mu.Lock()
		delete(rs.carriers, p)
		rs.mu.Unlock()
	})
}

// still reports whether the replica is the one that leads the partition here.
func (rs *Routes) still(p *part.Partition, g *replica.Group) bool {
	return p.Replica() == g && rs.parts.Leads(p)
}

// reached notes how far a route is, for those who look at its lag.
func (rs *Routes) reached(g *catalog.Group, partition int, offset int64) {
	rs.mu.Lock()
	rs.places[placeKey{g.ID, partition}] = catalog.RoutePlace{Group: g.ID, Partition: partition, Offset: offset}
	rs.mu.Unlock()
}

// RecordEvery is how often places of routes are recorded.
const RecordEvery = 500 * time.Millisecond

// Record writes how far routes are into the catalog, and notes which stand still.
func (rs *Routes) Record(ctx context.Context) {
	rs.noteStalls(time.Now())
	rs.mu.Lock()
	places := rs.places
	rs.places = map[placeKey]catalog.RoutePlace{}
	rs.mu.Unlock()
	if len(places) == 0 {
		return
	}
	all := make([]catalog.RoutePlace, 0, len(places))
	for _, p := range places {
		all = append(all, p)
	}
	if err := rs.catalog.RoutePlaces(ctx, all); err != nil && ctx.Err() == nil {
		slog.Debug("places of routes were not recorded", "error", err)
		rs.mu.Lock()
		for key, p := range places {
			if _, newer := rs.places[key]; !newer {
				rs.places[key] = p
			}
		}
		rs.mu.Unlock()
	}
}
