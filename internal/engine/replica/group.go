// Package replica runs the partitions of a node: each is a Raft group
// (go.etcd.io/raft/v3) whose Raft log is the message log. One scheduler
// serves all groups of a node, and groups with nothing to do sleep, so that
// they cost nothing. The network carries what the groups of several nodes say
// to each other.
package replica

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"runtime"
	"sync"
	"sync/atomic"
	"time"

	"go.etcd.io/raft/v3"
	"go.etcd.io/raft/v3/raftpb"

	"steadyferry/internal/core/journal"
	"steadyferry/internal/core/message"
	"steadyferry/internal/engine/link"
)

// Errors with which a proposal can be refused. After all but ErrTime it is
// certain that it is not in the log.
var (
	ErrNotLeading = errors.New("this replica does not lead the partition")
	ErrNoMajority = errors.New("fewer than half of the replicas answer, so that nothing can be kept safely")
	ErrClosed     = errors.New("the partition is closing")
	ErrFailed     = errors.New("the partition stopped after an error of its disk")
	ErrDiskFull   = errors.New("the disk is full")
	ErrTime       = errors.New("not durable within the time allowed")
)

// Proposal is a batch on its way into the log. Data has message.StampSize
// bytes of room for the stamp before the batch. Info is the machine's own.
type Proposal struct {
	Data   []byte
	Count  uint32
	Routes bool   // it is a command to routes
	By     uint32 // number of the principal that publishes it
	Info   any

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
	// Apply is called for every committed batch, in order. fresh is false for
	// those that the log held already when the replica was opened.
	Apply(r message.Record, fresh bool)
	// Save and Load write and read the state up to the last applied batch;
	// Load of nothing empties it.
	Save() []byte
	Load(b []byte) error
}

// Key names a group: the channel and the partition.
type Key = link.Key

// Options of a group.
type Options struct {
	Key      link.Key
	Node     uint64                   // that holds this replica
	Voters   []uint64                 // nodes with which the partition began
	MemberOf func(node uint64) uint64 // the id under which a node is ready to become a member, 0 when not known
	Epoch    uint64                   // raised when the partition was recovered by force; what older ones say is not heard
	Survivor bool                     // of the recovery: the partition goes on from this replica
	Journal  journal.Options
	Changed  func() // called when the leader or the members change; must not block
	Led      func(Led)
	Broken   func() // called when the replica must be closed and opened again; must not block
}

// Led tells that this replica began to lead.
type Led struct {
	Key    link.Key
	Term   uint64
	From   uint64 // the leader before, 0 when not known
	Reason string
}

// Group is this node's replica of one partition.
type Group struct {
	options Options
	member  uint64 // this replica's Raft id, see member.go
	sched   *Scheduler
	journal *journal.Journal
	machine Machine
	node    *raft.RawNode
	storage *storage

	mu           sync.Mutex // guards inbox to closed
	inbox        []*Proposal
	messages     []*raftpb.Message
	messageBytes int
	chores       []func()
	ticks        int
	died         uint64 // a member whose process ended
	want         []uint64
	reason       string // why the leadership is handed to this replica
	awake        bool
	scheduled    bool
	closed       bool

	// Of the worker that runs the group.
	ready      *raft.Ready // persisted or about to be, not yet finished
	unsynced   bool
	late       []*raftpb.Message // to be sent when ready is durable
	inflight   []waiting
	unnumbered int // the last ones of inflight, whose indexes Raft has not told yet
	retry      *time.Timer
	leading    bool
	applied    uint64
	opened     uint64 // last index when the group was opened
	sinceSave  int
	savedAt    uint64
	appliedTo  int64 // offset after, and time and term of, the last applied batch
	appliedAt  int64
	appliedIn  uint64
	nextOffset int64
	members    memberState

	stamped   atomic.Pointer[stamped]
	failed    atomic.Pointer[error]
	stateSize atomic.Int64 // bytes of the machine's state when it was saved last
	stalled   atomic.Bool  // waiting for room on the disk
	lostEnd   atomic.Pointer[LostEnd]
	leads     atomic.Bool
	term      atomic.Uint64
	committed atomic.Uint64              // index
	end       atomic.Int64               // offset after the last committed message
	shown     atomic.Pointer[Membership] // with Raft ids
	nodes     atomic.Pointer[Membership] // the same with ids of nodes

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

// Do runs a chore between two steps of the group, such as one that changes
// the journal (roll, drop, settings), and waits for it.
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
// applied yet, nor more than a replica that is left behind could do without:
// the state before the first segment that stays must be there.
func (g *Group) Drop(ctx context.Context, n int) error {
	return g.Do(ctx, func(j *journal.Journal) error {
		for ; n > 0; n-- {
			base := j.BaseOf(n)
			if base == g.applied+1 {
				if err := g.checkpointSegment(base); err != nil {
					return err
				}
			}
			c, err := readCheckpoint(j.Dir(), segmentCheckpoint(base))
			if base > g.applied+1 || err != nil && !g.shown.Load().alone(g.member) {
				continue // the next round takes it
			}
			// On a full disk nothing new can be saved; what was is enough
			// when it lies behind what goes.
			if err := g.save(true); err != nil && g.savedAt+1 < base {
				return err
			}
			return g.dropBefore(base, n, c != nil)
		}
		return nil
	})
}

// runSafely is run, for a group that must not bring the node down: whatever
// goes wrong in it stops the partition, and no other.
func (g *Group) runSafely() (needsSync bool) {
	defer g.contain()
	return g.run()
}

func (g *Group) syncedSafely(err error) {
	defer g.contain()
	g.synced(err)
}

// contain turns a panic of the group's own code, or of Raft's, into its
// failure.
func (g *Group) contain() {
	if v := recover(); v != nil {
		stack := make([]byte, 4<<10)
		slog.Error("a partition stopped unexpectedly", "partition", g.options.Key.String(), "panic", fmt.Sprint(v), "stack", string(stack[:runtime.Stack(stack, false)]))
		g.fail(fmt.Errorf("%v", v))
	}
}

// run is one turn of a worker: it runs the group until it has nothing to do, waits for
// a sync, or waits for room on the disk.
func (g *Group) run() (needsSync bool) {
	if g.ready != nil {
		if g.unsynced {
			return false // woken by something else while the sync runs
		}
		g.runChores() // retention may make room
		return g.persist()
	}
	for {
		g.runChores()
		g.stepMessages()
		g.propose()
		if !g.node.HasReady() {
			return false
		}
		rd := g.node.Ready()
		g.ready = &rd
		g.numberFrom(rd.Entries)
		g.sendEarly(rd.Messages)
		if rd.MustSync || len(rd.Entries) > 0 || !raft.IsEmptySnap(rd.Snapshot) {
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
	if !isDiskFull(err) {
		g.fail(err)
		return false
	}
	g.stalled.Store(true)
	g.refuseInbox(ErrDiskFull)
	g.retry = time.AfterFunc(500*time.Millisecond, func() { g.sched.wake(g) })
	return false
}

func (g *Group) append(rd *raft.Ready) error {
	if !raft.IsEmptySnap(rd.Snapshot) {
		if err := g.install(rd.Snapshot); err != nil {
			return err
		}
	}
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

// finish sends what had to wait for the disk, applies what the ready step
// committed and lets Raft go on.
func (g *Group) finish() {
	rd := g.ready
	g.ready = nil
	if !raft.IsEmptyHardState(rd.HardState) {
		g.term.Store(rd.HardState.GetTerm())
	}
	if rd.SoftState != nil {
		g.roleChanged(rd.SoftState)
	}
	g.sendLate()
	before := g.applied
	g.applyAll(rd.CommittedEntries)
	g.node.Advance(*rd)
	if g.applied > before {
		g.committed.Store(g.applied)
		g.answer()
		g.notify()
	}
	g.storage.release(g.members.everywhere(g))
	g.leadAgain()
	if g.sinceSave >= max(saveEvery, 4*int(g.stateSize.Load())) {
		if err := g.save(false); err != nil {
			slog.Warn("could not save a partition's state; the next start will take longer", "partition", g.options.Key.String(), "error", err)
		}
	}
}

// applyAll applies committed entries. The state before each segment is kept
// for replicas that are left behind one day.
func (g *Group) applyAll(entries []*raftpb.Entry) {
	if len(entries) == 0 {
		return
	}
	bases := g.journal.Bases(max(g.applied+1, 2), entries[len(entries)-1].GetIndex()+1)
	for _, e := range entries {
		for len(bases) > 0 && bases[0] <= g.applied+1 {
			if err := g.checkpointSegment(bases[0]); err != nil {
				slog.Warn("could not keep the state before a segment; it will be dropped later", "partition", g.options.Key.String(), "error", err)
			}
			bases = bases[1:]
		}
		g.apply(e)
	}
}

func (g *Group) apply(e *raftpb.Entry) {
	r := toRecord(e)
	g.appliedIn = e.GetTerm()
	switch r.Kind {
	case message.KindBatch, message.KindCommand, message.KindRoutes:
		g.machine.Apply(r, r.Index > g.opened)
		stamp := r.Stamp()
		g.appliedTo, g.appliedAt = stamp.End(), stamp.Time
		g.end.Store(stamp.End())
	case message.KindMembership:
		g.changeMembers(e)
	}
	g.applied = e.GetIndex()
	g.storage.applied = g.applied
	g.sinceSave += r.Size()
	for i := range g.inflight {
		// An entry of a later leader: what an earlier one had proposed from
		// here on can no longer be committed.
		if w := &g.inflight[i]; w.term < e.GetTerm() && w.index >= e.GetIndex() {
			w.result, w.index = Result{Err: ErrNotLeading}, 0
		}
	}
	if r.Kind == message.KindEmpty && !g.leads.Load() {
		// A leader's first entry: once it is applied, so is everything
		// before it, and proposals can be stamped.
		status := g.node.BasicStatus()
		if status.RaftState == raft.StateLeader && e.GetTerm() == status.HardState.GetTerm() {
			g.lead(e.GetTerm())
			g.tellLed(e.GetTerm())
		}
	}
}

// lead begins to take proposals.
func (g *Group) lead(term uint64) {
	b := g.journal.Bounds()
	g.nextOffset = b.Next
	g.stamped.Store(&stamped{b.LastTime, time.Now()})
	g.term.Store(term)
	g.leading = true
	g.machine.Lead()
	g.leads.Store(true)
	g.showMembers()
}

// tellLed tells why this replica leads now.
func (g *Group) tellLed(term uint64) {
	g.mu.Lock()
	reason := g.reason
	g.reason = ""
	g.mu.Unlock()
	from := g.members.lead
	switch {
	case reason != "":
	case g.options.Led == nil || g.shown.Load().alone(g.member):
		return
	case from == g.member:
		reason = "elected again after an interruption"
	case from == 0:
		reason = "elected after a start"
	case !g.up(from):
		reason = "the leader no longer answered"
	default:
		reason = "the leader was not heard in time"
	}
	g.members.lead = g.member
	if g.options.Led != nil {
		g.options.Led(Led{Key: g.options.Key, Term: term, From: NodeOf(from), Reason: reason})
	}
}

// leadAgain goes on leading after proposals were refused halfway.
func (g *Group) leadAgain() {
	if g.members.leadAgain && g.ready == nil && g.applied == g.storage.last && !g.node.HasReady() {
		g.members.leadAgain = false
		if status := g.node.BasicStatus(); status.RaftState == raft.StateLeader && g.leads.Load() {
			g.lead(status.HardState.GetTerm())
		}
	}
}

func (g *Group) fail(err error) {
	slog.Error("a partition stopped: its disk does not keep what is written", "partition", g.options.Key.String(), "error", err, "next", "check the disk, then start the node again")
	g.failed.Store(&err)
	g.leads.Store(false)
	g.refuseInbox(fmt.Errorf("%w: %v", ErrFailed, err))
	g.refuseInflight(fmt.Errorf("%w: %v", ErrTime, err))
	g.options.changed()
}
