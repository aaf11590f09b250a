package route

import (
	"fmt"
	"slices"

	"github.com/google/uuid"

	"steadyferry/internal/core/message"
)

// Place is how far a route is on a partition of its source.
type Place = message.Place

// Terms are what the messages of a cut are decided by.
type Terms struct {
	Version    int64  // when they were wished, microseconds since 1970
	Text       string // of the settings
	Target     int64  // id of the channel
	Partitions int    // of the target; decisions depend on them
}

// Cut is a stretch of the log of a source partition.
type Cut struct {
	Epoch  uint64
	Number uint64 // from 1
	From   int64
	To     int64 // Open: the last cut has no end yet
	Terms  Terms
}

// Open is the end of the last cut.
const Open = -1

// Start is the place of the cut's first message.
func (c *Cut) Start() Place { return c.At(c.From) }

// At is the place of the offset in the cut.
func (c *Cut) At(offset int64) Place { return Place{Epoch: c.Epoch, Cut: c.Number, Offset: offset} }

func (c *Cut) holds(p Place) bool { return c.Epoch == p.Epoch && c.Number == p.Cut }

// Plan is what a route does on a source partition. It does not change: a command
// makes another one.
type Plan struct {
	Route   uuid.UUID
	Seq     uint64   // changes that are not floors alone
	Cuts    []Cut    // in their order; the last one is open
	Floor   Place    // nothing before it is sent any more
	Targets []uint64 // how often each partition of the target was recovered by force, as the floor knows it
	Lost    int64    // messages that retention took before they were decided
	Lanes   []Place  // up to which each lane to a place outside has its messages, if that keeps none itself
}

// maxOldCuts bounds the cuts before the floor, which say what to send again to a
// target that lost its end.
const maxOldCuts = 32

// Last returns the open cut.
func (p *Plan) Last() *Cut { return &p.Cuts[len(p.Cuts)-1] }

// Decided returns the last cut that an offset lies in, nil when none does any more.
func (p *Plan) Decided(offset int64) *Cut {
	for i := len(p.Cuts) - 1; i >= 0; i-- {
		if c := &p.Cuts[i]; c.From <= offset && (c.To == Open || offset < c.To) {
			return c
		}
	}
	return nil
}

// Needs returns the lowest offset that is still to be decided.
func (p *Plan) Needs() int64 {
	low := p.Floor.Offset
	for i := range p.Cuts {
		if c := &p.Cuts[i]; p.Floor.Before(c.Start()) {
			low = min(low, c.From)
		}
	}
	return low
}

// Left returns how many messages are still to be decided, of a log that ends at
// end.
func (p *Plan) Left(end int64) (left int64) {
	for i := range p.Cuts {
		c := &p.Cuts[i]
		to := c.To
		if to == Open {
			to = end
		}
		switch {
		case c.holds(p.Floor):
			left += max(to-p.Floor.Offset, 0)
		case p.Floor.Before(c.Start()):
			left += max(to-c.From, 0)
		}
	}
	return left
}

// Lane returns up to which place a lane has its messages, by its number from 1.
func (p *Plan) Lane(number int) Place {
	if number > 0 && number <= len(p.Lanes) {
		return p.Lanes[number-1]
	}
	return Place{}
}

// recoveredOf returns the recovery of a target partition that the floor knows of.
func (p *Plan) recoveredOf(partition int) uint64 {
	if partition < len(p.Targets) {
		return p.Targets[partition]
	}
	return 0
}

// settle returns where a walk that stands at a place goes on: the place itself, or
// the start of the next cut when it is behind the end of its own, or of the first
// one that is known.
func (p *Plan) settle(at Place) Place {
	for i := range p.Cuts {
		c := &p.Cuts[i]
		here := at
		if at.Before(c.Start()) {
			here = c.Start()
		}
		if c.holds(here) && (c.To == Open || here.Offset < c.To) {
			return here
		}
	}
	return p.Last().At(max(p.Last().From, at.Offset))
}

// cutOf returns the cut that holds a settled place.
func (p *Plan) cutOf(at Place) *Cut {
	for i := range p.Cuts {
		if p.Cuts[i].holds(at) {
			return &p.Cuts[i]
		}
	}
	return p.Last()
}

// clone returns a copy whose cuts can be changed.
func (p *Plan) clone() *Plan {
	c := *p
	c.Cuts = slices.Clone(p.Cuts)
	return &c
}

// cut ends the open cut at an offset and begins another one.
func (p *Plan) cut(epoch uint64, end, from int64, terms Terms) {
	last := p.Last()
	last.To = max(end, last.From)
	p.Cuts = append(p.Cuts, Cut{Epoch: epoch, Number: last.Number + 1, From: from, To: Open, Terms: terms})
	p.trim()
}

// trim lets go of cuts that are long decided.
func (p *Plan) trim() {
	old := 0
	for old < len(p.Cuts)-1 && !p.Floor.Before(p.Cuts[old+1].Start()) {
		old++
	}
	if old > maxOldCuts {
		p.Cuts = slices.Delete(p.Cuts, 0, old-maxOldCuts)
	}
}

// Op is what a step does.
type Op uint8

// The steps of a command.
const (
	Make       Op = iota + 1 // the route begins
	Recut                    // other terms from the end of the log on
	Seek                     // it goes on from another offset
	Floor                    // all before a place is in the targets
	End                      // it is no more, for good
	MakeOfDead               // the route begins, and reads what becomes a dead letter of a queue
	ops
)

// Step is a change of one plan. Which fields count depends on the Op.
type Step struct {
	Op      Op
	Route   uuid.UUID
	Seq     uint64 // of the plan for which it was decided
	Offset  int64  // Make, Seek: the next message to decide; AtEnd: that which comes next; MakeOfDead: AtEnd leaves out what is dead already
	Floor   Place
	Lost    int64    // Floor: messages that retention took so far
	Targets []uint64 // Make, MakeOfDead, Recut, Floor: recoveries of the target's partitions that it knows of
	Lanes   []Place  // Floor: of a place outside
	Terms   Terms    // Make, MakeOfDead, Recut
}

// AtEnd as an offset is the end of the log where the command comes to stand.
const AtEnd = -1

// Command is a change of plans that the leader of a source partition proposes.
type Command struct {
	Nonce uint64 // by which the proposer knows its command again
	Epoch uint64 // recoveries of the partition; another one than that of the plans begins a new cut of each
	Steps []Step
}

// Outcome is what came of a step.
type Outcome uint8

// The outcomes of a step.
const (
	Done  Outcome = iota
	Stale         // the plan has changed since, or is not there
	Gone          // the route has ended
	Known         // the route was made before
)

func (o Outcome) String() string {
	return [...]string{"done", "the plan has changed", "the route has ended", "the route was made before"}[o]
}

// Plans are the plans of all routes on a source partition.
type Plans struct {
	epoch uint64
	plans map[uuid.UUID]*Plan
	ended map[uuid.UUID]int64 // when, microseconds since 1970
}

// NewPlans returns the state of an empty log.
func NewPlans() *Plans {
	return &Plans{plans: map[uuid.UUID]*Plan{}, ended: map[uuid.UUID]int64{}}
}

// tombstoneTime is how long the end of a route is remembered, microseconds: no call
// outlives it.
const tombstoneTime = 7 * 24 * 3600 * 1e6

// Of returns the plan of a route, nil when there is none; gone tells that it has
// ended.
func (ps *Plans) Of(route uuid.UUID) (p *Plan, gone bool) {
	_, gone = ps.ended[route]
	return ps.plans[route], gone
}

// All goes through the plans.
func (ps *Plans) All() map[uuid.UUID]*Plan { return ps.plans }

// Epoch returns the recovery of the partition that the plans know of.
func (ps *Plans) Epoch() uint64 { return ps.epoch }

// MustRecover reports whether the partition was recovered since: nothing may be
// appended before a command with the epoch was.
func (ps *Plans) MustRecover(epoch uint64) bool { return len(ps.plans) > 0 && ps.epoch != epoch }

// Apply carries out a command that stands at the end of the log, at a time. Of a queue,
// whose messages have numbers that each route gives them, end returns the next one of a
// route; nil stands for the end of the log.
func (ps *Plans) Apply(at message.Stamp, c *Command, end func(route uuid.UUID) int64) []Outcome {
	if end == nil {
		end = func(uuid.UUID) int64 { return at.Offset }
	}
	if c.Epoch > ps.epoch {
		for id, p := range ps.plans {
			// What a lost end of the log held may be in targets already, under
			// the same offsets and the old epoch.
			p = p.clone()
			p.Seq++
			p.cut(c.Epoch, end(id), end(id), p.Last().Terms)
			ps.plans[id] = p
		}
		ps.epoch = c.Epoch
	}
	outcomes := make([]Outcome, len(c.Steps))
	for i := range c.Steps {
		if outcomes[i] = Stale; c.Epoch == ps.epoch {
			outcomes[i] = ps.step(at.Time, end(c.Steps[i].Route), &c.Steps[i])
		}
	}
	for id, since := range ps.ended {
		if since < at.Time-tombstoneTime {
			delete(ps.ended, id)
		}
	}
	return outcomes
}

func (ps *Plans) step(now, end int64, s *Step) Outcome {
	p, gone := ps.Of(s.Route)
	switch {
	case s.Op == End:
		delete(ps.plans, s.Route)
		ps.ended[s.Route] = now
		return Done
	case gone:
		return Gone
	case s.Begins() && p != nil:
		return Known
	case s.Begins():
		from := s.Offset
		if from == AtEnd || from > end {
			from = end
		}
		first := Cut{Epoch: ps.epoch, Number: 1, From: from, To: Open, Terms: s.Terms}
		ps.plans[s.Route] = &Plan{Route: s.Route, Seq: 1, Cuts: []Cut{first}, Floor: first.Start(), Targets: s.Targets}
		return Done
	case p == nil || p.Seq != s.Seq:
		return Stale
	}
	p = p.clone()
	switch s.Op {
	case Floor:
		if s.Floor.Before(p.Floor) {
			return Stale
		}
		p.Floor, p.Lost = s.Floor, max(p.Lost, s.Lost)
		p.Targets, p.Lanes = longer(s.Targets, p.Targets), longer(s.Lanes, p.Lanes)
		p.trim()
	case Recut:
		p.Seq++
		p.Targets = longer(p.Targets, s.Targets)
		p.cut(ps.epoch, end, end, s.Terms)
	case Seek:
		p.Seq++
		p.seek(ps.epoch, end, s.Offset)
	}
	ps.plans[s.Route] = p
	return Done
}

// longer returns the first list, and what the second one has beyond it.
func longer[T any](first, second []T) []T {
	return append(slices.Clone(first), second[min(len(first), len(second)):]...)
}

// seek makes the plan go on from an offset. Forward it leaves out what lies
// between; backward it decides all from there on anew.
func (p *Plan) seek(epoch uint64, end, to int64) {
	if to == AtEnd || to > end {
		to = end
	}
	floor := p.settle(p.Floor)
	if to >= floor.Offset {
		for i := range p.Cuts {
			c := &p.Cuts[i]
			if at := c.At(max(to, c.From)); !at.Before(floor) && (c.To == Open || at.Offset < c.To) {
				p.Floor = at
				p.trim()
				return
			}
		}
	}
	terms := p.Last().Terms
	for i := range p.Cuts {
		// What was not in the targets comes with the new cut.
		if c := &p.Cuts[i]; !c.At(c.From).Before(floor) {
			c.To = c.From
		} else if c.holds(floor) {
			c.To = floor.Offset
		}
	}
	p.Cuts = append(p.Cuts, Cut{Epoch: epoch, Number: p.Last().Number + 1, From: to, To: Open, Terms: terms})
	p.Floor = p.Last().Start()
	p.trim()
}

// Begins reports whether the step makes a plan.
func (s *Step) Begins() bool { return s.Op == Make || s.Op == MakeOfDead }

// String tells a step in short, for logs.
func (s *Step) String() string { return fmt.Sprintf("step %d of route %s at %d", s.Op, s.Route, s.Seq) }
