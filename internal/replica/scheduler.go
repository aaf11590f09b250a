package replica

import (
	"context"
	"errors"
	"sync"
	"time"

	"steadyferry/internal/core/journal"
)

// Scheduler runs all groups of a node with a few workers, and makes what they
// wrote durable: many small appends together, large ones each alone.
type Scheduler struct {
	store *journal.Store

	mu      sync.Mutex
	work    *sync.Cond
	queue   []*Group
	stopped bool

	syncMu  sync.Mutex
	syncing *sync.Cond
	small   []*Group
	stopSyn bool

	large chan *Group
	wg    sync.WaitGroup

	groupsMu sync.Mutex
	groups   map[*Group]struct{}
}

// largeSyncs is how many journals are synced at the same time.
const largeSyncs = 4

// NewScheduler starts a scheduler over the journals of a store.
func NewScheduler(store *journal.Store, workers int) *Scheduler {
	s := &Scheduler{store: store, large: make(chan *Group), groups: map[*Group]struct{}{}}
	s.work = sync.NewCond(&s.mu)
	s.syncing = sync.NewCond(&s.syncMu)
	for range workers {
		s.wg.Go(s.worker)
	}
	s.wg.Go(s.smallSyncs)
	for range largeSyncs {
		s.wg.Go(s.largeSync)
	}
	return s
}

// Open opens a group, or makes it, gives it to the callback and lets it run.
func (s *Scheduler) Open(o Options, m Machine, opened func(*Group)) error {
	g, err := openGroup(s, o, m)
	if err != nil {
		return err
	}
	opened(g)
	s.groupsMu.Lock()
	s.groups[g] = struct{}{}
	s.groupsMu.Unlock()
	s.wake(g)
	return nil
}

// Close stops a group after what it has in hand, and saves its state. With
// remove its files are deleted.
func (s *Scheduler) Close(ctx context.Context, g *Group, remove bool) error {
	var err error
	if !g.stalled.Load() {
		err = g.Do(ctx, func(*journal.Journal) error { return g.save() })
	}
	g.mu.Lock()
	already := g.closed
	g.closed = true
	g.mu.Unlock()
	if already {
		return nil
	}
	g.refuseInbox(ErrClosed)
	// The worker may still be in a step: wait until it has let go.
	for !g.idle() && ctx.Err() == nil {
		time.Sleep(time.Millisecond)
	}
	close(g.done)
	s.groupsMu.Lock()
	delete(s.groups, g)
	s.groupsMu.Unlock()
	if err != nil && !errors.Is(err, ErrClosed) && !remove {
		return err
	}
	return s.store.Forget(g.journal, remove)
}

// Done is closed when the group has been closed, for readers that wait.
func (g *Group) Done() <-chan struct{} { return g.done }

func (g *Group) idle() bool {
	g.mu.Lock()
	defer g.mu.Unlock()
	return !g.scheduled
}

// Stop closes all groups and ends the workers.
func (s *Scheduler) Stop(ctx context.Context) error {
	s.groupsMu.Lock()
	var groups []*Group
	for g := range s.groups {
		groups = append(groups, g)
	}
	s.groupsMu.Unlock()
	var errs []error
	for _, g := range groups {
		errs = append(errs, s.Close(ctx, g, false))
	}
	s.mu.Lock()
	s.stopped = true
	s.work.Broadcast()
	s.mu.Unlock()
	s.syncMu.Lock()
	s.stopSyn = true
	s.syncing.Broadcast()
	s.syncMu.Unlock()
	close(s.large)
	s.wg.Wait()
	return errors.Join(errs...)
}

// wake puts a group into the queue unless it is there or being run. A group
// that is run looks again at its inbox before it lets go.
func (s *Scheduler) wake(g *Group) {
	g.mu.Lock()
	if g.scheduled {
		g.mu.Unlock()
		return
	}
	g.scheduled = true
	g.mu.Unlock()
	s.enqueue(g)
}

func (s *Scheduler) enqueue(g *Group) {
	s.mu.Lock()
	s.queue = append(s.queue, g)
	s.work.Signal()
	s.mu.Unlock()
}

func (s *Scheduler) worker() {
	for {
		s.mu.Lock()
		for len(s.queue) == 0 && !s.stopped {
			s.work.Wait()
		}
		if len(s.queue) == 0 {
			s.mu.Unlock()
			return
		}
		g := s.queue[0]
		s.queue = s.queue[1:]
		if len(s.queue) == 0 {
			s.queue = nil
		}
		s.mu.Unlock()
		s.step(g)
	}
}

// step runs a group. It stays scheduled while its journal is being synced, so
// that no other worker takes it.
func (s *Scheduler) step(g *Group) {
	if g.failed.Load() == nil && g.run() {
		if g.journal.Large() {
			s.large <- g
			return
		}
		s.syncMu.Lock()
		s.small = append(s.small, g)
		s.syncing.Signal()
		s.syncMu.Unlock()
		return
	}
	g.mu.Lock()
	again := !g.closed && g.failed.Load() == nil && g.ready == nil && (len(g.chores) > 0 || g.leading && len(g.inbox) > 0)
	g.scheduled = again
	g.mu.Unlock()
	if again {
		s.enqueue(g)
	}
}

func (s *Scheduler) smallSyncs() {
	for {
		s.syncMu.Lock()
		for len(s.small) == 0 && !s.stopSyn {
			s.syncing.Wait()
		}
		groups := s.small
		s.small = nil
		s.syncMu.Unlock()
		if len(groups) == 0 {
			return
		}
		journals := make([]*journal.Journal, len(groups))
		for i, g := range groups {
			journals[i] = g.journal
		}
		err := s.store.FlushTogether(journals)
		for _, g := range groups {
			g.synced(err)
			s.enqueue(g)
		}
	}
}

func (s *Scheduler) largeSync() {
	for g := range s.large {
		g.synced(g.journal.Flush())
		s.enqueue(g)
	}
}
