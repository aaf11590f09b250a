// Package routed is what a partition's log says of routes: the plans of those that
// read it, and the places of those that write to it. It is part of the machine that a
// partition derives from its log, whatever the kind of its channel.
package routed

import (
	"log/slog"
	"math/rand/v2"
	"sync"

	"github.com/google/uuid"

	"steadyferry/internal/core/message"
	"steadyferry/internal/core/route"
	"steadyferry/internal/engine/replica"
)

// State is what a partition's log says of routes.
type State struct {
	epoch uint64 // of the partition: how often it was recovered by force

	mu      sync.RWMutex // guards plans, origins and calls
	plans   *route.Plans
	origins *route.Origins
	calls   map[uint64]*Call

	ahead *route.Ahead // of the goroutine that runs the group
	taker Taker
}

// Taker is a kind of channel whose messages routes take away, or copy when they become dead
// letters: they have numbers of each route, which stand for offsets.
type Taker interface {
	// NextNumber is that of the next message which a route takes or copies.
	NextNumber(route uuid.UUID) int64
	// Copied tells that a route reads what becomes a dead letter from now on, with all also
	// what is one.
	Copied(route uuid.UUID, all bool)
	// Sent tells that what a route took with numbers below one is sent, and Ended that
	// the route has ended. They are called as commands of the log are applied.
	Sent(route uuid.UUID, number int64)
	Ended(route uuid.UUID)
}

// TakenBy has routes take messages away. It is called before the state is used.
func (r *State) TakenBy(t Taker) { r.taker = t }

// Call is a command on its way through the log, and what came of it.
type Call struct {
	Command  *route.Command
	Outcomes []route.Outcome
}

// Ask asks for the place of a route behind all that is proposed.
type Ask struct {
	Source route.Source
	Told   route.NotBehind
}

// New returns the state of an empty log of a partition that was recovered so often.
func New(epoch uint64) *State {
	r := &State{epoch: epoch, plans: route.NewPlans(), origins: route.NewOrigins(), calls: map[uint64]*Call{}}
	r.Lead()
	return r
}

// Lead begins with what is applied.
func (r *State) Lead() {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.ahead = r.origins.Ahead()
	clear(r.calls)
}

// Prepare judges a proposal: a Call, an Ask, or a batch that a route sent or, with nil,
// somebody else. handled tells that nothing else has to be said about it.
func (r *State) Prepare(info any, sent *message.Route) (result replica.Result, done, handled bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	switch o := info.(type) {
	case *Call:
		for i := range o.Command.Steps {
			if s := &o.Command.Steps[i]; s.Op == route.End {
				r.ahead.ProposeEnd(s.Route)
			}
		}
		r.calls[o.Command.Nonce] = o
		return result, false, true
	case *Ask:
		o.Told = r.ahead.Place(o.Source, r.epoch)
		return result, true, true
	default:
		if r.plans.MustRecover(r.epoch) {
			// The node brings the command as soon as it leads.
			return replica.Result{Err: replica.ErrNotLeading}, true, true
		}
		if sent == nil {
			return result, false, false
		}
		if err := r.ahead.Check(sent, r.epoch); err != nil {
			return replica.Result{Err: err}, true, true
		}
		r.ahead.Propose(sent)
		return result, false, true
	}
}

// Command carries out a command of the log.
func (r *State) Command(rec message.Record, address string) {
	c, err := route.DecodeCommand(rec.Data[message.StampSize:])
	if err != nil {
		slog.Error("a command to routes in the log cannot be read; it is left out", "partition", address, "error", err)
		return
	}
	stamp := rec.Stamp()
	var end func(uuid.UUID) int64
	if r.taker != nil {
		end = r.taker.NextNumber
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	outcomes := r.plans.Apply(stamp, c, end)
	for i := range c.Steps {
		s := &c.Steps[i]
		if s.Op == route.End {
			r.origins.End(s.Route, stamp.Time)
		}
		if r.taker != nil {
			r.tell(s, outcomes[i])
		}
	}
	if call := r.calls[c.Nonce]; call != nil {
		call.Outcomes = outcomes
		delete(r.calls, c.Nonce)
	}
}

// tell has the taker know what a step means to it.
func (r *State) tell(s *route.Step, came route.Outcome) {
	plan, _ := r.plans.Of(s.Route)
	switch {
	case s.Op == route.End:
		r.taker.Ended(s.Route)
	case s.Op == route.MakeOfDead && came == route.Done:
		r.taker.Copied(s.Route, s.Offset != route.AtEnd)
	case plan != nil:
		r.taker.Sent(s.Route, plan.Floor.Offset)
	}
}

// Batch notes the place of a batch that a route sent.
func (r *State) Batch(sent *message.Route) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.origins.Note(sent)
	r.ahead.Applied(sent)
}

// Save returns the state, for a checkpoint.
func (r *State) Save() (plans, origins []byte) {
	r.mu.RLock()
	defer r.mu.RUnlock()
	return r.plans.Encode(), r.origins.Encode()
}

// Load takes what Save returned.
func (r *State) Load(plans, origins []byte) error {
	ps, err := route.DecodePlans(plans)
	if err != nil {
		return err
	}
	o, err := route.DecodeOrigins(origins)
	if err != nil {
		return err
	}
	r.mu.Lock()
	r.plans, r.origins = ps, o
	r.mu.Unlock()
	r.Lead()
	return nil
}

// Plan returns the plan of a route, nil when there is none, and the end of what it
// decides: end, or what the Taker says; gone tells that the route has ended.
func (r *State) Plan(id uuid.UUID, end int64) (*route.Plan, int64, bool) {
	// First the end, then the plan: what was applied before the end was seen is in
	// the plan.
	if r.taker != nil {
		end = r.taker.NextNumber(id)
	}
	r.mu.RLock()
	defer r.mu.RUnlock()
	plan, gone := r.plans.Of(id)
	return plan, end, gone
}

// Needs returns the lowest offset that a route still needs of the log.
func (r *State) Needs() (offset int64, held bool) {
	r.mu.RLock()
	defer r.mu.RUnlock()
	for _, plan := range r.plans.All() {
		if low := plan.Needs(); !held || low < offset {
			offset, held = low, true
		}
	}
	return offset, held
}

// MustRecover reports whether nothing may be appended before a command was.
func (r *State) MustRecover() bool {
	r.mu.RLock()
	defer r.mu.RUnlock()
	return r.plans.MustRecover(r.epoch)
}

// Call makes a command of steps, with what it takes in a log, and has its outcomes
// come to it; forget is called when they are not waited for any more.
func (r *State) Call(steps []route.Step) (call *Call, data []byte, forget func()) {
	call = &Call{Command: &route.Command{Nonce: rand.Uint64(), Epoch: r.epoch, Steps: steps}}
	return call, call.Command.Encode(make([]byte, message.StampSize)), func() {
		r.mu.Lock()
		defer r.mu.Unlock()
		delete(r.calls, call.Command.Nonce)
	}
}
