package routes

import (
	"context"
	"errors"
	"time"

	"github.com/google/uuid"

	"steadyferry/internal/core/expr"
	"steadyferry/internal/core/message"
	"steadyferry/internal/core/route"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/engine/catalog"
)

// walker is one route at work on one partition.
type walker struct {
	c      *carrier
	id     uuid.UUID
	group  *catalog.Group
	where  string // by which it takes from a queue
	copies bool   // dead letters
	walk   *route.Walk
	end    int64         // of what the plan decides, as it was looked at last
	seen   *catalog.View // by which the targets' recoveries are known
	starts int           // of the walk, to which what is gathered belongs
	ended  bool

	cut      *route.Cut // the stretch that is to be decided
	from, to int64
	open     bool // there is one
	decider  *decider
	decides  string // the terms that it decides by

	gathered map[int][]*parcel // by target, in the order in which they are sent
	bytes    int
	flying   map[int]bool
	asking   map[int]bool
	lanes    map[int]*lane // those that deliver to an endpoint
	usual    int           // messages that the last of them was given

	waits  Waiting   // why it waits
	tries  int       // how often it has waited for that
	again  time.Time // when it tries again
	floor  route.Place
	sent   int64
	dead   int64
	passed int64

	cursor int64 // of a queue: from where waiting messages are looked for
	taking bool
	rescan time.Time
}

// Waiting says why a route stands still on a partition.
type Waiting struct {
	Reason string    `json:"reason"` // empty: it does not
	Why    string    `json:"why"`
	Since  time.Time `json:"since"`
}

// Why a route waits.
const (
	waitsPaused = "paused"
	waitsTarget = "target-away"
)

const (
	maxGathered = 4 << 20 // bytes that a route holds for one partition
	firstPause  = 50 * time.Millisecond
	longPause   = 2 * time.Second
)

func newWalker(c *carrier, id uuid.UUID) *walker {
	return &walker{c: c, id: id, walk: route.NewWalk(), gathered: map[int][]*parcel{}, flying: map[int]bool{}, asking: map[int]bool{}, lanes: map[int]*lane{}}
}

// target returns what the route leads to; without true it is not there.
func (w *walker) target() (target, bool) { return w.c.rs.target(w.group.Route) }

// wish returns the step that makes the plan what is wished.
func (w *walker) wish(ctx context.Context) (route.Step, bool) {
	plan, _, gone := w.c.p.Plan(w.id)
	if gone {
		w.ended = true
		return route.Step{}, false
	}
	target, there := w.target()
	if !there {
		return route.Step{}, false
	}
	terms := termsOf(w.c.p.Channel, w.group, target)
	if plan != nil {
		if last := plan.Last().Terms; last.Version > terms.Version {
			w.adopt(ctx, last)
			return route.Step{}, false
		}
		return w.c.rs.recut(w.id, plan, terms, target)
	}
	return w.c.rs.firstStep(w.c.p, w.id, w.group, terms, target), true
}

// adopt has the record say what the plan says: it is of before the plan.
func (w *walker) adopt(ctx context.Context, terms route.Terms) {
	if w.id != w.group.Route.ID {
		return // its route does
	}
	d, err := newDecider(ctx, w.c.p.Channel, terms)
	if err != nil {
		return
	}
	group, settings := w.group.ID, setting.Routing{To: w.group.To, Where: d.Where, Edits: d.Edits}
	go func() { _ = w.c.rs.catalog.AdoptRouting(ctx, group, terms.Version, settings) }()
}

// look takes on the plan and the end of the log, and has targets asked that are not
// known.
func (w *walker) look(ctx context.Context) {
	plan, end, gone := w.c.p.Plan(w.id)
	if gone {
		w.ended = true
	}
	w.open = false
	if plan == nil || w.ended {
		return
	}
	w.end = end
	w.walk.Look(plan, end)
	w.holdLanes()
	if plan.Floor != w.floor && w.id == w.group.Route.ID {
		w.floor = plan.Floor
		w.c.rs.reached(w.group, w.c.p.Number, plan.Floor.Offset)
	}
	if view := w.c.rs.catalog.View(); view != w.seen {
		w.seen = view
		if target, there := w.target(); there {
			for number, times := range w.c.rs.recoveries(target) {
				if number != route.Dead && number < w.walk.Targets() {
					w.walk.Recovered(number, times)
				}
			}
		}
	}
	if n := w.walk.Starts(); n != w.starts {
		w.starts, w.bytes = n, 0
		clear(w.gathered)
	}
	if w.again.After(time.Now()) {
		return
	}
	w.ask(ctx)
	w.cut, w.from, w.to, w.open = w.walk.Next()
}

// wants reports whether the walk can decide the next stretch now.
func (w *walker) wants() bool {
	if !w.open || w.bytes >= maxGathered || w.again.After(time.Now()) {
		return false
	}
	if w.group.Paused && (!w.c.queue || w.copies || w.group.Route.Outside) { // what was taken from a queue is sent on
		w.waits = since(w.waits, waitsPaused, "the route is paused")
		return false
	}
	target, there := w.target()
	if !there {
		w.hold("target-missing", errors.New("what it leads to is not there, or has not told yet how many partitions it has"))
		return false
	}
	if target.channel != nil {
		if err := w.c.rs.parts.Accepts(target.channel); err != nil {
			w.hold("target-paused", err)
			return false
		}
	}
	if w.decider == nil || w.decides != w.cut.Terms.Text || w.decider.count != w.cut.Terms.Partitions {
		d, err := newDecider(context.Background(), w.c.p.Channel, w.cut.Terms)
		if err != nil {
			w.hold("terms-unreadable", err)
			return false
		}
		w.decider, w.decides = d, w.cut.Terms.Text
	}
	if w.waits.Reason == waitsPaused || w.waits.Reason == "target-paused" {
		w.goes()
	}
	return true
}

// take decides one message, which stands at an offset; of a queue, the number that
// the route has given it.
func (w *walker) take(at int64, s *message.Stored, f expr.Facts) {
	w.passed++
	number, m, sent := w.decider.decide(s, f)
	if !sent {
		return
	}
	upTo := w.cut.At(at + 1)
	if !w.walk.Wants(number, upTo) {
		return
	}
	w.walk.Add(number, w.cut.At(at), upTo)
	p := w.openParcel(number)
	before := p.bytes
	if number != route.Dead && w.group.Route.Outside {
		p.add(w.item(at, s, m), w.cut.Terms.Partitions, w.usual)
	} else {
		p.batch.Add(m)
		p.bytes = p.batch.Size()
	}
	w.bytes += p.bytes - before
}

// fail has the walk begin anew when a stretch could not be read to its end.
func (w *walker) fail(err error) {
	w.walk.Again()
	w.hold("source-unreadable", err)
}

// flush sends what was gathered for targets to which nothing is under way.
func (w *walker) flush(ctx context.Context) {
	if w.walk.Restarts() {
		w.drop()
	}
	if w.walk.Restarts() || w.again.After(time.Now()) || w.ended {
		return
	}
	for number, all := range w.gathered {
		p := all[0]
		if p.bytes == 0 || w.flying[number] {
			continue
		}
		if w.gathered[number] = all[1:]; len(all) == 1 {
			delete(w.gathered, number)
		}
		w.bytes = max(0, w.bytes-p.bytes)
		w.seal(number, p)
		w.flying[number] = true
		if len(p.items) > 0 {
			w.usual = len(p.items)
			w.deliver(ctx, number, p.items, p.after, p.upTo, p.recovered)
			continue
		}
		go w.send(ctx, w.group, number, p)
	}
}

// send appends a batch at a target, and tells the carrier what came of it.
func (w *walker) send(ctx context.Context, g *catalog.Group, number int, p *parcel) {
	var behind *route.NotBehind
	to, err := w.c.targetOf(ctx, g, number, true)
	if err == nil {
		behind, err = w.c.rs.parts.AppendMade(ctx, to, p.data)
	}
	w.c.answer(ctx, func() {
		delete(w.flying, number)
		switch {
		case errors.Is(err, route.ErrEnded):
			w.ended = true
		case err != nil:
			w.walk.Unsure(number, p.upTo)
			w.hold(waitsTarget, err)
		case behind != nil:
			w.walk.Refused(number, p.upTo, behind)
		default:
			w.walk.Taken(number, p.upTo)
			if number == route.Dead {
				w.dead += int64(p.count)
			} else {
				w.sent += int64(p.count)
			}
			w.goes()
		}
	})
}

// ask has targets asked up to which place they have the route's messages.
func (w *walker) ask(ctx context.Context) {
	for _, number := range w.walk.Unknown() {
		if w.asking[number] {
			continue
		}
		w.asking[number] = true
		g, plan := w.group, w.walk.Plan()
		go func() {
			told, err := w.originOf(ctx, g, plan, number)
			w.c.answer(ctx, func() {
				delete(w.asking, number)
				if err != nil {
					w.hold(waitsTarget, err)
					return
				}
				w.walk.Told(number, told.Origin, told.Recovered)
				if w.waits.Reason == waitsTarget && len(w.walk.Unknown()) == 0 {
					w.goes() // what it waits for from now on is another thing
				}
			})
		}()
	}
}

// originOf tells up to which place a target has the route's messages.
func (w *walker) originOf(ctx context.Context, g *catalog.Group, plan *route.Plan, number int) (told route.NotBehind, err error) {
	if number != route.Dead && g.Route.Outside {
		return w.laneOrigin(ctx, g, plan, number)
	}
	p, err := w.c.targetOf(ctx, g, number, false)
	switch {
	case err == nil:
		return w.c.rs.parts.OriginOf(ctx, p, route.Source{Route: w.id, Partition: uint32(w.c.p.Number)})
	case number == route.Dead:
		err = nil // there are none yet
	}
	return told, err
}

// since says why something waits, since it began to for that reason; without one it does
// not wait.
func since(was Waiting, reason, why string) Waiting {
	if reason == "" {
		return Waiting{}
	}
	at := time.Now().UTC().Truncate(time.Millisecond)
	if was.Reason == reason {
		at = was.Since
	}
	return Waiting{reason, why, at}
}

// hold has the route wait before it tries again, longer each time.
func (w *walker) hold(reason string, err error) {
	why := ""
	if err != nil {
		why = err.Error()
	}
	w.waits = since(w.waits, reason, why)
	pause := min(firstPause<<min(w.tries, 10), longPause)
	w.tries++
	w.again = time.Now().Add(pause)
}

// goes says that it waits for nothing.
func (w *walker) goes() { w.waits, w.tries, w.again = Waiting{}, 0, time.Time{} }
