package part

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/message"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/route"
	"steadyferry/internal/core/topic"
	"steadyferry/internal/engine/peer"
	"steadyferry/internal/engine/replica"
)

// Bounded has f say, before a batch is appended, why a space takes no so many bytes more from whoever
// asks. It is called before the node opens.
func (reg *Registry) Bounded(f func(ctx context.Context, space string, bytes int64) error) {
	reg.bounded = f
}

// routeTime is how long a batch waits for its partition to get a leader.
const routeTime = 5 * time.Second

// LeaderCall is something that is done where a partition is led.
type LeaderCall[R any] struct {
	Here  func() (R, error)
	There func(leader uint64) (R, error) // over the network
	again func() error                   // before another try; may be nil

	Harmless bool         // twice is as good as once: it is tried again when it may have been done, too
	Unsure   func() error // what is said when it may have been done in the end; nil: it makes no difference
}

// AtLeader does something at the leader of a partition, wherever that is. What
// surely was not done is tried again while a new leader is elected.
func AtLeader[R any](ctx context.Context, reg *Registry, p *Partition, c LeaderCall[R]) (R, error) {
	var none R
	deadline := time.Now().Add(routeTime)
	mayBeDone := false
	for pause := 2 * time.Millisecond; ; pause = min(2*pause, 100*time.Millisecond) {
		var r R
		var err error
		leader := reg.LeaderOf(p)
		switch {
		case reg.Leads(p):
			r, err = c.Here()
		case leader != 0 && leader != reg.id && reg.peers.Up(leader):
			r, err = c.There(leader)
		case !reg.majorityUp(p):
			err = &peer.NotDone{Reason: replica.ErrNoMajority, Sure: true}
		default:
			err = peer.NotLed()
		}
		var failed *peer.NotDone
		if !errors.As(err, &failed) {
			return r, err
		}
		mayBeDone = mayBeDone || !failed.Sure
		if mayBeDone && !c.Harmless || ctx.Err() != nil || time.Now().After(deadline) || errors.Is(failed, replica.ErrNoMajority) || errors.Is(failed, replica.ErrFailed) && p.Alone() {
			if mayBeDone && c.Unsure != nil {
				return none, c.Unsure()
			}
			return none, Explain(failed.Reason, p.Address())
		}
		select {
		case <-ctx.Done():
		case <-time.After(pause):
		}
		if c.again != nil {
			if err := c.again(); err != nil {
				return none, err
			}
		}
	}
}

// Append appends a batch at the leader of the partition. What may have been
// appended is appended again only if the batch carries a publisher's id and
// sequence, by which the log recognises it.
func (reg *Registry) Append(ctx context.Context, p *Partition, data []byte, batch message.Batch) (Receipt, error) {
	// What a group sets aside is not more: it was kept in its topic.
	if reg.bounded != nil && !p.Channel.OfGroup() {
		if err := reg.bounded(ctx, p.Channel.Record().Space, int64(len(data))); err != nil {
			return Receipt{}, err
		}
	}
	began := time.Now()
	// A leader that is cut off may not know yet what another one has taken.
	gap := func(r Receipt, err error) (Receipt, error) {
		if isGap(err) && !p.Alone() && time.Since(began) < gapTime {
			return r, &peer.NotDone{Reason: err, Sure: true}
		}
		return r, err
	}
	return AtLeader(ctx, reg, p, LeaderCall[Receipt]{
		Here:  func() (Receipt, error) { return gap(reg.appendHere(ctx, p, data, batch)) },
		There: func(leader uint64) (Receipt, error) { return gap(reg.appendThere(ctx, p, leader, data)) },
		again: func() (err error) {
			// The bytes of the try before may still be on their way.
			data = bytes.Clone(data)
			batch, err = message.OpenBatch(data[message.StampSize:])
			return err
		},
		Harmless: batch.Publisher() != nil || batch.Route() != nil,
		Unsure: func() error {
			return problem.New(problem.Unavailable, "%s: not known to be kept", p.Address()).Next("send it again with a publisher id and sequence (Ferry-Publisher, Ferry-Sequence): then it is kept once")
		},
	})
}

// gapTime is how long a sequence that leaves out others is tried again before
// it is refused: a leader that is cut off from the others may not know for a
// second that another one has taken what came between.
const gapTime = 1500 * time.Millisecond

func isGap(err error) bool {
	var p *problem.Problem
	return errors.As(err, &p) && p.Kind == problem.Conflict && p.Of == "sequence"
}

// majorityUp reports whether enough of a partition's nodes answer for it to
// have a leader.
func (reg *Registry) majorityUp(p *Partition) bool {
	if g := p.Replica(); g != nil && g.Membership().Has(reg.id) {
		return g.HasMajority()
	}
	placed := reg.Placed(p)
	up := 0
	for _, id := range placed {
		if id == reg.id || reg.peers.Up(id) {
			up++
		}
	}
	return 2*up > len(placed)
}

// Placed returns the nodes that shall hold a partition.
func (reg *Registry) Placed(p *Partition) []uint64 {
	if all := reg.catalog.View().Placed[p.Channel.ID]; p.Number < len(all) {
		return all[p.Number].Replicas
	}
	return nil
}

func (reg *Registry) appendHere(ctx context.Context, p *Partition, data []byte, batch message.Batch) (Receipt, error) {
	g := p.Replica()
	if g == nil {
		return Receipt{}, peer.NotLed()
	}
	if reg.diskFull.Load() {
		if p.Alone() {
			return Receipt{}, Explain(replica.ErrDiskFull, p.Address())
		}
		return Receipt{}, &peer.NotDone{Reason: replica.ErrDiskFull, Sure: true} // another node is about to lead
	}
	leave, err := reg.fair.Enter(ctx, p.Channel.Record().Space, int64(len(data)))
	if err != nil {
		return Receipt{}, &peer.NotDone{Reason: err, Sure: true}
	}
	defer leave()
	result := g.Publish(ctx, &replica.Proposal{Data: data, Count: uint32(batch.Count()), By: reg.numberOf(ctx), Info: &offer{publisher: batch.Publisher(), route: batch.Route(), batch: batch}})
	if result.Err != nil {
		var gap *topic.SequenceGap
		var unknown *topic.UnknownPublisher
		var behind *route.NotBehind
		switch {
		case errors.As(result.Err, &behind):
			return Receipt{Behind: behind}, nil
		case errors.Is(result.Err, route.ErrEnded):
			return Receipt{Ended: true}, nil
		case errors.As(result.Err, &unknown):
			return Receipt{}, problem.New(problem.Conflict, "%s: %v", p.Address(), unknown).Field("sequence")
		case errors.Is(result.Err, replica.ErrLostEnd):
			return Receipt{}, Explain(result.Err, p.Address())
		case errors.As(result.Err, &gap):
			return Receipt{}, problem.New(problem.Conflict, "%s: %v", p.Address(), gap).Field("sequence")
		case errors.Is(result.Err, replica.ErrTime), errors.Is(result.Err, context.DeadlineExceeded), errors.Is(result.Err, context.Canceled):
			return Receipt{}, &peer.NotDone{Reason: result.Err}
		case errors.Is(result.Err, replica.ErrNotLeading), errors.Is(result.Err, replica.ErrNoMajority), errors.Is(result.Err, replica.ErrClosed),
			errors.Is(result.Err, replica.ErrDiskFull), errors.Is(result.Err, replica.ErrFailed):
			if errors.Is(result.Err, replica.ErrDiskFull) && p.Alone() {
				return Receipt{}, Explain(result.Err, p.Address())
			}
			return Receipt{}, &peer.NotDone{Reason: result.Err, Sure: true}
		}
		return Receipt{}, result.Err
	}
	return Receipt{Partition: p.Number, Offset: result.Offset, Count: batch.Count() - result.Drops, Time: time.UnixMicro(result.Time).UTC(), Repeat: result.Repeat, Dropped: result.Drops}, nil
}

// numberOf is the number of the principal that asks; 0 for the service itself.
func (reg *Registry) numberOf(ctx context.Context) uint32 {
	if a, known := access.In(ctx); known && !access.IsNode(a) {
		if p := reg.catalog.View().Principal(a.Who()); p != nil {
			return p.Number
		}
	}
	return 0
}

// appendThere passes a batch on to the node that leads its partition.
func (reg *Registry) appendThere(ctx context.Context, p *Partition, leader uint64, data []byte) (r Receipt, err error) {
	out, err := peer.Outcome(reg.peers.Call(ctx, leader, "publish", append(KeyBytes(p.Key()), data[message.StampSize:]...)))
	if err != nil {
		return r, err
	}
	return r, json.Unmarshal(out, &r)
}

// answerPublish appends a batch that another node passes on. It is not passed
// on again.
func (reg *Registry) answerPublish(ctx context.Context, from uint64, p *Partition, body []byte) ([]byte, error) {
	if err := access.Check(ctx, access.Publish, p.Channel.Record().Address()); err != nil {
		return peer.Undone(err, p.Address()), nil
	}
	hold := reg.Hold(fmt.Sprintf("node %d", from))
	defer hold.Release()
	if !reg.Serving() || hold.Grow(ctx, int64(len(body))) != nil {
		return peer.Undone(peer.NotLed(), p.Address()), nil
	}
	data := append(make([]byte, message.StampSize, message.StampSize+len(body)), body...)
	batch, err := message.OpenBatch(data[message.StampSize:])
	if err != nil {
		return peer.Undone(err, p.Address()), nil
	}
	r, err := reg.appendHere(ctx, p, data, batch)
	if err != nil {
		return peer.Undone(err, p.Address()), nil
	}
	b, err := json.Marshal(r)
	return peer.Done(b), err
}
