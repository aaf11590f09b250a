package node

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"hash/fnv"
	"log/slog"
	"maps"
	"slices"
	"strconv"
	"sync"
	"time"

	"golang.org/x/sync/singleflight"

	"steadyferry/internal/core/group"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/replica"
)

// A group is coordinated by one node: the one that all nodes agree on as long
// as they see the same nodes. Who reads what is in the records, with an epoch
// that the coordinator has raised when it began: should two nodes think that
// they coordinate, the records take nothing from the first one any more.

// coordinatorOf returns the node that should coordinate a group: of those that
// answer, the one with the highest hash of both, so that few groups move when
// a node comes or goes.
func (n *Node) coordinatorOf(id int64) uint64 {
	best, most := n.id, uint64(0)
	for _, node := range append(n.otherNodes(), n.id) {
		if node != n.id && !n.peers.Up(node) {
			continue
		}
		h := fnv.New64a()
		fmt.Fprintf(h, "%d of %d, %d", id, node, id)
		if sum := h.Sum64(); sum > most {
			best, most = node, sum
		}
	}
	return best
}

// Coordinates reports whether this node should coordinate a group.
func (n *Node) Coordinates(id int64) bool { return n.coordinatorOf(id) == n.id }

// coordinator is this node's part in a group that it coordinates.
type coordinator struct {
	n     *Node
	group int64
	epoch int64

	mu        sync.Mutex
	table     *group.Table // as it is recorded
	heard     map[string]time.Time
	touched   map[string]uint64 // generation in which a member's share changed last
	told      map[string][]int  // what a member that polls was told to give up
	committed map[int]int64
	sent      map[int]int64 // offset after what was handed out to the holder that polls
	pending   []*shareChange
	writing   bool
	moving    bool // offsets are being moved by hand
	inFlight  int  // commits on their way into the records
	taken     bool // another node coordinates the group now
	unsure    bool // a move may or may not be in the records: they are read anew before anything is committed
	changed   signal
}

// shareChange is a change of who reads what, on its way into the records.
type shareChange struct {
	apply func(*group.Table) error
	done  chan error
}

// coordinators are the groups that this node coordinates.
type coordinators struct {
	mu      sync.Mutex
	groups  map[int64]*coordinator
	opening singleflight.Group
}

func newCoordinators() *coordinators { return &coordinators{groups: map[int64]*coordinator{}} }

// get returns the coordinator of a group, which begins its work if need be, or
// anew when it commits and is not sure of what the records have.
func (cs *coordinators) get(ctx context.Context, n *Node, g *catalog.Group, commits bool) (*coordinator, error) {
	cs.mu.Lock()
	c := cs.groups[g.ID]
	cs.mu.Unlock()
	if c != nil && !(commits && c.isUnsure()) {
		return c, nil
	}
	// Those who ask meanwhile get the same one.
	opened, err, _ := cs.opening.Do(strconv.FormatInt(g.ID, 10), func() (any, error) { return cs.open(context.WithoutCancel(ctx), n, g) })
	if err != nil {
		return nil, err
	}
	return opened.(*coordinator), nil
}

// open takes a group over, from the records.
func (cs *coordinators) open(ctx context.Context, n *Node, g *catalog.Group) (*coordinator, error) {
	if n.topicByID(g.ChannelID) == nil {
		return nil, problem.New(problem.Unavailable, "group %s is being opened", g.Name).Next("try again in a moment")
	}
	from, err := n.catalog.TakeOver(ctx, g.ID)
	if errors.Is(err, catalog.ErrNotFound) {
		return nil, problem.New(problem.NotFound, "group %s was removed", g.Name)
	}
	if err != nil {
		return nil, explain(err, g.Name)
	}
	c := &coordinator{n: n, group: g.ID, epoch: from.Epoch, table: group.NewTable(0), heard: map[string]time.Time{}, touched: map[string]uint64{}, told: map[string][]int{},
		committed: from.Offsets, sent: map[int]int64{}}
	if len(from.Shares) > 2 {
		if err := json.Unmarshal(from.Shares, c.table); err != nil {
			return nil, fmt.Errorf("group %s: the record of its members cannot be read: %w", g.Name, err)
		}
	}
	now := time.Now()
	for id := range c.table.Members {
		c.heard[id] = now // its session begins anew
	}
	cs.mu.Lock()
	old := cs.groups[g.ID]
	cs.groups[g.ID] = c
	cs.mu.Unlock()
	if old != nil {
		old.end()
	}
	return c, nil
}

// drop ends this node's part in a group.
func (cs *coordinators) drop(c *coordinator) {
	cs.mu.Lock()
	if cs.groups[c.group] == c {
		delete(cs.groups, c.group)
	}
	cs.mu.Unlock()
	c.end()
}

// end lets all who wait ask again, wherever the group is coordinated now.
func (c *coordinator) end() {
	c.mu.Lock()
	c.taken = true
	c.mu.Unlock()
	c.changed.broadcast()
}

func (c *coordinator) isUnsure() bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.unsure
}

// tend removes members that no longer answer, takes partitions from those
// that do not give them up, and lets go of groups that others coordinate.
func (n *Node) tend(ctx context.Context, now time.Time) {
	n.groups.mu.Lock()
	all := slices.Collect(maps.Values(n.groups.groups))
	n.groups.mu.Unlock()
	view := n.catalog.View()
	// While this process did not run it heard nobody; that is not their fault.
	pause := now.Sub(n.tended)
	n.tended = now
	for _, c := range all {
		if pause > time.Second {
			c.forgive(pause)
		}
		g := view.GroupIDs[c.group]
		if g == nil || n.coordinatorOf(c.group) != n.id {
			n.groups.drop(c)
			continue
		}
		c.tend(ctx, now, n.topicByID(g.ChannelID))
	}
}

// forgive adds a time to the sessions of all members.
func (c *coordinator) forgive(pause time.Duration) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for id, at := range c.heard {
		c.heard[id] = at.Add(pause)
	}
}

// silent returns the members that have said nothing in their session time.
func (c *coordinator) silent(now time.Time) (ids []string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for id, m := range c.table.Members {
		if now.Sub(c.heard[id]) > m.Session {
			ids = append(ids, id)
		}
	}
	return ids
}

func (c *coordinator) tend(ctx context.Context, now time.Time, t *Topic) {
	silent := c.silent(now)
	c.mu.Lock()
	grown := t != nil && len(c.table.Members) > 0 && t.Channel().Partitions > len(c.table.Holdings)
	due := !c.writing && (len(silent) > 0 || grown || c.table.HasOverdue(now))
	c.mu.Unlock()
	if !due {
		return
	}
	go func() {
		ctx, cancel := context.WithTimeout(ctx, 5*time.Second)
		defer cancel()
		var removed []string
		err := c.change(ctx, func(t *group.Table) error {
			removed = c.silent(now) // who has said something meanwhile stays
			for _, id := range removed {
				t.Leave(id)
			}
			t.Overdue(now)
			return nil
		})
		if err == nil && len(removed) > 0 {
			slog.Info("members that no longer answered were removed", "group", c.group, "members", removed)
		}
	}()
}

// change changes who reads what, in the records first. Changes that come
// together are recorded together.
func (c *coordinator) change(ctx context.Context, apply func(*group.Table) error) error {
	w := &shareChange{apply: apply, done: make(chan error, 1)}
	c.mu.Lock()
	if c.taken {
		c.mu.Unlock()
		return catalog.ErrTakenOver
	}
	c.pending = append(c.pending, w)
	if !c.writing {
		c.writing = true
		go c.write()
	}
	c.mu.Unlock()
	select {
	case err := <-w.done:
		return err
	case <-ctx.Done():
		return ctx.Err()
	}
}

func (c *coordinator) write() {
	for {
		c.mu.Lock()
		pending := c.pending
		c.pending = nil
		if len(pending) == 0 {
			c.writing = false
			c.mu.Unlock()
			return
		}
		next := c.table.Clone()
		c.mu.Unlock()
		if g := c.n.catalog.View().GroupIDs[c.group]; g != nil {
			if t := c.n.topicByID(g.ChannelID); t != nil {
				next.Grow(t.Channel().Partitions)
			}
		}
		results := make([]error, len(pending))
		for i, w := range pending {
			results[i] = w.apply(next)
		}
		next.Balance(time.Now())
		shares, err := json.Marshal(next)
		if err == nil {
			err = c.n.catalog.SetShares(context.Background(), c.group, c.epoch, shares)
		}
		if err == nil {
			c.show(next)
		}
		if errors.Is(err, catalog.ErrTakenOver) {
			c.n.groups.drop(c)
		}
		for i, w := range pending {
			w.done <- errors.Join(err, results[i])
		}
	}
}

// show makes a table that is recorded the one in force, and tells those whose
// share it changes.
func (c *coordinator) show(next *group.Table) {
	c.mu.Lock()
	now := time.Now()
	for p, h := range next.Holdings {
		old := group.Holding{}
		if p < len(c.table.Holdings) {
			old = c.table.Holdings[p]
		}
		if h == old {
			continue
		}
		for _, id := range []string{h.Member, old.Member} {
			c.touched[id] = next.Generation
		}
		if h.Member != old.Member || h.Since != old.Since {
			delete(c.sent, p)
		}
	}
	for id := range next.Members {
		if _, ok := c.heard[id]; !ok {
			c.heard[id] = now
			c.touched[id] = next.Generation
		}
	}
	for id := range c.heard {
		if _, ok := next.Members[id]; !ok {
			delete(c.heard, id)
			delete(c.touched, id)
			delete(c.told, id)
		}
	}
	c.table = next
	c.mu.Unlock()
	c.changed.broadcast()
}

// Membership is what a member is told: its share of the partitions.
type Membership struct {
	Member     string        `json:"member"`
	Generation uint64        `json:"generation"`
	Session    time.Duration `json:"session"`
	Paused     bool          `json:"paused"`
	Partitions []Held        `json:"partitions"` // to read
	Leaving    []int         `json:"leaving"`    // to commit and give up
}

// Held is a partition that a member reads.
type Held struct {
	Partition  int    `json:"partition"`
	Offset     int64  `json:"offset"`     // committed
	Generation uint64 `json:"generation"` // when the member got it, or its offset was moved
}

// membership tells a member its share; the caller holds mu.
func (c *coordinator) membership(id string) *Membership {
	holds, leaving := c.table.Share(id)
	m := &Membership{Member: id, Generation: c.table.Generation, Session: c.table.Members[id].Session, Partitions: []Held{}, Leaving: leaving}
	if g := c.n.catalog.View().GroupIDs[c.group]; g != nil {
		m.Paused = g.Paused
	}
	for _, p := range holds {
		m.Partitions = append(m.Partitions, Held{Partition: p, Offset: c.committed[p], Generation: c.table.Holdings[p].Since})
	}
	if m.Leaving == nil {
		m.Leaving = []int{}
	}
	return m
}

// join adds a member and returns its share.
func (c *coordinator) join(ctx context.Context, ask *groupAsk) (*Membership, error) {
	err := c.change(ctx, func(t *group.Table) error {
		return t.Join(ask.Member, group.Member{Label: ask.Label, Session: ask.Session, Joined: time.Now().UTC().Truncate(time.Millisecond)})
	})
	if err != nil {
		return nil, err
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.membership(ask.Member), nil
}

// hear notes that a member is there.
func (c *coordinator) hear(id string) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	if _, ok := c.table.Members[id]; !ok {
		return group.ErrNoMember
	}
	c.heard[id] = time.Now()
	return nil
}

// giveUp frees what a member shall give up and says it no longer holds.
func (c *coordinator) giveUp(ctx context.Context, id string, holds []int) error {
	c.mu.Lock()
	_, leaving := c.table.Share(id)
	c.mu.Unlock()
	gives := slices.ContainsFunc(leaving, func(p int) bool { return !slices.Contains(holds, p) })
	if !gives {
		return nil
	}
	return c.change(ctx, func(t *group.Table) error { t.GiveUp(id, holds); return nil })
}

// beat notes that a member lives and what it holds, and returns its share once
// that is another one than the member knows, or the wait is over.
func (c *coordinator) beat(ctx context.Context, ask *groupAsk) (*Membership, error) {
	if err := c.hear(ask.Member); err != nil {
		return nil, err
	}
	if err := c.giveUp(ctx, ask.Member, ask.Holds); err != nil {
		return nil, err
	}
	deadline := time.NewTimer(ask.Wait)
	defer deadline.Stop()
	for {
		changed := c.changed.wait()
		records := c.n.Changed() // the pause
		c.mu.Lock()
		if c.taken {
			c.mu.Unlock()
			return nil, catalog.ErrTakenOver
		}
		if _, ok := c.table.Members[ask.Member]; !ok {
			c.mu.Unlock()
			return nil, group.ErrNoMember
		}
		m := c.membership(ask.Member)
		news := c.touched[ask.Member] > ask.Generation || m.Paused != ask.Paused
		c.mu.Unlock()
		if news || ask.Wait <= 0 {
			return m, nil
		}
		resume := replica.Pause(ctx)
		over := false
		select {
		case <-changed:
		case <-records:
		case <-deadline.C:
			over = true
		case <-ctx.Done():
			over = true
		}
		if resume(); over {
			return m, nil
		}
	}
}

// leave removes a member, after it has committed.
func (c *coordinator) leave(ctx context.Context, id string) error {
	return c.change(ctx, func(t *group.Table) error {
		if _, ok := t.Members[id]; !ok {
			return group.ErrNoMember
		}
		t.Leave(id)
		return nil
	})
}

// commit records offsets that a member has read up to.
func (c *coordinator) commit(ctx context.Context, t *Topic, id string, generation uint64, offsets []OffsetOf) error {
	if err := c.hear(id); err != nil {
		return err
	}
	var commits []catalog.Commit
	for _, o := range offsets {
		p, err := t.Partition(o.Partition)
		if err != nil {
			return err
		}
		if err := c.n.checkBounds(ctx, p, o.Offset); err != nil {
			return err
		}
	}
	c.mu.Lock()
	if c.taken || c.unsure {
		c.mu.Unlock()
		return catalog.ErrTakenOver
	}
	for _, o := range offsets {
		if err := c.table.Check(id, generation, o.Partition); err != nil {
			c.mu.Unlock()
			return memberProblem(err, t, o.Partition)
		}
		if have := c.committed[o.Partition]; o.Offset < have {
			c.mu.Unlock()
			return problem.New(problem.Conflict, "%s#%d: the group has committed offset %d, and %d is below it", t.Address(), o.Partition, have, o.Offset).Field("offset").
				Allowed(fmt.Sprintf("%d and above", have)).Next("ferry seek moves a group back")
		}
		if c.moving {
			c.mu.Unlock()
			return problem.New(problem.OldGeneration, "%s: the group's offsets are being moved", t.Address()).Next("ask for the share again and read from there")
		}
		commits = append(commits, catalog.Commit{Group: c.group, Epoch: c.epoch, Partition: o.Partition, Offset: o.Offset})
	}
	c.inFlight++
	c.mu.Unlock()
	var err error
	if len(commits) > 0 {
		err = c.n.commits.commit(ctx, commits)
	}
	c.mu.Lock()
	c.inFlight--
	for _, o := range offsets {
		if err == nil {
			c.committed[o.Partition] = max(c.committed[o.Partition], o.Offset)
		}
	}
	c.mu.Unlock()
	c.changed.broadcast()
	if errors.Is(err, catalog.ErrTakenOver) {
		c.n.groups.drop(c)
	}
	return err
}

// checkBounds makes sure that an offset is one that a partition has.
func (n *Node) checkBounds(ctx context.Context, p *Partition, offset int64) error {
	if g := p.Replica(); g != nil && offset <= g.End() && offset >= g.Journal().Bounds().First {
		return nil
	}
	l, err := n.openLog(ctx, p, false)
	if err != nil {
		return err
	}
	if first, end := l.First(), l.End(); offset < first || offset > end {
		return problem.New(problem.Invalid, "%s: offset %d cannot be committed", p.Address(), offset).Field("offset").Allowed(fmt.Sprintf("%d (the oldest kept) to %d (the end)", first, end))
	}
	return nil
}

// memberProblem says why a member is refused.
func memberProblem(err error, t *Topic, partition int) error {
	at := t.Address()
	if partition >= 0 {
		at.Partition = partition
	}
	switch {
	case errors.Is(err, group.ErrNoMember):
		return problem.New(problem.NoMember, "%s: %v", t.Address(), err).Next("join again")
	case errors.Is(err, group.ErrNotHeld):
		return problem.New(problem.NotHeld, "%s: %v", at, err).Next("ask for the share again (beat); another member reads it now")
	case errors.Is(err, group.ErrOldGeneration):
		return problem.New(problem.OldGeneration, "%s: %v", at, err).Next("ask for the share again (beat), and read from its offset")
	case errors.Is(err, group.ErrTooMany):
		return problem.New(problem.Conflict, "%s: %v", t.Address(), err)
	}
	return explain(err, t.Address().String())
}
