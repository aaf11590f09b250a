package groups

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"hash/fnv"
	"strconv"
	"sync"
	"time"

	"golang.org/x/sync/singleflight"

	"steadyferry/internal/core/address"
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/group"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/link"
	"steadyferry/internal/engine/logs"
	"steadyferry/internal/engine/part"
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

// coordinator carries out what the desk of a group decides, on the node that
// coordinates it.
type coordinator struct {
	gs    *Groups
	group int64
	epoch int64

	mu      sync.Mutex // guards what follows
	desk    *group.Desk
	pending []*shareChange
	writing bool
	changed part.Signal
}

// coordinators are the groups that this node coordinates.
type coordinators struct {
	mu      sync.Mutex
	groups  map[int64]*coordinator
	opening singleflight.Group
}

func newCoordinators() *coordinators { return &coordinators{groups: map[int64]*coordinator{}} }

// get returns the coordinator of a group, which begins its work if need be; with
// anew also if it is in doubt about what the records have.
func (cs *coordinators) get(ctx context.Context, gs *Groups, g *catalog.Group, anew bool) (*coordinator, error) {
	cs.mu.Lock()
	c := cs.groups[g.ID]
	cs.mu.Unlock()
	if c != nil && !(anew && c.inDoubt()) {
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
	table := group.NewTable(0)
	if len(from.Shares) > 2 {
		if err := json.Unmarshal(from.Shares, table); err != nil {
			return nil, fmt.Errorf("group %s: the record of its members cannot be read: %w", g.Name, err)
		}
	}
	c := &coordinator{gs: gs, group: g.ID, epoch: from.Epoch, desk: group.NewDesk(table, from.Offsets, time.Now())}
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

// with has the desk decide something.
func with[T any](c *coordinator, decide func(d *group.Desk) T) T {
	c.mu.Lock()
	defer c.mu.Unlock()
	return decide(c.desk)
}

// end lets all who wait ask again, wherever the group is coordinated now.
func (c *coordinator) end() {
	c.mu.Lock()
	c.desk.End()
	c.mu.Unlock()
	c.changed.Broadcast()
}

// inDoubt reports whether the records must be read anew before anything changes.
func (c *coordinator) inDoubt() bool { return with(c, (*group.Desk).InDoubt) }

// standing returns a member's share and the round that last touched it, or
// why it has none: another node coordinates by now, or the member is gone.
func (c *coordinator) standing(id string) (*form.Membership, uint64, error) {
	c.mu.Lock()
	s, err := c.desk.Standing(id)
	c.mu.Unlock()
	if err != nil {
		return nil, 0, err
	}
	m := &form.Membership{MemberID: id, Round: s.Round, Timeout: address.FormatDuration(s.Timeout), Partitions: s.Holds, Leaving: s.Leaving}
	if g := c.gs.catalog.View().GroupIDs[c.group]; g != nil {
		m.Paused = g.Paused
	}
	return m, s.Touched, nil
}

// join adds a member and returns its share.
func (c *coordinator) join(ctx context.Context, ask *groupAsk) (*form.Membership, error) {
	err := c.change(ctx, func(t *group.Table) error {
		return t.Join(ask.Member, group.Member{Label: ask.Label, Timeout: ask.Timeout, Joined: time.Now().UTC().Truncate(time.Millisecond)})
	})
	if err != nil {
		return nil, err
	}
	m, _, err := c.standing(ask.Member)
	return m, err
}

// hear notes that a member is there.
func (c *coordinator) hear(id string) error {
	return with(c, func(d *group.Desk) error { return d.Hear(id, time.Now()) })
}

// giveUp frees what a member shall give up and says it no longer holds.
func (c *coordinator) giveUp(ctx context.Context, id string, holds []int) error {
	if !with(c, func(d *group.Desk) bool { return d.GivesUp(id, holds) }) {
		return nil
	}
	return c.change(ctx, func(t *group.Table) error { t.GiveUp(id, holds); return nil })
}

// beat notes that a member lives and what it holds, and returns its share once
// that is another one than the member knows, or the wait is over.
func (c *coordinator) beat(ctx context.Context, ask *groupAsk) (*form.Membership, error) {
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
		news := touched > ask.Round || m.Paused != ask.Paused
		if news || ask.Wait <= 0 {
			return m, nil
		}
		resume := link.Pause(ctx)
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
func (c *coordinator) commit(ctx context.Context, t *part.Channel, id string, round uint64, offsets []form.OffsetOf) error {
	if err := c.hear(id); err != nil {
		return err
	}
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
	partition, err := c.desk.BeginCommit(id, round, offsets)
	c.mu.Unlock()
	if err != nil {
		return memberProblem(err, t, partition)
	}
	if len(offsets) > 0 {
		commits := make([]catalog.Commit, len(offsets))
		for i, o := range offsets {
			commits[i] = catalog.Commit{Group: c.group, Epoch: c.epoch, Partition: o.Partition, Offset: o.Offset}
		}
		err = c.gs.commits.commit(ctx, commits)
	}
	c.mu.Lock()
	c.desk.EndCommit(offsets, err == nil)
	c.mu.Unlock()
	c.changed.Broadcast()
	if errors.Is(err, group.ErrOver) { // by the records, which know
		c.gs.groups.drop(c)
	}
	return err
}

// checkBounds makes sure that an offset is one that a partition has.
func (gs *Groups) checkBounds(ctx context.Context, p *part.Partition, offset int64) error {
	if g := p.Replica(); g != nil && offset <= g.End() && offset >= g.Journal().Bounds().First {
		return nil
	}
	l, err := logs.Open(ctx, gs.parts, p, false)
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
	var below *group.BelowError
	switch {
	case errors.Is(err, group.ErrOver):
		return err
	case errors.As(err, &below):
		return problem.New(problem.Conflict, "%s: the group has committed offset %d, and %d is below it", at, below.Committed, below.Offset).Field("offset").
			Allowed(fmt.Sprintf("%d and above", below.Committed)).Next("ferry seek moves a group back")
	case errors.Is(err, group.ErrSeeking):
		return problem.New(problem.OldRound, "%s: %v", t.Address(), err).Next("ask for the share again and read from there")
	case errors.Is(err, group.ErrNoMember):
		return problem.New(problem.NoMember, "%s: %v", t.Address(), err).Next("join again")
	case errors.Is(err, group.ErrNotHeld):
		return problem.New(problem.NotHeld, "%s: %v", at, err).Next("ask for the share again (beat); another member reads it now")
	case errors.Is(err, group.ErrOldRound):
		return problem.New(problem.OldRound, "%s: %v", at, err).Next("ask for the share again (beat), and read from its offset")
	case errors.Is(err, group.ErrTooMany):
		return problem.New(problem.Conflict, "%s: %v", t.Address(), err)
	}
	return part.Explain(err, t.Address().String())
}
