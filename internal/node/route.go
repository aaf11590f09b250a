package node

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"steadyferry/internal/core/message"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/topic"
	"steadyferry/internal/engine/peer"
	"steadyferry/internal/engine/replica"
)

// routeTime is how long a batch waits for its partition to get a leader.
const routeTime = 5 * time.Second

// leaderCall is something that is done where a partition is led.
type leaderCall[R any] struct {
	here  func() (R, error)
	there func(leader uint64) (R, error) // over the network
	again func() error                   // before another try; may be nil

	harmless bool         // twice is as good as once: it is tried again when it may have been done, too
	unsure   func() error // what is said when it may have been done in the end; nil: it makes no difference
}

// atLeader does something at the leader of a partition, wherever that is. What
// surely was not done is tried again while a new leader is elected.
func atLeader[R any](ctx context.Context, n *Node, p *Partition, c leaderCall[R]) (R, error) {
	var none R
	deadline := time.Now().Add(routeTime)
	mayBeDone := false
	for pause := 2 * time.Millisecond; ; pause = min(2*pause, 100*time.Millisecond) {
		var r R
		var err error
		leader := n.leaderOf(p)
		switch {
		case n.leads(p):
			r, err = c.here()
		case leader != 0 && leader != n.id && n.peers.Up(leader):
			r, err = c.there(leader)
		case !n.majorityUp(p):
			err = &peer.NotDone{Reason: replica.ErrNoMajority, Sure: true}
		default:
			err = peer.NotLed()
		}
		var failed *peer.NotDone
		if !errors.As(err, &failed) {
			return r, err
		}
		mayBeDone = mayBeDone || !failed.Sure
		if mayBeDone && !c.harmless || ctx.Err() != nil || time.Now().After(deadline) || errors.Is(failed, replica.ErrNoMajority) || errors.Is(failed, replica.ErrFailed) && p.alone() {
			if mayBeDone && c.unsure != nil {
				return none, c.unsure()
			}
			return none, explain(failed.Reason, p.Address())
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

// append appends a batch at the leader of the partition. What may have been
// appended is appended again only if the batch carries a publisher's id and
// sequence, by which the log recognises it.
func (n *Node) append(ctx context.Context, p *Partition, data []byte, batch message.Batch) (Receipt, error) {
	began := time.Now()
	// A leader that is cut off may not know yet what another one has taken.
	gap := func(r Receipt, err error) (Receipt, error) {
		if isGap(err) && !p.alone() && time.Since(began) < gapTime {
			return r, &peer.NotDone{Reason: err, Sure: true}
		}
		return r, err
	}
	return atLeader(ctx, n, p, leaderCall[Receipt]{
		here:  func() (Receipt, error) { return gap(n.appendHere(ctx, p, data, batch)) },
		there: func(leader uint64) (Receipt, error) { return gap(n.appendThere(ctx, p, leader, data)) },
		again: func() (err error) {
			// The bytes of the try before may still be on their way.
			data = bytes.Clone(data)
			batch, err = message.OpenBatch(data[message.StampSize:])
			return err
		},
		harmless: batch.Publisher() != nil,
		unsure: func() error {
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

// alone reports whether the replica here is the only one.
func (p *Partition) alone() bool {
	g := p.Replica()
	return g != nil && len(g.Membership().Voters) == 1
}

// majorityUp reports whether enough of a partition's nodes answer for it to
// have a leader.
func (n *Node) majorityUp(p *Partition) bool {
	if g := p.Replica(); g != nil && g.Membership().Has(n.id) {
		return g.HasMajority()
	}
	placed := n.placed(p)
	up := 0
	for _, id := range placed {
		if id == n.id || n.peers.Up(id) {
			up++
		}
	}
	return 2*up > len(placed)
}

// placed returns the nodes that shall hold a partition.
func (n *Node) placed(p *Partition) []uint64 {
	if all := n.catalog.View().Placed[p.topic.ID]; p.Number < len(all) {
		return all[p.Number].Replicas
	}
	return nil
}

func (n *Node) appendHere(ctx context.Context, p *Partition, data []byte, batch message.Batch) (Receipt, error) {
	g := p.Replica()
	if g == nil {
		return Receipt{}, peer.NotLed()
	}
	if n.diskFull.Load() {
		if p.alone() {
			return Receipt{}, explain(replica.ErrDiskFull, p.Address())
		}
		return Receipt{}, &peer.NotDone{Reason: replica.ErrDiskFull, Sure: true} // another node is about to lead
	}
	result := g.Publish(ctx, &replica.Proposal{Data: data, Count: uint32(batch.Count()), Info: &offer{publisher: batch.Publisher(), batch: batch}})
	if result.Err != nil {
		var gap *topic.SequenceGap
		var unknown *topic.UnknownPublisher
		switch {
		case errors.As(result.Err, &unknown):
			return Receipt{}, problem.New(problem.Conflict, "%s: %v", p.Address(), unknown).Field("sequence")
		case errors.Is(result.Err, replica.ErrLostEnd):
			return Receipt{}, explain(result.Err, p.Address())
		case errors.As(result.Err, &gap):
			return Receipt{}, problem.New(problem.Conflict, "%s: %v", p.Address(), gap).Field("sequence")
		case errors.Is(result.Err, replica.ErrTime), errors.Is(result.Err, context.DeadlineExceeded), errors.Is(result.Err, context.Canceled):
			return Receipt{}, &peer.NotDone{Reason: result.Err}
		case errors.Is(result.Err, replica.ErrNotLeading), errors.Is(result.Err, replica.ErrNoMajority), errors.Is(result.Err, replica.ErrClosed),
			errors.Is(result.Err, replica.ErrDiskFull), errors.Is(result.Err, replica.ErrFailed):
			if errors.Is(result.Err, replica.ErrDiskFull) && p.alone() {
				return Receipt{}, explain(result.Err, p.Address())
			}
			return Receipt{}, &peer.NotDone{Reason: result.Err, Sure: true}
		}
		return Receipt{}, result.Err
	}
	return Receipt{Partition: p.Number, Offset: result.Offset, Count: batch.Count() - result.Drops, Time: time.UnixMicro(result.Time).UTC(), Repeat: result.Repeat, Dropped: result.Drops}, nil
}

// appendThere passes a batch on to the node that leads its partition.
func (n *Node) appendThere(ctx context.Context, p *Partition, leader uint64, data []byte) (r Receipt, err error) {
	out, err := peer.Outcome(n.peers.Call(ctx, leader, "publish", append(keyBytes(p.key()), data[message.StampSize:]...)))
	if err != nil {
		return r, err
	}
	return r, json.Unmarshal(out, &r)
}

// answerPublish appends a batch that another node passes on. It is not passed
// on again.
func (n *Node) answerPublish(ctx context.Context, from uint64, p *Partition, body []byte) ([]byte, error) {
	hold := n.Hold(fmt.Sprintf("node %d", from))
	defer hold.Release()
	if !n.Serving() || hold.Grow(ctx, int64(len(body))) != nil {
		return peer.Undone(peer.NotLed(), p.Address()), nil
	}
	data := append(make([]byte, message.StampSize, message.StampSize+len(body)), body...)
	batch, err := message.OpenBatch(data[message.StampSize:])
	if err != nil {
		return peer.Undone(err, p.Address()), nil
	}
	r, err := n.appendHere(ctx, p, data, batch)
	if err != nil {
		return peer.Undone(err, p.Address()), nil
	}
	b, err := json.Marshal(r)
	return peer.Done(b), err
}
