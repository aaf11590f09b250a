package replica

import (
	"context"
	"errors"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"
	"golang.org/x/sync/semaphore"
	"golang.org/x/time/rate"

	"steadyferry/internal/core/journal"
	"steadyferry/internal/engine/link"
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

	network Network
	pace    *rate.Limiter       // bytes per second of all feeds
	feeding *semaphore.Weighted // feeds at the same time
	stopped chan struct{}

	groupsMu sync.RWMutex
	groups   map[link.Key]*Group

	awakeMu sync.Mutex
	awake   map[*Group]struct{} // those for which time passes
}

// Network carries packets to other nodes.
type Network interface {
	// Send queues a packet, or drops it when too much waits. It never blocks.
	Send(to uint64, p link.Packet)
	// SendBulk sends a packet aside of the others, and waits for room.
	SendBulk(ctx context.Context, to uint64, p link.Packet)
	// Up reports whether the node answers, and hears this one.
	Up(node uint64) bool
}

// Alone is the network of a node without others.
type Alone struct{}

// Send, SendBulk and Up implement Network.
func (Alone) Send(uint64, link.Packet)                      {}
func (Alone) SendBulk(context.Context, uint64, link.Packet) {}
func (Alone) Up(uint64) bool                                { return false }

// tickTime is the step of a group's clock. A leader is missed after 16 to 32
// of them without a word, or at once when its process is seen to end.
const tickTime = 30 * time.Millisecond

// Feeds of this node at the same time, and the bytes they may send a second.
const (
	feedsAtOnce     = 4
	DefaultFeedRate = 144 << 20
)

// largeSyncs is how many journals are synced at the same time.
const largeSyncs = 4

// NewScheduler starts a scheduler over the journals of a store.
func NewScheduler(store *journal.Store, network Network, workers, feedRate int) *Scheduler {
	s := &Scheduler{store: store, network: network, groups: map[link.Key]*Group{}, awake: map[*Group]struct{}{}, stopped: make(chan struct{}),
		pace: rate.NewLimiter(rate.Limit(feedRate), feedPiece), feeding: semaphore.NewWeighted(feedsAtOnce)}
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
	s.wg.Go(s.passTime)
	for range largeSyncs {
		s.wg.Go(func() {
			for groups := s.large.take(1); groups != nil; groups = s.large.take(1) {
				groups[0].syncedSafely(groups[0].journal.Flush())
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
	s.groups[o.Key] = g
	s.groupsMu.Unlock()
	if !g.shown.Load().alone(g.member) {
		s.keepAwake(g)
	}
	s.wake(g)
	return nil
}

// passTime lets time pass for the groups that are awake.
func (s *Scheduler) passTime() {
	ticker := time.NewTicker(tickTime)
	defer ticker.Stop()
	var awake []*Group
	for {
		select {
		case <-s.stopped:
			return
		case <-ticker.C:
		}
		s.awakeMu.Lock()
		awake = awake[:0]
		for g := range s.awake {
			awake = append(awake, g)
		}
		s.awakeMu.Unlock()
		for _, g := range awake {
			g.mu.Lock()
			g.ticks++
			g.mu.Unlock()
			s.wake(g)
		}
	}
}

// keepAwake lets time pass for the group, until nothing is left to do.
func (s *Scheduler) keepAwake(g *Group) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.awake || g.closed {
		return
	}
	g.awake = true
	s.awakeMu.Lock()
	s.awake[g] = struct{}{}
	s.awakeMu.Unlock()
}

// letSleep lets no time pass for the group, unless something came meanwhile.
func (s *Scheduler) letSleep(g *Group) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if len(g.messages) > 0 || len(g.inbox) > 0 {
		return
	}
	g.awake = false
	s.awakeMu.Lock()
	delete(s.awake, g)
	s.awakeMu.Unlock()
}

// Receive hands a packet of another node to its group.
func (s *Scheduler) Receive(from uint64, p link.Packet) {
	s.groupsMu.RLock()
	g := s.groups[p.Key]
	s.groupsMu.RUnlock()
	if g == nil || p.Epoch != g.options.Epoch {
		return
	}
	switch p.Kind {
	case link.RaftPacket:
		if NodeOf(p.Message.GetFrom()) == from && p.Message.GetTo() == g.member {
			g.receive(p.Message)
		}
	case link.SleepPacket:
		g.toldToSleep(p.Message.GetFrom(), p.Message.GetTerm(), p.Message.GetIndex())
	case link.HandOverPacket:
		g.mu.Lock()
		g.reason = string(p.Message.GetContext())
		g.mu.Unlock()
	}
}

// NodeUp wakes the groups that a node, which answers again, is a member of.
func (s *Scheduler) NodeUp(node uint64) { s.nodeChanged(node, false) }

// NodeDown wakes the groups of a node that no longer answers. When its process
// has ended, the groups that it led elect another leader at once.
func (s *Scheduler) NodeDown(node uint64, ended bool) { s.nodeChanged(node, ended) }

func (s *Scheduler) nodeChanged(node uint64, ended bool) {
	s.groupsMu.RLock()
	defer s.groupsMu.RUnlock()
	for _, g := range s.groups {
		if m := g.Membership(); !m.Has(node) {
			continue
		}
		if ended {
			g.mu.Lock()
			g.died = node
			g.mu.Unlock()
		}
		s.keepAwake(g)
		s.wake(g)
	}
}

// Close stops a group after what it has in hand, and saves its state. With
// remove its files are deleted.
func (s *Scheduler) Close(ctx context.Context, g *Group, remove bool) error {
	var err error
	if !g.stalled.Load() {
		err = g.Do(ctx, func(*journal.Journal) error {
			g.members.stopFeeds()
			return g.save(false)
		})
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
	s.letSleep(g)
	s.groupsMu.Lock()
	if s.groups[g.options.Key] == g {
		delete(s.groups, g.options.Key)
	}
	s.groupsMu.Unlock()
	if err != nil && !errors.Is(err, ErrClosed) && !remove {
		return err
	}
	if !remove {
		return s.store.Forget(g.journal)
	}
	if err := nextGeneration(g.journal.Dir()); err != nil {
		return err
	}
	return s.store.Retire(g.journal, generationName)
}

func (g *Group) idle() bool {
	g.mu.Lock()
	defer g.mu.Unlock()
	return !g.scheduled
}

// closedAtOnce is how many groups a stop closes at the same time.
const closedAtOnce = 16

// Stop closes all groups and ends the workers.
func (s *Scheduler) Stop(ctx context.Context) error {
	s.groupsMu.Lock()
	var groups []*Group
	for _, g := range s.groups {
		groups = append(groups, g)
	}
	s.groupsMu.Unlock()
	// Many at once: each waits for the disk, and a disk writes for many as it does for one.
	var closing errgroup.Group
	closing.SetLimit(closedAtOnce)
	errs := make([]error, len(groups))
	for i, g := range groups {
		closing.Go(func() error {
			errs[i] = s.Close(ctx, g, false)
			return nil
		})
	}
	_ = closing.Wait()
	close(s.stopped)
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
	if g.failed.Load() == nil && g.runSafely() {
		if g.journal.Large() {
			s.large.put(g)
		} else {
			s.small.put(g)
		}
		return
	}
	g.mu.Lock()
	again := !g.closed && g.failed.Load() == nil && g.ready == nil && (len(g.chores) > 0 || len(g.messages) > 0 || g.ticks > 0 || g.leading && !g.members.handingOver && len(g.inbox) > 0)
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
			g.syncedSafely(err)
			s.step(g)
		}
	}
}

// maxTogether bounds how many groups wait for one another.
const maxTogether = 1024
