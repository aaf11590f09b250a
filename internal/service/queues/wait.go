package queues

import (
	"context"
	"encoding/binary"
	"slices"
	"time"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/clock"
	"steadyferry/internal/engine/link"
	"steadyferry/internal/engine/part"
	"steadyferry/internal/engine/peer"
	"steadyferry/internal/engine/replica"
	"steadyferry/internal/service/queues/presence"
	"steadyferry/internal/service/queues/turns"
)

// waiting is a member's waiting at the partitions of a queue that this node
// leads.
type waiting struct {
	ready chan struct{}
	at    []*queueMachine
	by    []*turns.Waiter
}

// waitAt begins to wait at partitions; with true there are messages already.
func waitAt(machines []*queueMachine, member string, messages int) (w *waiting, there bool) {
	w = &waiting{ready: make(chan struct{}, 1)}
	for _, m := range machines {
		m.presence.Note(member)
		w.at, w.by = append(w.at, m), append(w.by, m.waiters.Add(messages, w.ready))
		there = there || m.ready.Load() > 0
	}
	return w, there
}

// end ends the waiting. Of the partitions that woke the member it uses one, if
// it does at all; the others wake somebody else.
func (w *waiting) end(uses bool) {
	for i, m := range w.at {
		if m.waiters.Leave(w.by[i]) {
			if !uses {
				m.waiters.Wake(1)
			}
			uses = false
		}
	}
}

// ledHere returns the partitions of a queue that this node leads, and the
// nodes that lead others.
func (qs *Queues) ledHere(parts []*part.Partition) (here []*queueMachine, there []uint64) {
	for _, p := range parts {
		if m := machineOf(p); m != nil && qs.parts.Leads(p) {
			here = append(here, m)
		} else if leader := qs.parts.LeaderOf(p); leader != qs.id && !slices.Contains(there, leader) {
			there = append(there, leader)
		}
	}
	return here, there
}

// Times of waiting at other nodes: how long one call waits, and how long it is
// until a node is asked that could not be.
const (
	waitThere = 5 * time.Second
	AskAgain  = 200 * time.Millisecond
)

// awaitAny waits until a partition has messages, wherever it is led.
func (qs *Queues) awaitAny(ctx context.Context, parts []*part.Partition, member string, messages int, most time.Duration) error {
	here, there := qs.ledHere(parts)
	w, ready := waitAt(here, member, messages)
	if ready {
		w.end(false)
		return nil
	}
	uses := false
	defer func() { w.end(uses) }()
	asking, stop := context.WithCancel(ctx)
	defer stop()
	elsewhere := make(chan struct{}, len(there))
	for _, node := range there {
		go func() {
			if qs.awaitThere(asking, node, parts[0].Channel, member, messages, min(most, waitThere)) {
				elsewhere <- struct{}{}
			}
		}()
	}
	timer := time.NewTimer(min(most, waitThere))
	defer timer.Stop()
	select {
	case <-w.ready:
		uses = true
		return nil
	case <-elsewhere:
	case <-timer.C:
	case <-ctx.Done():
		return ctx.Err()
	}
	return nil
}

// awaitThere waits at another node; it reports whether its answer is worth a
// look.
func (qs *Queues) awaitThere(ctx context.Context, node uint64, t *part.Channel, member string, messages int, most time.Duration) bool {
	body := binary.AppendUvarint(part.KeyBytes(replica.Key{Channel: t.ID}), uint64(messages))
	body = append(binary.AppendUvarint(body, uint64(most.Microseconds())), member...)
	if node != 0 && qs.peers.Up(node) {
		if _, err := qs.peers.Call(ctx, node, "await", body); err == nil {
			return ctx.Err() == nil
		}
	}
	clock.Wait(ctx, AskAgain)
	return ctx.Err() == nil
}

// answerAwait waits for another node at the partitions that this one leads.
// Whoever asked may have gone meanwhile, so that it uses nothing up.
func (qs *Queues) answerAwait(ctx context.Context, _ uint64, p *part.Partition, body []byte) ([]byte, error) {
	messages, a := binary.Uvarint(body)
	if a <= 0 {
		return nil, peer.ErrCall
	}
	micros, b := binary.Uvarint(body[a:])
	if b <= 0 {
		return nil, peer.ErrCall
	}
	here, _ := qs.ledHere(p.Channel.Partitions())
	w, ready := waitAt(here, string(body[a+b:]), int(messages))
	defer w.end(false)
	if ready || len(here) == 0 {
		return nil, nil
	}
	defer link.Pause(ctx)()
	timer := time.NewTimer(min(time.Duration(micros)*time.Microsecond, waitThere))
	defer timer.Stop()
	select {
	case <-w.ready:
	case <-timer.C:
	case <-ctx.Done():
	}
	return nil, nil
}

// AwaitWork waits until a queue has messages to lease for a member that takes
// so many, as far as this node can tell; after a while it returns without.
func (qs *Queues) AwaitWork(ctx context.Context, t *part.Channel, member string, messages int) error {
	if err := access.Check(ctx, access.SeeCounts, at(t)); err != nil {
		return err
	}
	return qs.awaitAny(ctx, t.Partitions(), member, messages, presence.For/2)
}
