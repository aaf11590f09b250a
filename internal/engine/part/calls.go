package part

import (
	"context"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"iter"

	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/topic"
	"steadyferry/internal/engine/link"
	"steadyferry/internal/engine/peer"
	"steadyferry/internal/engine/replica"
)

// KeyBytes begins a call that is about a partition.
func KeyBytes(k replica.Key) []byte {
	return binary.AppendUvarint(binary.AppendUvarint(nil, uint64(k.Channel)), uint64(k.Partition))
}

// keyOf reads a key and returns what follows it.
func keyOf(b []byte) (k replica.Key, rest []byte, ok bool) {
	channel, n := binary.Uvarint(b)
	if n <= 0 {
		return k, nil, false
	}
	partition, m := binary.Uvarint(b[n:])
	if m <= 0 {
		return k, nil, false
	}
	return replica.Key{Channel: int64(channel), Partition: int(partition)}, b[n+m:], true
}

// ErrMoved says that a replica is no longer here.
var ErrMoved = errors.New("the partition is no longer served here")

// answerPartitions has calls about what this node holds answered.
func (reg *Registry) answer() {
	reg.Calls.Hear("tell", func(from uint64, _ []byte) { (*fromPeers)(reg).tellAll(from) })
	reg.Calls.Hear("report", reg.heardReport)
	peer.Answer(&reg.Calls, "series", reg.answerSeries)
	reg.HandleAt("publish", reg.answerPublish)
	reg.HandleAt("raw", reg.answerRaw)
	reg.HandleAt("route-step", reg.answerStep)
	reg.HandleAt("route-origin", reg.answerOrigin)
	reg.HandleAt("route-plan", answerPlan)
	AnswerHeld(reg, "segments", func(_ *Partition, g *replica.Group, r topic.Retention) (topic.Loss, error) {
		return topic.LossOf(g.Journal(), r), nil
	})
}

// AnswerHeld has a question about a partition, as JSON, answered where the node
// holds a replica of it.
func AnswerHeld[Q, A any](reg *Registry, kind string, f func(p *Partition, g *replica.Group, question Q) (A, error)) {
	reg.HandleAt(kind, func(_ context.Context, _ uint64, p *Partition, rest []byte) ([]byte, error) {
		g := p.Replica()
		if g == nil {
			return nil, ErrMoved
		}
		var q Q
		if len(rest) > 0 {
			if err := json.Unmarshal(rest, &q); err != nil {
				return nil, fmt.Errorf("%w: %s: %v", peer.ErrCall, kind, err)
			}
		}
		a, err := f(p, g, q)
		if err != nil {
			return nil, err
		}
		return json.Marshal(a)
	})
}

// HandleAt has calls that begin with the key of a partition answered by f.
func (reg *Registry) HandleAt(kind string, f func(ctx context.Context, from uint64, p *Partition, rest []byte) ([]byte, error)) {
	reg.Calls.Handle(kind, func(ctx context.Context, from uint64, body []byte) ([]byte, error) {
		key, rest, ok := keyOf(body)
		if !ok {
			return nil, peer.ErrCall
		}
		p := reg.At(key)
		if p == nil {
			return nil, fmt.Errorf("partition %s is not known here yet", key)
		}
		return f(ctx, from, p, rest)
	})
}

// Call asks another node and explains why it has no answer.
func (reg *Registry) Call(ctx context.Context, to uint64, kind string, body []byte) ([]byte, error) {
	out, err := reg.peers.Call(ctx, to, kind, body)
	if errors.Is(err, link.ErrAway) || errors.As(err, new(*link.Refused)) {
		return nil, problem.New(problem.Unavailable, "%s: %v", reg.NodeName(to), err).Next("try again in a moment")
	}
	return out, err
}

// Holders goes through the other nodes that have reported a replica of a
// partition and answer.
func (reg *Registry) Holders(p *Partition) iter.Seq[uint64] {
	key := p.Key()
	return func(yield func(uint64) bool) {
		for _, id := range reg.OtherNodes() {
			if reg.peers.Up(id) && reg.reports.Replica(id, key) != nil && !yield(id) {
				return
			}
		}
	}
}
