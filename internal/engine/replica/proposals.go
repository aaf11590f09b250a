package replica

import (
	"context"
	"errors"
	"fmt"
	"time"

	"go.etcd.io/raft/v3/raftpb"

	"steadyferry/internal/core/clock"
	"steadyferry/internal/core/message"
)

// publishTime is how long a publisher waits for its batch to be durable.
const publishTime = 30 * time.Second

// Publish proposes a batch and waits until it is durable on a majority of the
// replicas and applied.
func (g *Group) Publish(ctx context.Context, p *Proposal) Result {
	p.result = make(chan Result, 1)
	if err := g.offer(p); err != nil {
		return Result{Err: err}
	}
	limit := time.NewTimer(publishTime)
	defer limit.Stop()
	select {
	case r := <-p.result:
		return r
	case <-limit.C:
		return Result{Err: ErrTime}
	case <-ctx.Done():
		return Result{Err: ctx.Err()}
	}
}

// Refusal returns why the group takes no proposals now, or nil.
func (g *Group) Refusal() error {
	switch {
	case g.failed.Load() != nil:
		return fmt.Errorf("%w: %v", ErrFailed, *g.failed.Load())
	case g.lostEnd.Load() != nil:
		return ErrLostEnd
	case g.stalled.Load():
		return ErrDiskFull
	case !g.HasMajority():
		return ErrNoMajority
	case !g.leads.Load():
		return ErrNotLeading
	}
	return nil
}

func (g *Group) offer(p *Proposal) error {
	if err := g.Refusal(); err != nil && !(errors.Is(err, ErrNotLeading) && g.shown.Load().alone(g.member)) {
		return err
	}
	g.mu.Lock()
	if g.closed {
		g.mu.Unlock()
		return ErrClosed
	}
	g.inbox = append(g.inbox, p)
	sleeps := !g.awake
	g.mu.Unlock()
	if sleeps && !g.shown.Load().alone(g.member) {
		g.sched.keepAwake(g)
	}
	g.sched.wake(g)
	return nil
}

// propose stamps what publishers have brought and hands it to Raft at once.
func (g *Group) propose() {
	if !g.leads.Load() && !g.shown.Load().alone(g.member) {
		g.refuseInbox(ErrNotLeading) // what came while the leadership went
	}
	if !g.leading || g.members.handingOver {
		return
	}
	g.mu.Lock()
	n, bytes := 0, 0
	for n < len(g.inbox) && n < maxEntriesPerStep && bytes < maxBytesPerStep {
		bytes += len(g.inbox[n].Data)
		n++
	}
	taken := g.inbox[:n:n]
	g.inbox = g.inbox[n:]
	if len(g.inbox) == 0 {
		g.inbox = nil
	}
	g.mu.Unlock()
	if n == 0 {
		return
	}
	g.members.idle = 0
	now := g.Time()
	entries := make([]*raftpb.Entry, 0, n)
	first := len(g.inflight)
	for _, p := range taken {
		stamp := message.Stamp{Offset: g.nextOffset, Time: now, Count: p.Count, Routes: p.Routes, By: p.By}
		result, done := g.machine.Prepare(p, stamp)
		if !done {
			stamp.Count = p.Count // Prepare may have left out repeats
			stamp.Put(p.Data)
			result.Offset, result.Time = stamp.Offset, stamp.Time
			g.nextOffset = stamp.End()
			entries = append(entries, &raftpb.Entry{Data: p.Data})
		}
		// For an answer without an entry the index is that of what is
		// proposed before it: both are set when Raft has numbered them.
		g.inflight = append(g.inflight, waiting{index: uint64(len(entries)), result: result, answers: p.result})
	}
	g.stamped.Store(&stamped{now, time.Now()})
	if len(entries) > 0 {
		member := g.member
		err := g.node.Step(&raftpb.Message{Type: raftpb.MsgProp.Enum(), From: &member, To: &member, Entries: entries})
		if err != nil {
			for _, w := range g.inflight[first:] {
				w.answers <- Result{Err: fmt.Errorf("%w: %v", ErrNotLeading, err)}
			}
			g.inflight = g.inflight[:first]
			// What Prepare noted of them is wrong: leading begins again once
			// all that did go into the log is applied.
			g.leading = false
			g.members.leadAgain = true
			g.leadAgain()
			return
		}
	}
	term := g.term.Load()
	for i := first; i < len(g.inflight); i++ {
		g.inflight[i].term = term
	}
	if len(entries) == 0 {
		g.number(first, g.storage.last)
		g.answer()
		return
	}
	g.unnumbered = len(g.inflight) - first
}

// stamped is the time that a leader gave last, microseconds since 1970, and
// when it did, by the clock that never goes back.
type stamped struct {
	time int64
	at   time.Time
}

// Time is the time of day that a leader stamps now, microseconds since 1970.
// It never goes back; while the clock of the machine is behind what was
// stamped last, it goes on by the time that really passes.
func (g *Group) Time() int64 {
	now := clock.Now().UnixMicro()
	if last := g.stamped.Load(); last != nil && now < last.time {
		return last.time + time.Since(last.at).Microseconds()
	}
	return now
}

// number sets the indexes of proposals, which so far are relative to base.
func (g *Group) number(first int, base uint64) {
	for i := first; i < len(g.inflight); i++ {
		g.inflight[i].index += base
	}
}

// numberFrom sees from the entries of a ready step where Raft has put what was
// proposed: a change of members that it made may come before.
func (g *Group) numberFrom(entries []*raftpb.Entry) {
	if g.unnumbered == 0 {
		return
	}
	for _, e := range entries {
		if toRecord(e).Stamped() {
			g.number(len(g.inflight)-g.unnumbered, e.GetIndex()-1)
			g.unnumbered = 0
			return
		}
	}
}

// answer tells publishers whose batches are committed, or lost.
func (g *Group) answer() {
	n := 0
	for n < len(g.inflight) && g.inflight[n].index <= g.applied {
		g.inflight[n].answers <- g.inflight[n].result
		n++
	}
	g.inflight = g.inflight[n:]
	if len(g.inflight) == 0 {
		g.inflight = nil
	}
}

func (g *Group) refuseInbox(err error) {
	g.mu.Lock()
	inbox := g.inbox
	g.inbox = nil
	g.mu.Unlock()
	for _, p := range inbox {
		p.result <- Result{Err: err}
	}
}

// refuseInflight answers those who wait for what may or may not be committed
// one day.
func (g *Group) refuseInflight(err error) {
	for _, w := range g.inflight {
		w.answers <- Result{Err: err}
	}
	g.inflight = nil
}
