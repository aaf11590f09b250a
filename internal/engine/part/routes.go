package part

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"sync"

	"github.com/google/uuid"

	"steadyferry/internal/core/message"
	"steadyferry/internal/core/route"
	"steadyferry/internal/engine/peer"
	"steadyferry/internal/engine/replica"
)

// routes is what a partition's log says of routes: the plans of those that read
// it, and the places of those that write to it.
type routes struct {
	epoch uint64 // of the partition: how often it was recovered by force

	mu      sync.RWMutex // guards plans, origins and calls
	plans   *route.Plans
	origins *route.Origins
	calls   map[uint64]*routesCall

	ahead *route.Ahead // of the goroutine that runs the group
}

// routesCall is a command on its way through the log, and what came of it.
type routesCall struct {
	command  *route.Command
	outcomes []route.Outcome
}

// originAsk asks for the place of a route behind all that is proposed.
type originAsk struct {
	source route.Source
	told   route.NotBehind
}

func newRoutes(epoch uint64) *routes {
	r := &routes{epoch: epoch, plans: route.NewPlans(), origins: route.NewOrigins(), calls: map[uint64]*routesCall{}}
	r.lead()
	return r
}

func (r *routes) lead() {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.ahead = r.origins.Ahead()
	clear(r.calls)
}

// prepare judges a proposal that is about routes, or of one; handled tells that
// nothing else has to be said about it.
func (r *routes) prepare(p *replica.Proposal) (result replica.Result, done, handled bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	switch o := p.Info.(type) {
	case *routesCall:
		for i := range o.command.Steps {
			if s := &o.command.Steps[i]; s.Op == route.End {
				r.ahead.ProposeEnd(s.Route)
			}
		}
		r.calls[o.command.Nonce] = o
		return result, false, true
	case *originAsk:
		o.told = r.ahead.Place(o.source, r.epoch)
		return result, true, true
	case *offer:
		if r.plans.MustRecover(r.epoch) {
			// The node brings the command as soon as it leads.
			return replica.Result{Err: replica.ErrNotLeading}, true, true
		}
		if o.route == nil {
			return result, false, false
		}
		if err := r.ahead.Check(o.route, r.epoch); err != nil {
			return replica.Result{Err: err}, true, true
		}
		r.ahead.Propose(o.route)
		return result, false, true
	}
	return result, false, false
}

// applyCommand carries out a command of the log.
func (r *routes) applyCommand(rec message.Record, address string) {
	c, err := route.DecodeCommand(rec.Data[message.StampSize:])
	if err != nil {
		slog.Error("a command to routes in the log cannot be read; it is left out", "partition", address, "error", err)
		return
	}
	stamp := rec.Stamp()
	r.mu.Lock()
	defer r.mu.Unlock()
	outcomes := r.plans.Apply(stamp, c)
	for i := range c.Steps {
		if s := &c.Steps[i]; s.Op == route.End {
			r.origins.End(s.Route, stamp.Time)
		}
	}
	if call := r.calls[c.Nonce]; call != nil {
		call.outcomes = outcomes
		delete(r.calls, c.Nonce)
	}
}

// applyBatch notes the place of a batch that a route sent.
func (r *routes) applyBatch(sent *message.Route) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.origins.Note(sent)
	r.ahead.Applied(sent)
}

func (r *routes) save() (plans, origins []byte) {
	r.mu.RLock()
	defer r.mu.RUnlock()
	return r.plans.Encode(), r.origins.Encode()
}

func (r *routes) load(plans, origins []byte) error {
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
	r.lead()
	return nil
}

// base returns what every partition derives from its log, or nil when this node
// does not hold it.
func (p *Partition) base() *Machine {
	if m, ok := p.Machine().(interface{ Base() *Machine }); ok {
		return m.Base()
	}
	return nil
}

// Plan returns the plan of a route, and up to where messages may be decided by it;
// nil without one.
func (p *Partition) Plan(id uuid.UUID) (plan *route.Plan, end int64, gone bool) {
	g, m := p.Replica(), p.base()
	if g == nil || m == nil {
		return nil, 0, false
	}
	// First the end, then the plan: what was applied before the end was seen is
	// in the plan.
	end = g.End()
	m.routes.mu.RLock()
	defer m.routes.mu.RUnlock()
	plan, gone = m.routes.plans.Of(id)
	return plan, end, gone
}

// routesNeed returns the lowest offset that a route still needs of the partition.
func (p *Partition) routesNeed() (offset int64, held bool) {
	m := p.base()
	if m == nil {
		return 0, false
	}
	m.routes.mu.RLock()
	defer m.routes.mu.RUnlock()
	for _, plan := range m.routes.plans.All() {
		if low := plan.Needs(); !held || low < offset {
			offset, held = low, true
		}
	}
	return offset, held
}

// recoverRoutes has the plans of a partition that was recovered by force begin
// anew, for which all that is to be appended waits.
func (reg *Registry) recoverRoutes(p *Partition) {
	m := p.base()
	if m == nil {
		return
	}
	m.routes.mu.RLock()
	must := m.routes.plans.MustRecover(m.routes.epoch)
	m.routes.mu.RUnlock()
	if must {
		reg.wg.Go(func() {
			ctx, cancel := context.WithTimeout(context.Background(), routeTime)
			defer cancel()
			if _, err := stepHere(ctx, p, nil); err != nil {
				slog.Warn("routes of a recovered partition wait for its leader", "partition", p.Address(), "error", err)
			}
		})
	}
}

// PlanOf asks the leader of a partition for the plan of a route, nil when there is
// none, and the end of the log.
func (reg *Registry) PlanOf(ctx context.Context, p *Partition, id uuid.UUID) (*route.Plan, int64, error) {
	at, err := AtLeader(ctx, reg, p, LeaderCall[planAt]{
		Here: func() (planAt, error) {
			plan, end, _ := p.Plan(id)
			return planAt{plan, end}, nil
		},
		There: func(leader uint64) (at planAt, err error) {
			out, err := reg.peers.Call(ctx, leader, "route-plan", append(KeyBytes(p.Key()), id[:]...))
			if err != nil {
				return at, &peer.NotDone{Reason: err, Sure: true}
			}
			return at, json.Unmarshal(out, &at)
		},
		Harmless: true})
	return at.Plan, at.End, err
}

// planAt is a plan and the end of the log, seen together.
type planAt struct {
	Plan *route.Plan `json:"plan"`
	End  int64       `json:"end"`
}

func answerPlan(_ context.Context, _ uint64, p *Partition, body []byte) ([]byte, error) {
	id, err := uuid.FromBytes(body)
	if err != nil {
		return nil, peer.ErrCall
	}
	plan, end, _ := p.Plan(id)
	return json.Marshal(planAt{plan, end})
}

// StepRoutes has the log of a partition take steps of plans. It returns what came
// of each; of one that was done when this was not known to be, that the plan has
// changed since.
func (reg *Registry) StepRoutes(ctx context.Context, p *Partition, steps ...route.Step) ([]route.Outcome, error) {
	return AtLeader(ctx, reg, p, LeaderCall[[]route.Outcome]{
		Here: func() ([]route.Outcome, error) { return stepHere(ctx, p, steps) },
		There: func(leader uint64) ([]route.Outcome, error) {
			c := route.Command{Steps: steps}
			out, err := peer.Outcome(reg.peers.Call(ctx, leader, "route-step", c.Encode(KeyBytes(p.Key()))))
			outcomes := make([]route.Outcome, len(out))
			for i, o := range out {
				outcomes[i] = route.Outcome(o)
			}
			return outcomes, err
		},
		Harmless: true})
}

func stepHere(ctx context.Context, p *Partition, steps []route.Step) ([]route.Outcome, error) {
	g, m := p.Replica(), p.base()
	if g == nil || m == nil {
		return nil, peer.NotLed()
	}
	call := &routesCall{command: &route.Command{Nonce: rand.Uint64(), Epoch: m.routes.epoch, Steps: steps}}
	data := call.command.Encode(make([]byte, message.StampSize))
	err := g.Publish(ctx, &replica.Proposal{Data: data, Routes: true, Info: call}).Err
	m.routes.mu.Lock()
	defer m.routes.mu.Unlock()
	delete(m.routes.calls, call.command.Nonce)
	return call.outcomes, notDone(err)
}

func (reg *Registry) answerStep(ctx context.Context, _ uint64, p *Partition, body []byte) ([]byte, error) {
	c, err := route.DecodeCommand(body)
	if err != nil {
		return nil, err
	}
	outcomes, err := stepHere(ctx, p, c.Steps)
	if err != nil {
		return peer.Undone(err, p.Address()), nil
	}
	out := make([]byte, len(outcomes))
	for i, o := range outcomes {
		out[i] = byte(o)
	}
	return peer.Done(out), nil
}

// notDone says of an error of a proposal whether it may be tried again.
func notDone(err error) error {
	for _, again := range []error{replica.ErrNotLeading, replica.ErrNoMajority, replica.ErrClosed, replica.ErrDiskFull, replica.ErrFailed} {
		if errors.Is(err, again) {
			return &peer.NotDone{Reason: err, Sure: true}
		}
	}
	if errors.Is(err, replica.ErrTime) || errors.Is(err, context.DeadlineExceeded) || errors.Is(err, context.Canceled) {
		return &peer.NotDone{Reason: err}
	}
	return err
}

// OriginOf asks the leader of a partition up to which place it has the messages of
// a route from a partition of its source.
func (reg *Registry) OriginOf(ctx context.Context, p *Partition, s route.Source) (route.NotBehind, error) {
	return AtLeader(ctx, reg, p, LeaderCall[route.NotBehind]{
		Here: func() (route.NotBehind, error) { return originHere(ctx, p, s) },
		There: func(leader uint64) (told route.NotBehind, err error) {
			question, err := json.Marshal(s)
			if err != nil {
				return told, err
			}
			out, err := peer.Outcome(reg.peers.Call(ctx, leader, "route-origin", append(KeyBytes(p.Key()), question...)))
			if err != nil {
				return told, err
			}
			return told, json.Unmarshal(out, &told)
		},
		Harmless: true})
}

func originHere(ctx context.Context, p *Partition, s route.Source) (route.NotBehind, error) {
	g := p.Replica()
	if g == nil {
		return route.NotBehind{}, peer.NotLed()
	}
	ask := &originAsk{source: s}
	err := g.Publish(ctx, &replica.Proposal{Info: ask}).Err
	return ask.told, notDone(err)
}

func (reg *Registry) answerOrigin(ctx context.Context, _ uint64, p *Partition, body []byte) ([]byte, error) {
	var s route.Source
	if err := json.Unmarshal(body, &s); err != nil {
		return nil, fmt.Errorf("%w: %v", peer.ErrCall, err)
	}
	told, err := originHere(ctx, p, s)
	if err != nil {
		return peer.Undone(err, p.Address()), nil
	}
	b, err := json.Marshal(told)
	return peer.Done(b), err
}

// AppendRouted appends a batch that a route sends, at the leader of the partition.
// behind is not nil when the partition did not take it, since it does not belong
// directly behind what it has.
func (reg *Registry) AppendRouted(ctx context.Context, p *Partition, batch message.Batch, sent *message.Route) (behind *route.NotBehind, err error) {
	data := batch.AppendRouted(make([]byte, message.StampSize, message.StampSize+len(batch.Bytes())+message.BatchHeaderSize), sent)
	routed, err := message.OpenBatch(data[message.StampSize:])
	if err != nil {
		return nil, err
	}
	r, err := reg.Append(ctx, p, data, routed)
	if err == nil && r.Ended {
		err = route.ErrEnded
	}
	return r.Behind, err
}
