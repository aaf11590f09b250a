package replica

import (
	"context"
	"errors"
	"sync"
	"time"

	"steadyferry/internal/core/journal"
)

// Scheduler runs all groups of a node with a few workers, and makes what they
// wrote durable: many small appends together, large ones each alone. Whoever
// has synced a group's journal also runs its next step, so that a busy group
// goes round without being handed from one goroutine to another.
type Scheduler struct {
	store *journal.Store
	work  queue // groups with something to do
	small queue // groups whose journals are synced together
	large queue // groups whose journals are synced alone
	wg    sync.WaitGroup

	groupsMu sync.Mutex
	groups   map[*Group]struct{}
}

// largeSyncs is how many journals are synced at the same time.
const largeSyncs = 4

// NewScheduler starts a scheduler over the journals of a store.
func NewScheduler(store *journal.Store, workers int) *Scheduler {
	s := &Scheduler{store: store, groups: map[*Group]struct{}{}}
	for _, q := range []*queue{&s.work, &s.small, &s.large} {
		q.filled = sync.NewCond(&q.mu)
	}
	for range workers {
		s.wg.Go(func() {
			for groups := s.work.take(1); groups != nil; groups = s.work.take(1) {
				s.step(groups[0])
			}
		})
	}
	s.wg.Go(s.syncTogether)
	for range largeSyncs {
		s.wg.Go(func() {
			for groups := s.large.take(1); groups != nil; groups = s.large.take(1) {
				groups[0].synced(groups[0].journal.Flush())
				s.step(groups[0])
			}
		})
	}
	return s
}

// queue hands groups from one goroutine to others.
type queue struct {
	mu     sync.Mutex
	filled *sync.Cond
	groups []*Group
	closed bool
}

func (q *queue) put(g *Group) {
	q.mu.Lock()
	q.groups = append(q.groups, g)
	q.mu.Unlock()
	q.filled.Signal()
}

// take waits for groups and returns the oldest ones, at most as many as
// asked for. It returns nil when the queue is closed and empty.
func (q *queue) take(most int) []*Group {
	q.mu.Lock()
	defer q.mu.Unlock()
	for len(q.groups) == 0 && !q.closed {
		q.filled.Wait()
	}
	n := min(most, len(q.groups))
	if n == 0 {
		return nil
	}
	taken := q.groups[:n:n]
	if q.groups = q.groups[n:]; len(q.groups) == 0 {
		q.groups = nil
	}
	return taken
}

func (q *queue) close() {
	q.mu.Lock()
	defer q.mu.Unlock()
	q.closed = true
	q.filled.Broadcast()
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
	s.work.close()
	s.small.close()
	s.large.close()
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
	s.work.put(g)
}

// step runs a group. It stays scheduled while its journal is being synced, so
// that nobody else takes it.
func (s *Scheduler) step(g *Group) {
	if g.failed.Load() == nil && g.run() {
		if g.journal.Large() {
			s.large.put(g)
		} else {
			s.small.put(g)
		}
		return
	}
	g.mu.Lock()
	again := !g.closed && g.failed.Load() == nil && g.ready == nil && (len(g.chores) > 0 || g.leading && len(g.inbox) > 0)
	g.scheduled = again
	g.mu.Unlock()
	if again {
		s.work.put(g)
	}
}

// syncTogether makes the small appends of all groups that wait durable at
// once.
func (s *Scheduler) syncTogether() {
	for groups := s.small.take(maxTogether); groups != nil; groups = s.small.take(maxTogether) {
		journals := make([]*journal.Journal, len(groups))
		for i, g := range groups {
			journals[i] = g.journal
		}
		err := s.store.FlushTogether(journals)
		for _, g := range groups {
			g.synced(err)
			s.step(g)
		}
	}
}

// maxTogether bounds how many groups wait for one another.
const maxTogether = 1024
