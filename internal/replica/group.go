// Package replica runs the partitions of a node: each is a Raft group
// (go.etcd.io/raft/v3) whose Raft log is the message log. One scheduler
// serves all groups of a node, so that an idle group costs nothing.
package replica

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"go.etcd.io/raft/v3"
	"go.etcd.io/raft/v3/raftpb"

	"steadyferry/internal/core/journal"
	"steadyferry/internal/core/message"
)

// Errors with which a proposal can be refused.
var (
	ErrNotReady = errors.New("the partition has no leader yet")
	ErrClosed   = errors.New("the partition is closing")
	ErrFailed   = errors.New("the partition stopped after an error of its disk")
	ErrDiskFull = errors.New("the disk is full")
	ErrTime     = errors.New("not durable within the time allowed")
)

// Proposal is a batch on its way into the log. Data has message.StampSize
// bytes of room for the stamp before the batch. Info is the machine's own.
type Proposal struct {
	Data  []byte
	Count uint32
	Info  any

	result chan Result
}

// Result is the answer to a proposal.
type Result struct {
	Offset int64
	Time   int64 // microseconds since 1970
	Repeat bool  // the log already had it; Offset is that of the original, -1 if it is not known any more
	Drops  int   // messages of it that were left out as repeats
	Err    error
}

// Machine is what a partition derives from its log. Its methods are called by
// one goroutine at a time.
type Machine interface {
	// Lead is called when this replica begins to lead, after everything
	// before it has been applied.
	Lead()
	// Prepare looks at a proposal on the leader, in the order in which they
	// will be stamped. With done it is answered with the result, once all
	// that was proposed before it is committed, and not appended.
	Prepare(p *Proposal, next message.Stamp) (r Result, done bool)
	// Apply is called for every committed batch, in order.
	Apply(r message.Record)
	// Save and Load write and read the state up to the last applied batch.
	Save() []byte
	Load(b []byte) error
}

// Options of a group.
type Options struct {
	Name    string // of the journal
	Member  uint64 // this replica's Raft id
	Voters  []uint64
	Journal journal.Options
}

// Group is this node's replica of one partition.
type Group struct {
	options Options
	sched   *Scheduler
	journal *journal.Journal
	machine Machine
	node    *raft.RawNode
	storage *storage

	mu        sync.Mutex // guards inbox, scheduled, closed, chores
	inbox     []*Proposal
	chores    []func()
	scheduled bool
	closed    bool

	// Of the worker that runs the group.
	ready      *raft.Ready // persisted or about to be, not yet finished
	unsynced   bool
	inflight   []waiting
	retry      *time.Timer
	leading    bool
	applied    uint64
	sinceSave  int
	savedAt    uint64
	nextOffset int64
	lastTime   int64

	failed    atomic.Pointer[error]
	stalled   atomic.Bool // waiting for room on the disk
	leads     atomic.Bool
	term      atomic.Uint64
	committed atomic.Uint64 // index
	end       atomic.Int64  // offset after the last committed message

	watchMu  sync.Mutex
	watchers map[chan struct{}]struct{}
	done     chan struct{} // closed when the group has stopped
}

type waiting struct {
	index   uint64
	term    uint64
	result  Result
	answers chan Result
}

// Bounds of what a group takes on before it lets publishers wait.
const (
	maxEntriesPerStep = 256
	maxBytesPerStep   = 8 << 20
	saveEvery         = 16 << 20 // bytes of log between two saves of the state
)

func openGroup(s *Scheduler, o Options, m Machine) (*Group, error) {
	j, err := s.store.Open(o.Name, o.Journal)
	if err != nil {
		return nil, err
	}
	if n := j.TornBytes(); n > 0 {
		slog.Info("cut off an unfinished append", "partition", o.Name, "bytes", n)
	}
	g := &Group{options: o, sched: s, journal: j, machine: m, watchers: map[chan struct{}]struct{}{}, done: make(chan struct{})}
	voters := o.Voters
	saved, err := loadSaved(j.Dir())
	b := j.Bounds()
	if err == nil && saved.index <= b.LastIdx && saved.index+1 >= b.FirstIdx {
		if err := m.Load(saved.state); err != nil {
			return nil, fmt.Errorf("partition %s: %w", o.Name, err)
		}
		g.applied, g.savedAt = saved.index, saved.index
	} else {
		g.applied = b.FirstIdx - 1
		if b.LastIdx > g.applied {
			slog.Warn("the saved state is missing or broken; reading the log again", "partition", o.Name, "bytes", b.Bytes)
		}
	}
	g.storage = &storage{journal: j, voters: voters, applied: g.applied}
	g.committed.Store(g.applied)
	g.end.Store(b.First)
	if err == nil && g.applied == saved.index {
		g.end.Store(max(saved.end, b.First))
	}
	g.node, err = raft.NewRawNode(&raft.Config{
		ID: o.Member, ElectionTick: 10, HeartbeatTick: 1, Storage: g.storage, Applied: g.applied,
		MaxSizePerMsg: 1 << 20, MaxCommittedSizePerReady: 16 << 20, MaxInflightMsgs: 256,
		MaxUncommittedEntriesSize: 256 << 20, CheckQuorum: true, PreVote: true,
		DisableProposalForwarding: true, Logger: raftLog{},
	})
	if err != nil {
		return nil, err
	}
	if len(voters) == 1 && voters[0] == o.Member {
		if err := g.node.Campaign(); err != nil {
			return nil, err
		}
	}
	return g, nil
}

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

// publishTime is how long a publisher waits for its batch to be durable.
const publishTime = 30 * time.Second

// Refusal returns why the group takes no proposals now, or nil.
func (g *Group) Refusal() error {
	switch {
	case g.failed.Load() != nil:
		return fmt.Errorf("%w: %v", ErrFailed, *g.failed.Load())
	case g.stalled.Load():
		return ErrDiskFull
	case !g.leads.Load():
		return ErrNotReady
	}
	return nil
}

func (g *Group) offer(p *Proposal) error {
	if err := g.Refusal(); err != nil && !errors.Is(err, ErrNotReady) {
		return err
	}
	g.mu.Lock()
	if g.closed {
		g.mu.Unlock()
		return ErrClosed
	}
	g.inbox = append(g.inbox, p)
	g.mu.Unlock()
	g.sched.wake(g)
	return nil
}

// Do runs a chore that changes the journal (roll, drop, settings) between two
// steps of the group, and waits for it.
func (g *Group) Do(ctx context.Context, chore func(*journal.Journal) error) error {
	done := make(chan error, 1)
	g.mu.Lock()
	if g.closed || g.failed.Load() != nil {
		g.mu.Unlock()
		return ErrClosed
	}
	g.chores = append(g.chores, func() { done <- chore(g.journal) })
	g.mu.Unlock()
	g.sched.wake(g)
	select {
	case err := <-done:
		return err
	case <-ctx.Done():
		return ctx.Err()
	}
}

// Drop lets retention take the n oldest segments, but nothing that is not
// applied yet.
func (g *Group) Drop(ctx context.Context, n int) error {
	return g.Do(ctx, func(j *journal.Journal) error {
		if err := g.save(); err != nil {
			return err
		}
		return j.Drop(n)
	})
}

// run is one turn of a worker: it runs the group until it has nothing to do, waits for
// a sync, or waits for room on the disk.
func (g *Group) run() (needsSync bool) {
	if g.ready != nil {
		if g.unsynced {
			return false // woken by something else while the sync runs
		}
		return g.persist()
	}
	for {
		g.runChores()
		g.propose()
		if !g.node.HasReady() {
			return false
		}
		rd := g.node.Ready()
		g.ready = &rd
		if rd.MustSync || len(rd.Entries) > 0 {
			return g.persist()
		}
		g.finish()
	}
}

func (g *Group) runChores() {
	g.mu.Lock()
	chores := g.chores
	g.chores = nil
	g.mu.Unlock()
	for _, chore := range chores {
		chore()
	}
}

// propose stamps what publishers have brought and hands it to Raft at once.
func (g *Group) propose() {
	if !g.leading {
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
	now := max(time.Now().UnixMicro(), g.lastTime)
	entries := make([]*raftpb.Entry, 0, n)
	first := len(g.inflight)
	for _, p := range taken {
		stamp := message.Stamp{Offset: g.nextOffset, Time: now, Count: p.Count}
		result, done := g.machine.Prepare(p, stamp)
		if !done {
			stamp.Count = p.Count // Prepare may have left out repeats
			stamp.Put(p.Data)
			result.Offset, result.Time = stamp.Offset, stamp.Time
			g.nextOffset = stamp.End()
			entries = append(entries, &raftpb.Entry{Data: p.Data})
		}
		// For an answer without an entry the index is that of what is
		// proposed before it: both are set below.
		g.inflight = append(g.inflight, waiting{index: uint64(len(entries)), result: result, answers: p.result})
	}
	g.lastTime = now
	base := g.storage.last
	if len(entries) > 0 {
		member := g.options.Member
		err := g.node.Step(&raftpb.Message{Type: raftpb.MsgProp.Enum(), From: &member, To: &member, Entries: entries})
		if err != nil {
			for _, w := range g.inflight[first:] {
				w.answers <- Result{Err: fmt.Errorf("%w: %v", ErrNotReady, err)}
			}
			g.inflight = g.inflight[:first]
			g.nextOffset = g.journal.Bounds().Next
			g.machine.Lead()
			return
		}
	}
	term := g.term.Load()
	for i := first; i < len(g.inflight); i++ {
		g.inflight[i].index += base
		g.inflight[i].term = term
	}
	if len(entries) == 0 && len(g.inflight) > 0 {
		g.answer(term)
	}
}

// persist writes the ready entries and state to the journal. It reports
// whether it could; if not, it is tried again after a while.
func (g *Group) persist() bool {
	rd := g.ready
	err := g.append(rd)
	if err == nil {
		g.stalled.Store(false)
		g.unsynced = true
		return true
	}
	if !errors.Is(err, syscall.ENOSPC) && !errors.Is(err, syscall.EDQUOT) {
		g.fail(err)
		return false
	}
	g.stalled.Store(true)
	g.refuseInbox(ErrDiskFull)
	g.retry = time.AfterFunc(500*time.Millisecond, func() { g.sched.wake(g) })
	return false
}

func (g *Group) append(rd *raft.Ready) error {
	if !raft.IsEmptyHardState(rd.HardState) {
		h := rd.HardState
		if s := g.journal.State(); s.Term != h.GetTerm() || s.Vote != h.GetVote() {
			if err := g.journal.SetVote(h.GetTerm(), h.GetVote(), h.GetCommit()); err != nil {
				return err
			}
		}
		g.term.Store(h.GetTerm())
	}
	records := make([]message.Record, len(rd.Entries))
	for i, e := range rd.Entries {
		records[i] = toRecord(e)
	}
	if err := g.journal.Append(records); err != nil {
		return err
	}
	g.storage.appended(rd.Entries)
	return nil
}

// synced is called by the scheduler when the journal is durable.
func (g *Group) synced(err error) {
	g.unsynced = false
	if err != nil {
		g.fail(err)
		return
	}
	g.finish()
}

// finish applies what the ready step committed and lets Raft go on.
func (g *Group) finish() {
	rd := g.ready
	g.ready = nil
	if rd.SoftState != nil {
		leading := rd.SoftState.RaftState == raft.StateLeader
		if !leading {
			g.leading = false
			g.leads.Store(false)
		}
	}
	if !raft.IsEmptyHardState(rd.HardState) {
		g.term.Store(rd.HardState.GetTerm())
	}
	for _, e := range rd.CommittedEntries {
		g.apply(e)
	}
	g.node.Advance(*rd)
	if n := len(rd.CommittedEntries); n > 0 {
		g.committed.Store(g.applied)
		g.answer(g.term.Load())
		g.notify()
	}
	if g.sinceSave >= saveEvery {
		if err := g.save(); err != nil {
			slog.Warn("could not save a partition's state; the next start will take longer", "partition", g.options.Name, "error", err)
		}
	}
}

func (g *Group) apply(e *raftpb.Entry) {
	r := toRecord(e)
	switch r.Kind {
	case message.KindBatch:
		g.machine.Apply(r)
		g.end.Store(r.Stamp().End())
	case message.KindMembership:
		var change raftpb.ConfChangeV2
		if err := unmarshal(e.GetData(), &change); err == nil {
			g.node.ApplyConfChange(&change)
		}
	case message.KindEmpty:
		// A leader's first entry: once it is applied, so is everything
		// before it, and proposals can be stamped.
		if status := g.node.BasicStatus(); status.RaftState == raft.StateLeader && e.GetTerm() == status.HardState.GetTerm() {
			b := g.journal.Bounds()
			g.nextOffset, g.lastTime = b.Next, b.LastTime
			g.term.Store(e.GetTerm())
			g.leading = true
			g.machine.Lead()
			g.leads.Store(true)
		}
	}
	g.applied = e.GetIndex()
	g.storage.applied = g.applied
	g.storage.release(g.applied)
	g.sinceSave += r.Size()
}

// answer tells publishers whose batches are committed.
func (g *Group) answer(term uint64) {
	n := 0
	for n < len(g.inflight) && g.inflight[n].index <= g.applied {
		w := g.inflight[n]
		if w.term != term {
			w.result = Result{Err: ErrNotReady}
		}
		w.answers <- w.result
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

func (g *Group) fail(err error) {
	slog.Error("a partition stopped: its disk does not keep what is written", "partition", g.options.Name, "error", err, "next", "check the disk, then start the node again")
	g.failed.Store(&err)
	g.leads.Store(false)
	g.refuseInbox(fmt.Errorf("%w: %v", ErrFailed, err))
	for _, w := range g.inflight {
		w.answers <- Result{Err: fmt.Errorf("%w: %v", ErrFailed, err)}
	}
	g.inflight = nil
}

// save writes the machine's state, so that the next start reads only the log
// behind it.
func (g *Group) save() error {
	g.sinceSave = 0
	if g.applied == g.savedAt {
		return nil
	}
	err := writeSaved(g.journal.Dir(), saved{index: g.applied, end: g.end.Load(), state: g.machine.Save()})
	if err == nil {
		g.savedAt = g.applied
	}
	return err
}

// Watch lets the channel be signalled whenever messages are committed; it
// needs room for one signal. Call the returned function to stop.
func (g *Group) Watch(signal chan struct{}) (stop func()) {
	g.watchMu.Lock()
	defer g.watchMu.Unlock()
	g.watchers[signal] = struct{}{}
	return func() {
		g.watchMu.Lock()
		defer g.watchMu.Unlock()
		delete(g.watchers, signal)
	}
}

func (g *Group) notify() {
	g.watchMu.Lock()
	defer g.watchMu.Unlock()
	for signal := range g.watchers {
		select {
		case signal <- struct{}{}:
		default:
		}
	}
}

// Journal returns the log, for readers.
func (g *Group) Journal() *journal.Journal { return g.journal }

// Committed returns the index up to which readers may read.
func (g *Group) Committed() uint64 { return g.committed.Load() }

// End returns the offset after the last committed message.
func (g *Group) End() int64 { return g.end.Load() }

// Stalled reports whether the group waits for room on its disk.
func (g *Group) Stalled() bool { return g.stalled.Load() }

// Failed reports whether the group stopped after an error of its disk.
func (g *Group) Failed() bool { return g.failed.Load() != nil }
