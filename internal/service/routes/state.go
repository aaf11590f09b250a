package routes

import (
	"context"
	"maps"
	"sync"
	"time"

	"github.com/google/uuid"

	"steadyferry/internal/core/route"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/part"
	"steadyferry/internal/engine/peer"
)

// State is how a route is on one partition of its source, as the node tells that
// leads it.
type State struct {
	Partition int         `json:"partition"`
	Floor     route.Place `json:"floor"`
	End       int64       `json:"end"`
	Left      int64       `json:"left"`    // messages still to be decided
	Reached   int64       `json:"reached"` // offset before which everything is sent; -1: not known yet
	Lost      int64       `json:"lost"`    // that retention took before they were
	Cuts      int         `json:"cuts"`
	Passed    int64       `json:"passed"` // decided since the node leads the partition
	Sent      int64       `json:"sent"`   // of those
	Dead      int64       `json:"dead"`   // of those that became dead letters
	Waits     Waiting     `json:"waits"`
}

// states is how the routes of a carrier are, for those who ask.
type states struct {
	mu sync.Mutex
	of map[uuid.UUID]State
	at time.Time
	// Those that wait: few, of however many.
	wait map[uuid.UUID]Waiting
}

const statesEvery = 100 * time.Millisecond

func (s *states) put(c *carrier) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if time.Since(s.at) < statesEvery {
		return
	}
	if s.at = time.Now(); s.of == nil {
		s.of, s.wait = map[uuid.UUID]State{}, map[uuid.UUID]Waiting{}
	}
	clear(s.wait)
	if len(s.of) > len(c.walkers) {
		clear(s.of)
	}
	for id, w := range c.walkers {
		one := State{Reached: -1, Partition: c.p.Number, Passed: w.passed, Sent: w.sent, Dead: w.dead, Waits: w.standing()}
		if plan := w.walk.Plan(); plan != nil {
			one.Floor, one.End, one.Lost, one.Cuts = plan.Floor, w.end, plan.Lost, len(plan.Cuts)
			// The log has floors twice a second; the walk knows better.
			now := *plan
			if floor, known := w.walk.Floor(); known && !floor.Before(plan.Floor) {
				now.Floor = floor
			}
			one.Left = now.Left(one.End)
			one.Reached = now.Floor.Offset
		}
		if s.of[id] = one; one.Waits.Reason != "" {
			s.wait[id] = one.Waits
		}
	}
}

func (s *states) one(id uuid.UUID) (State, bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	one, known := s.of[id]
	return one, known
}

func (s *states) waiting() map[uuid.UUID]Waiting {
	s.mu.Lock()
	defer s.mu.Unlock()
	return maps.Clone(s.wait)
}

// here returns how a route is on the partitions of a channel that this node leads.
func (rs *Routes) here(channel int64, id uuid.UUID) []State {
	rs.mu.Lock()
	defer rs.mu.Unlock()
	all := []State{}
	for p, c := range rs.carriers {
		if p.Channel.ID != channel {
			continue
		}
		if s, known := c.states.one(id); known {
			all = append(all, s)
		}
	}
	return all
}

type statesQuestion struct {
	Channel int64     `json:"channel"`
	Route   uuid.UUID `json:"route"`
}

func (rs *Routes) answerStates(_ context.Context, _ uint64, q statesQuestion) ([]State, error) {
	return rs.here(q.Channel, q.Route), nil
}

// States returns how a route is on the partitions of its source, by their number;
// those that no node tells of are left out.
func (rs *Routes) States(ctx context.Context, channel int64, id uuid.UUID) map[int]State {
	all := map[int]State{}
	for _, s := range rs.here(channel, id) {
		all[s.Partition] = s
	}
	for _, answer := range peer.AskEach[[]State](ctx, rs.parts.Peers(), rs.parts.OtherNodes(), "routes", statesQuestion{channel, id}) {
		for _, s := range answer {
			all[s.Partition] = s
		}
	}
	return all
}

// reachedHere tells the offset before which a route has sent everything of a partition
// that this node leads, as of a moment ago.
func (rs *Routes) reachedHere(g *catalog.Group, p *part.Partition) (offset int64, known bool) {
	rs.mu.Lock()
	c := rs.carriers[p]
	rs.mu.Unlock()
	if c == nil || g.Route == nil {
		return 0, false
	}
	s, known := c.states.one(g.Route.ID)
	return s.Reached, known && s.Reached >= 0
}

// Here returns how each route is on the partitions of its source that this node leads.
func (rs *Routes) Here() map[*catalog.Group][]State {
	view := rs.catalog.View()
	all := map[*catalog.Group][]State{}
	rs.mu.Lock()
	defer rs.mu.Unlock()
	for p, c := range rs.carriers {
		for _, g := range view.Routes[p.Channel.ID] {
			if s, known := c.states.one(g.Route.ID); known {
				all[g] = append(all[g], s)
			}
		}
	}
	return all
}

// Doing is how a route does on all partitions of its source together.
type Doing struct {
	Waits Waiting `json:"waits"` // what it has waited for the longest, unless that is somebody's wish
	Sent  int64   `json:"sent"`  // since nodes lead the partitions: less than before when others lead
}

// join adds how a route does on other partitions.
func (d Doing) join(other Doing) Doing {
	d.Sent += other.Sent
	if w := other.Waits; w.Reason != "" && w.Reason != waitsPaused && (d.Waits.Reason == "" || w.Since.Before(d.Waits.Since)) {
		d.Waits = w
	}
	return d
}

// doingHere is how routes do on partitions that this node leads, by their groups' ids.
func (rs *Routes) doingHere() map[int64]Doing {
	all := map[int64]Doing{}
	for g, states := range rs.Here() {
		d := Doing{}
		for _, s := range states {
			d = d.join(Doing{Waits: s.Waits, Sent: s.Sent})
		}
		all[g.ID] = d
	}
	return all
}

// Doing returns how routes do on all nodes that answer, by their groups' ids.
func (rs *Routes) Doing(ctx context.Context) map[int64]Doing {
	all := rs.doingHere()
	for _, answer := range peer.AskEach[map[int64]Doing](ctx, rs.parts.Peers(), rs.parts.OtherNodes(), "how routes do", struct{}{}) {
		for id, d := range answer {
			all[id] = all[id].join(d)
		}
	}
	return all
}
