package routes

import (
	"context"
	"errors"
	"time"

	"github.com/google/uuid"

	"steadyferry/internal/core/expr"
	"steadyferry/internal/core/journal"
	"steadyferry/internal/core/message"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/route"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/logs"
	"steadyferry/internal/engine/part"
	"steadyferry/internal/engine/replica"
)

// carrier does the work of all routes that read one partition, at its leader: it
// reads the log once for those that stand at the same place, and sends what they
// decide. What it waits for comes back as a call in answers, so that all it knows is
// of one goroutine.
type carrier struct {
	rs      *Routes
	p       *part.Partition
	replica *replica.Group
	queue   bool // messages are taken from it
	log     logs.Log
	buffer  []byte
	scratch []byte

	walkers  map[uuid.UUID]*walker
	order    []*walker
	turn     int
	answers  chan func()
	view     *catalog.View // that the walkers were made from
	followed time.Time
	stepping bool // steps are on their way
	stepped  time.Time
	rising   bool // something was decided since
	states   states
}

const (
	readBytes   = 256 << 10
	followEvery = 500 * time.Millisecond // how often a carrier looks whether targets have grown
	floorEvery  = 500 * time.Millisecond // how often floors are raised
	idleTime    = time.Second
)

func newCarrier(rs *Routes, p *part.Partition, g *replica.Group) *carrier {
	return &carrier{rs: rs, p: p, replica: g, queue: p.Channel.IsQueue(), buffer: make([]byte, readBytes), walkers: map[uuid.UUID]*walker{}, answers: make(chan func(), 64)}
}

// run works until the partition is led elsewhere or has no routes any more.
func (c *carrier) run(ctx context.Context) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	signal := make(chan struct{}, 1)
	defer c.replica.Watch(signal)()
	timer := time.NewTimer(idleTime)
	defer timer.Stop()
	defer c.last()
	for ctx.Err() == nil && c.rs.still(c.p, c.replica) && c.follow(ctx) {
		c.look(ctx)
		busy := false
		if c.queue {
			c.takeMore(ctx)
			busy = c.readTaken(ctx)
		} else {
			busy = c.read(ctx)
		}
		c.flush(ctx)
		c.raiseFloors(ctx)
		c.states.put(c)
		c.take()
		if busy {
			c.rising = true
			continue
		}
		timer.Reset(c.pause())
		select {
		case f := <-c.answers:
			f()
		case <-signal:
		case <-timer.C:
		case <-c.replica.Done():
			return
		case <-ctx.Done():
		}
	}
}

// take takes on all answers that have come.
func (c *carrier) take() {
	for {
		select {
		case f := <-c.answers:
			f()
		default:
			return
		}
	}
}

// answer hands something to the carrier, which may have ended.
func (c *carrier) answer(ctx context.Context, f func()) {
	select {
	case c.answers <- f:
	case <-ctx.Done():
	case <-c.replica.Done():
	}
}

// pause is how long the carrier waits when there is nothing to do.
func (c *carrier) pause() time.Duration {
	pause := idleTime
	now := time.Now()
	for _, w := range c.order {
		if !w.again.IsZero() {
			pause = min(pause, w.again.Sub(now))
		}
	}
	if c.rising {
		pause = min(pause, c.stepped.Add(floorEvery).Sub(now))
	}
	return max(pause, time.Millisecond)
}

// follow takes on what is wished. It reports whether there is a route at all.
func (c *carrier) follow(ctx context.Context) bool {
	view := c.rs.catalog.View()
	if view == c.view && time.Since(c.followed) < followEvery || c.stepping {
		return len(c.walkers) > 0
	}
	if view != c.view {
		known := map[uuid.UUID]bool{}
		c.order = nil
		for id, g := range wished(view, c.p.Channel) {
			known[id] = true
			w := c.walkers[id]
			if w == nil {
				w = newWalker(c, id)
				c.walkers[id] = w
			}
			w.group, w.where, w.copies = g, whereOn(c.p.Channel, g), copiesDead(c.p.Channel, g)
			to, _ := w.target()
			w.walk.KeepLanes = to.outside() == setting.HTTP // others keep their places themselves
			c.order = append(c.order, w)
		}
		for id, w := range c.walkers {
			if !known[id] {
				w.ended = true
				w.holdLanes()
				delete(c.walkers, id)
			}
		}
	}
	c.view, c.followed = view, time.Now()
	var steps []route.Step
	for _, w := range c.order {
		if s, ok := w.wish(ctx); ok {
			steps = append(steps, s)
		}
	}
	c.step(ctx, steps)
	return len(c.walkers) > 0
}

// wished are the routes that read a channel, by their ids: its own and, of the dead
// letters of a route, that route, which sends what returns from there.
func wished(view *catalog.View, t *part.Channel) map[uuid.UUID]*catalog.Group {
	all := map[uuid.UUID]*catalog.Group{}
	if t.OfGroup() {
		if g := view.GroupIDs[t.Record().GroupID.Int64]; g != nil && g.Route != nil {
			all[returned(g.Route.ID)] = g
		}
	}
	for _, g := range view.Routes[t.ID] {
		all[g.Route.ID] = g
	}
	return all
}

// returned is the id under which a route sends what returns from its dead letters.
func returned(route uuid.UUID) uuid.UUID { return uuid.NewSHA1(route, []byte("returned")) }

// step has the log take steps, one lot at a time.
func (c *carrier) step(ctx context.Context, steps []route.Step) {
	if len(steps) == 0 || c.stepping {
		return
	}
	c.stepping, c.stepped = true, time.Now()
	go func() {
		// What came of them is in the plans that are looked at next; what was not
		// done is decided on again.
		_, _ = c.rs.parts.StepRoutes(ctx, c.p, steps...)
		c.answer(ctx, func() {
			c.stepping = false
			c.followed = time.Time{}
		})
	}()
}

// look has all walks look at their plans and the end of the log.
func (c *carrier) look(ctx context.Context) {
	for _, w := range c.order {
		w.look(ctx)
	}
}

// read decides one stretch of the log, for all routes that stand where it begins.
func (c *carrier) read(ctx context.Context) bool {
	var first *walker
	for range c.order {
		c.turn++
		if w := c.order[c.turn%len(c.order)]; w.wants() {
			first = w
			break
		}
	}
	if first == nil {
		return false
	}
	from := first.from
	var together []*walker
	for _, w := range c.order {
		if w.wants() && w.from == from {
			together = append(together, w)
		}
	}
	if c.log == nil {
		l, err := logs.Open(ctx, c.rs.parts, c.p, true)
		if err != nil {
			return false
		}
		c.log = l
	}
	reader := c.log.Reader(from)
	chunk, err := reader.Read(c.buffer)
	var gone *journal.Gone
	var damage *journal.Damage
	switch {
	case errors.As(err, &gone):
		c.gap(together, gone.First)
		return true
	case errors.As(err, &damage) && c.p.Alone():
		c.gap(together, damage.To)
		return true
	case err != nil || len(chunk) == 0:
		for _, w := range together {
			w.hold("source-unreadable", err)
		}
		return false
	}
	next := reader.Offset()
	err = c.decide(ctx, chunk, from, together)
	if ctx.Err() != nil {
		return false
	}
	for _, w := range together {
		if err != nil {
			w.fail(err)
			continue
		}
		w.walk.Passed(min(next, w.to))
	}
	return true
}

// decide has walkers decide a stretch of the log: the batches as they are where that is the
// same, else their messages.
func (c *carrier) decide(ctx context.Context, chunk []byte, from int64, together []*walker) error {
	var apart []*walker
	for len(chunk) > 0 {
		r, size, err := message.PeekRecord(chunk)
		if err != nil {
			return err
		}
		one := chunk[:size]
		chunk = chunk[size:]
		if apart = c.takeWhole(r, append(apart[:0], together...)); len(apart) == 0 {
			continue
		}
		more := false
		_, err = logs.EachMessage(ctx, one, c.p.Number, from, c.rs.parts.RoomToDecode, func(m *message.Stored) (bool, error) {
			more = false
			for _, w := range apart {
				if m.Offset < w.to {
					w.take(m.Offset, m, expr.Facts{})
					more = true
				}
			}
			return more, nil
		})
		if err != nil {
			return err
		}
	}
	return nil
}

// gap tells walks that what lies before an offset is not there any more.
func (c *carrier) gap(together []*walker, to int64) {
	for _, w := range together {
		w.walk.Gap(min(to, w.to))
	}
}

// flush sends what was gathered.
func (c *carrier) flush(ctx context.Context) {
	for _, w := range c.order {
		w.flush(ctx)
	}
}

// raiseFloors records how far the routes are, all of them in one command.
func (c *carrier) raiseFloors(ctx context.Context) {
	if time.Since(c.stepped) < floorEvery || c.stepping {
		return
	}
	c.stepped, c.rising = time.Now(), false
	var steps []route.Step
	for _, w := range c.order {
		if w.walk.Plan() == nil {
			continue
		}
		if s, ok := w.walk.Progress(); ok {
			steps = append(steps, s)
		}
		c.rising = c.rising || w.walk.UnderWay()
	}
	c.step(ctx, steps)
}

// lastTime is how long a node that stops takes at most to record how far routes are.
const lastTime = time.Second

// last records how far the routes are when the node stops, so that an endpoint gets as
// little as can be a second time.
func (c *carrier) last() {
	if !c.rs.still(c.p, c.replica) {
		return
	}
	c.take()
	var steps []route.Step
	for _, w := range c.order {
		if s, ok := w.walk.Progress(); ok && w.walk.Plan() != nil {
			steps = append(steps, s)
		}
	}
	if len(steps) > 0 {
		ctx, cancel := context.WithTimeout(context.Background(), lastTime)
		defer cancel()
		_, _ = c.rs.parts.StepRoutes(ctx, c.p, steps...) // else it is what the log has
	}
}

// targetOf returns the partition that a target of a route is. The dead letters of a
// route have a queue when the first one comes.
func (c *carrier) targetOf(ctx context.Context, g *catalog.Group, number int, make bool) (*part.Partition, error) {
	a := addressOn(c.p.Channel, g)
	if number != route.Dead {
		target := c.rs.parts.ByID(g.Route.Target)
		if target == nil {
			return nil, problem.New(problem.NotFound, "the channel that %s leads to is not there", a)
		}
		return target.Partition(number - 1)
	}
	q, err := c.rs.parts.Named(a, a.QueuePart().String())
	if err != nil && make {
		q, err = c.rs.groups.DeadQueue(ctx, a)
	}
	if err != nil {
		return nil, err
	}
	return q.Partition(0)
}
