package groups

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"hash/fnv"
	"slices"
	"strconv"
	"sync"
	"time"

	"golang.org/x/sync/singleflight"

	"steadyferry/internal/core/group"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/part"
	"steadyferry/internal/engine/replica"
)

// A group is coordinated by one node: the one that all nodes agree on as long
// as they see the same nodes. Who reads what is in the records, with an epoch
// that the coordinator has raised when it began: should two nodes think that
// they coordinate, the records take nothing from the first one any more.

// coordinatorOf returns the node that should coordinate a group: of those that
// answer, the one with the highest hash of both, so that few groups move when
// a node comes or goes.
func (gs *Groups) coordinatorOf(id int64) uint64 {
	best, most := gs.id, uint64(0)
	for _, node := range append(gs.parts.OtherNodes(), gs.id) {
		if node != gs.id && !gs.peers.Up(node) {
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
func (gs *Groups) Coordinates(id int64) bool { return gs.coordinatorOf(id) == gs.id }

// coordinator is this node's part in a group that it coordinates.
type coordinator struct {
	gs    *Groups
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
	changed   part.Signal
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
func (cs *coordinators) get(ctx context.Context, gs *Groups, g *catalog.Group, commits bool) (*coordinator, error) {
	cs.mu.Lock()
	c := cs.groups[g.ID]
	cs.mu.Unlock()
	if c != nil && !(commits && c.isUnsure()) {
		return c, nil
	}
	// Those who ask meanwhile get the same one.
	opened, err, _ := cs.opening.Do(strconv.FormatInt(g.ID, 10), func() (any, error) { return cs.open(context.WithoutCancel(ctx), gs, g) })
	if err != nil {
		return nil, err
	}
	return opened.(*coordinator), nil
}

// open takes a group over, from the records.
func (cs *coordinators) open(ctx context.Context, gs *Groups, g *catalog.Group) (*coordinator, error) {
	if gs.parts.ByID(g.ChannelID) == nil {
		return nil, problem.New(problem.Unavailable, "group %s is being opened", g.Name).Next("try again in a moment")
	}
	from, err := gs.catalog.TakeOver(ctx, g.ID)
	if errors.Is(err, catalog.ErrNotFound) {
		return nil, problem.New(problem.NotFound, "group %s was removed", g.Name)
	}
	if err != nil {
		return nil, part.Explain(err, g.Name)
	}
	c := &coordinator{gs: gs, group: g.ID, epoch: from.Epoch, table: group.NewTable(0), heard: map[string]time.Time{}, touched: map[string]uint64{}, told: map[string][]int{},
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
	c.changed.Broadcast()
}

func (c *coordinator) isUnsure() bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.unsure
}

// membership tells a member its share; the caller holds mu.
func (c *coordinator) membership(id string) *Membership {
	holds, leaving := c.table.Share(id)
	m := &Membership{Member: id, Generation: c.table.Generation, Session: c.table.Members[id].Session, Partitions: []Held{}, Leaving: leaving}
	if g := c.gs.catalog.View().GroupIDs[c.group]; g != nil {
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

// standing returns a member's share and the generation that last touched it, or
// why it has none: another node coordinates by now, or the member is gone.
func (c *coordinator) standing(id string) (*Membership, uint64, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.taken {
		return nil, 0, catalog.ErrTakenOver
	}
	if _, ok := c.table.Members[id]; !ok {
		return nil, 0, group.ErrNoMember
	}
	return c.membership(id), c.touched[id], nil
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
		changed := c.changed.Wait()
		records := c.gs.parts.Changed() // the pause
		m, touched, err := c.standing(ask.Member)
		if err != nil {
			return nil, err
		}
		news := touched > ask.Generation || m.Paused != ask.Paused
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
func (c *coordinator) commit(ctx context.Context, t *part.Channel, id string, generation uint64, offsets []OffsetOf) error {
	if err := c.hear(id); err != nil {
		return err
	}
	var commits []catalog.Commit
	for _, o := range offsets {
		p, err := t.Partition(o.Partition)
		if err != nil {
			return err
		}
		if err := c.gs.checkBounds(ctx, p, o.Offset); err != nil {
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
		err = c.gs.commits.commit(ctx, commits)
	}
	c.mu.Lock()
	c.inFlight--
	for _, o := range offsets {
		if err == nil {
			c.committed[o.Partition] = max(c.committed[o.Partition], o.Offset)
		}
	}
	c.mu.Unlock()
	c.changed.Broadcast()
	if errors.Is(err, catalog.ErrTakenOver) {
		c.gs.groups.drop(c)
	}
	return err
}

// checkBounds makes sure that an offset is one that a partition has.
func (gs *Groups) checkBounds(ctx context.Context, p *part.Partition, offset int64) error {
	if g := p.Replica(); g != nil && offset <= g.End() && offset >= g.Journal().Bounds().First {
		return nil
	}
	l, err := gs.parts.OpenLog(ctx, p, false)
	if err != nil {
		return err
	}
	if first, end := l.First(), l.End(); offset < first || offset > end {
		return problem.New(problem.Invalid, "%s: offset %d cannot be committed", p.Address(), offset).Field("offset").Allowed(fmt.Sprintf("%d (the oldest kept) to %d (the end)", first, end))
	}
	return nil
}

// memberProblem says why a member is refused.
func memberProblem(err error, t *part.Channel, partition int) error {
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
	return part.Explain(err, t.Address().String())
}
