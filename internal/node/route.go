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
	"steadyferry/internal/engine/replica"
)

// routeTime is how long a batch waits for its partition to get a leader.
const routeTime = 5 * time.Second

// notTaken says why a batch was not appended, or, when it is not sure, may
// not have been. It may be worth another try.
type notTaken struct {
	err  error
	sure bool
}

func (e *notTaken) Error() string { return e.err.Error() }
func (e *notTaken) Unwrap() error { return e.err }

// append appends a batch at the leader of the partition, wherever that is. What
// is certain not to be kept is tried again while a new leader is elected; what
// is not certain only if the batch carries a publisher's id and sequence.
func (n *Node) append(ctx context.Context, p *Partition, data []byte, batch message.Batch) (Receipt, error) {
	began := time.Now()
	deadline := began.Add(routeTime)
	pause := 2 * time.Millisecond
	for {
		r, err := n.appendOnce(ctx, p, data, batch)
		var failed *notTaken
		if isGap(err) && !p.alone() && time.Since(began) < gapTime {
			failed, err = &notTaken{err, true}, nil
		} else if !errors.As(err, &failed) {
			return r, err
		}
		if !failed.sure && batch.Publisher() == nil || ctx.Err() != nil {
			return Receipt{}, problem.New(problem.Unavailable, "%s: not known to be kept", p.Address()).Next("send it again with a publisher id and sequence (Ferry-Publisher, Ferry-Sequence): then it is kept once")
		}
		if time.Now().After(deadline) || errors.Is(err, replica.ErrNoMajority) || errors.Is(err, replica.ErrFailed) && p.alone() {
			return Receipt{}, explain(failed.err, p.Address())
		}
		select {
		case <-ctx.Done():
		case <-time.After(pause):
		}
		pause = min(2*pause, 100*time.Millisecond)
		// The bytes of the try before may still be on their way.
		data = bytes.Clone(data)
		if batch, err = message.OpenBatch(data[message.StampSize:]); err != nil {
			return Receipt{}, err
		}
	}
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
	g := p.group.Load()
	return g != nil && len(g.Membership().Voters) == 1
}

func (n *Node) appendOnce(ctx context.Context, p *Partition, data []byte, batch message.Batch) (Receipt, error) {
	g := p.group.Load()
	if g != nil && (p.alone() || n.leaderOf(p) == n.id) {
		return n.appendHere(ctx, p, g, data, batch)
	}
	leader := n.leaderOf(p)
	if leader != 0 && leader != n.id && n.peers.Up(leader) {
		return n.appendThere(ctx, p, leader, data)
	}
	if !n.majorityUp(p) {
		return Receipt{}, &notTaken{replica.ErrNoMajority, true}
	}
	return Receipt{}, &notTaken{replica.ErrNotLeading, true}
}

// majorityUp reports whether enough of a partition's nodes answer for it to
// have a leader.
func (n *Node) majorityUp(p *Partition) bool {
	if g := p.group.Load(); g != nil && g.Membership().Has(n.id) {
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

func (n *Node) appendHere(ctx context.Context, p *Partition, g *replica.Group, data []byte, batch message.Batch) (Receipt, error) {
	if n.diskFull.Load() {
		if p.alone() {
			return Receipt{}, explain(replica.ErrDiskFull, p.Address())
		}
		return Receipt{}, &notTaken{replica.ErrDiskFull, true} // another node is about to lead
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
			return Receipt{}, &notTaken{result.Err, false}
		case errors.Is(result.Err, replica.ErrNotLeading), errors.Is(result.Err, replica.ErrNoMajority), errors.Is(result.Err, replica.ErrClosed),
			errors.Is(result.Err, replica.ErrDiskFull), errors.Is(result.Err, replica.ErrFailed):
			if errors.Is(result.Err, replica.ErrDiskFull) && p.alone() {
				return Receipt{}, explain(result.Err, p.Address())
			}
			return Receipt{}, &notTaken{result.Err, true}
		}
		return Receipt{}, result.Err
	}
	return Receipt{Partition: p.Number, Offset: result.Offset, Count: batch.Count() - result.Drops, Time: time.UnixMicro(result.Time).UTC(), Repeat: result.Repeat, Dropped: result.Drops}, nil
}

// What the answer to a batch that another node passed on begins with.
const (
	publishKept    = 0 // a Receipt
	publishProblem = 1 // a Problem
	publishSure    = 2 // not appended: the reason
	publishUnsure  = 3 // perhaps appended: the reason
)

// appendThere passes a batch on to the node that leads its partition.
func (n *Node) appendThere(ctx context.Context, p *Partition, leader uint64, data []byte) (Receipt, error) {
	out, err := n.peers.Call(ctx, leader, "publish", append(keyBytes(p.key()), data[message.StampSize:]...))
	if errors.As(err, new(*replica.Refused)) {
		return Receipt{}, &notTaken{replica.ErrNotLeading, true}
	}
	if err != nil || len(out) == 0 {
		return Receipt{}, &notTaken{errors.Join(err, replica.ErrNotLeading), false}
	}
	switch out[0] {
	case publishKept:
		var r Receipt
		return r, json.Unmarshal(out[1:], &r)
	case publishProblem:
		p := &problem.Problem{}
		return Receipt{}, errors.Join(p, json.Unmarshal(out[1:], p))
	}
	reason := replica.ErrNotLeading
	for _, known := range []error{replica.ErrNoMajority, replica.ErrDiskFull, replica.ErrFailed} {
		if string(out[1:]) == known.Error() {
			reason = known
		}
	}
	return Receipt{}, &notTaken{reason, out[0] == publishSure}
}

// answerPublish appends a batch that another node passes on. It is not passed
// on again.
func (n *Node) answerPublish(ctx context.Context, from uint64, p *Partition, body []byte) []byte {
	hold := n.Hold(fmt.Sprintf("node %d", from))
	defer hold.Release()
	if err := hold.Grow(ctx, int64(len(body))); err != nil {
		return append([]byte{publishSure}, replica.ErrNotLeading.Error()...)
	}
	data := append(make([]byte, message.StampSize, message.StampSize+len(body)), body...)
	batch, err := message.OpenBatch(data[message.StampSize:])
	var r Receipt
	if err == nil {
		g := p.group.Load()
		if g == nil || !n.Serving() {
			return append([]byte{publishSure}, replica.ErrNotLeading.Error()...)
		}
		r, err = n.appendHere(ctx, p, g, data, batch)
	}
	var failed *notTaken
	kind, value := byte(publishKept), any(r)
	if errors.As(err, &failed) {
		kind = publishUnsure
		if failed.sure {
			kind = publishSure
		}
		text := replica.ErrNotLeading.Error()
		for _, known := range []error{replica.ErrNoMajority, replica.ErrDiskFull, replica.ErrFailed} {
			if errors.Is(failed.err, known) {
				text = known.Error()
			}
		}
		return append([]byte{kind}, text...)
	}
	if err != nil {
		var known *problem.Problem
		if !errors.As(err, &known) {
			known = problem.New(problem.Unavailable, "%s: %v", p.Address(), err)
		}
		kind, value = publishProblem, known
	}
	b, err := json.Marshal(value)
	if err != nil {
		panic(err) // plain values
	}
	return append([]byte{kind}, b...)
}
