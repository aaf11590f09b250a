package part

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"

	"github.com/google/uuid"

	"steadyferry/internal/core/message"
	"steadyferry/internal/core/route"
	"steadyferry/internal/engine/peer"
	"steadyferry/internal/engine/replica"
	"steadyferry/internal/engine/routed"
)

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
	return m.routes.Plan(id, g.End())
}

// recoverRoutes has the plans of a partition that was recovered by force begin
// anew, for which all that is to be appended waits.
func (reg *Registry) recoverRoutes(p *Partition) {
	if m := p.base(); m != nil && m.routes.MustRecover() {
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
	call, data, forget := m.routes.Call(steps)
	defer forget()
	err := g.Publish(ctx, &replica.Proposal{Data: data, Routes: true, Info: call}).Err
	if err != nil {
		return nil, notDone(err)
	}
	return call.Outcomes, nil
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
	ask := &routed.Ask{Source: s}
	if err := g.Publish(ctx, &replica.Proposal{Info: ask}).Err; err != nil {
		return route.NotBehind{}, notDone(err) // it may be told later, to nobody
	}
	return ask.Told, nil
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
	return reg.AppendMade(ctx, p, batch.AppendRouted(make([]byte, message.StampSize, message.StampSize+message.RoutedSize(batch, sent)), sent))
}

// AppendMade is AppendRouted for a batch that tells already where it belongs, behind room
// for its stamp.
func (reg *Registry) AppendMade(ctx context.Context, p *Partition, data []byte) (behind *route.NotBehind, err error) {
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
