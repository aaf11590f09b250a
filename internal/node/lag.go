package node

import (
	"context"
	"encoding/json"
	"log/slog"
	"maps"
	"slices"
	"sort"
	"strconv"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"steadyferry/internal/core/clock"
	"steadyferry/internal/core/group"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/rate"
	"steadyferry/internal/engine/catalog"
)

// mirror is this node's copy of what all groups have committed and who holds
// what: it asks the records for what has changed. The records have what was
// acknowledged, whichever node coordinates a group.
type mirror struct {
	asking sync.Mutex // one question at a time
	mu     sync.RWMutex
	asked  time.Time // when the newest answer was asked for
	newest time.Time // of the rows, by the clock of the database
	groups map[int64]*mirrored
	ends   map[commitKey]*rate.Window // how partitions grow, by channel and number
	stamps map[commitKey]stampAt      // by group and number
}

type mirrored struct {
	offsets map[int]*mirroredOffset
	shares  *group.Table
}

type mirroredOffset struct {
	committed int64
	changed   time.Time
	rate      rate.Window
}

// stampAt remembers when the message at an offset was stored.
type stampAt struct {
	offset int64
	at     time.Time
}

func newMirror() *mirror {
	return &mirror{groups: map[int64]*mirrored{}, ends: map[commitKey]*rate.Window{}, stamps: map[commitKey]stampAt{}}
}

// mirrorOverlap is by how much two answers overlap: a row may become visible
// a while after its time was taken.
const mirrorOverlap = 5 * time.Second

// refresh asks for what has changed, unless somebody has since the call.
func (m *mirror) refresh(ctx context.Context, n *Node) error {
	called := time.Now()
	m.asking.Lock()
	defer m.asking.Unlock()
	if m.asked.After(called) {
		return nil
	}
	asked := time.Now()
	offsets, shares, err := n.catalog.Offsets(ctx, m.newest.Add(-mirrorOverlap))
	if err != nil {
		return err
	}
	view := n.catalog.View()
	m.mu.Lock()
	defer m.mu.Unlock()
	m.asked = asked
	for _, s := range shares {
		g := m.group(s.Group)
		t := group.NewTable(0)
		if len(s.Shares) > 2 {
			if err := json.Unmarshal(s.Shares, t); err != nil {
				slog.Warn("the record of a group's members cannot be read", "group", s.Group, "error", err)
			}
		}
		if t.Moves != g.shares.Moves {
			for _, o := range g.offsets {
				o.rate.Reset()
			}
		}
		g.shares = t
		m.newest = later(m.newest, s.ChangedAt)
	}
	for _, o := range offsets {
		g := m.group(o.Group)
		have := g.offsets[o.Partition]
		if have == nil {
			have = &mirroredOffset{}
			g.offsets[o.Partition] = have
		}
		have.committed, have.changed = o.Committed, o.ChangedAt
		m.newest = later(m.newest, o.ChangedAt)
	}
	for id := range m.groups {
		if view.GroupIDs[id] == nil && len(view.GroupIDs) > 0 {
			delete(m.groups, id)
			maps.DeleteFunc(m.stamps, func(k commitKey, _ stampAt) bool { return k.group == id })
		}
	}
	return nil
}

func later(a, b time.Time) time.Time {
	if b.After(a) {
		return b
	}
	return a
}

// group returns the copy of a group; the caller holds mu.
func (m *mirror) group(id int64) *mirrored {
	g := m.groups[id]
	if g == nil {
		g = &mirrored{offsets: map[int]*mirroredOffset{}, shares: group.NewTable(0)}
		m.groups[id] = g
	}
	return g
}

// of returns the committed offsets of a group, by partition.
func (m *mirror) of(id int64) map[int]int64 {
	m.mu.RLock()
	defer m.mu.RUnlock()
	out := map[int]int64{}
	if g := m.groups[id]; g != nil {
		for p, o := range g.offsets {
			out[p] = o.committed
		}
	}
	return out
}

// sampleGroups notes how far all groups are, for their rates.
func (n *Node) sampleGroups(ctx context.Context, now time.Time) {
	if len(n.catalog.View().GroupIDs) == 0 {
		return
	}
	if err := n.offsets.refresh(ctx, n); err != nil {
		return // rates stand still with the records
	}
	m := n.offsets
	topics := n.Topics()
	type end struct {
		key    commitKey
		offset int64
	}
	var ends []end
	for _, t := range topics {
		if len(n.catalog.View().Groups[t.ID]) > 0 {
			for _, p := range t.Partitions() {
				ends = append(ends, end{commitKey{t.ID, p.Number}, n.PartitionStatus(p, now).End})
			}
		}
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	for _, g := range m.groups {
		for _, o := range g.offsets {
			o.rate.Sample(now, o.committed)
		}
	}
	for _, e := range ends {
		if m.ends[e.key] == nil {
			m.ends[e.key] = &rate.Window{}
		}
		m.ends[e.key].Sample(now, e.offset)
	}
}

// PartitionLag is where a group is on a partition.
type PartitionLag struct {
	Partition   int
	Place       group.Place
	Member      string // that holds it
	Label       string
	CommittedAt time.Time
	OldestAt    *time.Time // of the oldest unread message
	Verdict     group.Verdict
}

// GroupLag is where a group is.
type GroupLag struct {
	Topic                   *Topic
	Group                   *catalog.Group
	Generation              uint64
	Members                 []MemberLag
	Partitions              []PartitionLag
	Verdict                 group.Verdict
	OldestAge               time.Duration
	ArrivalRate, CommitRate float64
}

// MemberLag is a member and what it holds.
type MemberLag struct {
	ID         string
	Member     group.Member
	Partitions []int
	Leaving    []int
}

func (l *GroupLag) offsets() map[string]int64 {
	out := map[string]int64{}
	for _, p := range l.Partitions {
		out[strconv.FormatInt(int64(p.Partition), 10)] = p.Place.Committed
	}
	return out
}

// GroupLag returns where a group is now.
func (n *Node) GroupLag(ctx context.Context, t *Topic, g *catalog.Group) (*GroupLag, error) {
	all, err := n.Lag(ctx, t, g)
	if err != nil {
		return nil, err
	}
	return all[0], nil
}

// Lag returns where groups are, the worst first: all of them, or those of a
// topic, or one. While the records are away it tells what they had last.
func (n *Node) Lag(ctx context.Context, only *Topic, one *catalog.Group) ([]*GroupLag, error) {
	if err := n.freshOffsets(ctx); err != nil {
		return nil, explain(err, "")
	}
	view := n.catalog.View()
	topics := n.Topics()
	if only != nil {
		topics = []*Topic{only}
	}
	var out []*GroupLag
	var work errgroup.Group
	work.SetLimit(8)
	for _, t := range topics {
		groups := view.Groups[t.ID]
		if len(groups) == 0 {
			continue
		}
		facts := n.facts(t)
		for _, g := range groups {
			if one != nil && g.ID != one.ID {
				continue
			}
			l := &GroupLag{Topic: t, Group: g}
			out = append(out, l)
			work.Go(func() error { n.fillLag(ctx, l, facts); return nil })
		}
	}
	work.Wait()
	sort.Slice(out, func(i, j int) bool {
		a, b := out[i], out[j]
		if c := group.Worse(a.Verdict.State, b.Verdict.State); c != 0 {
			return c > 0
		}
		if a.OldestAge/time.Second != b.OldestAge/time.Second {
			return a.OldestAge > b.OldestAge
		}
		return groupAddress(a.Topic, a.Group.Name).String() < groupAddress(b.Topic, b.Group.Name).String()
	})
	if one != nil && len(out) == 0 {
		return nil, problem.New(problem.NotFound, "the group was removed")
	}
	return out, nil
}

// freshTime is how long an answer about lag waits for the records before it
// tells what they had last.
const freshTime = time.Second

// freshOffsets brings the copy of the offsets up to date, if the records
// answer; without any copy that is an error.
func (n *Node) freshOffsets(ctx context.Context) error {
	n.offsets.mu.RLock()
	never := n.offsets.asked.IsZero()
	n.offsets.mu.RUnlock()
	if !never && !n.catalog.AwaySince().IsZero() {
		return nil
	}
	ctx, cancel := context.WithTimeout(ctx, freshTime)
	defer cancel()
	if err := n.offsets.refresh(ctx, n); err != nil && never {
		return err
	}
	return nil
}

// fact is what is known of a partition, whichever group reads it.
type fact struct {
	first, end        int64
	arrival, byteRate float64
}

func (n *Node) facts(t *Topic) []fact {
	now := time.Now()
	partitions := t.Partitions()
	out := make([]fact, len(partitions))
	for i, p := range partitions {
		s := n.PartitionStatus(p, now)
		out[i] = fact{first: s.First, end: s.End, byteRate: s.Rates.BytesIn}
		n.offsets.mu.RLock()
		if w := n.offsets.ends[commitKey{t.ID, p.Number}]; w != nil {
			out[i].arrival = w.PerSecond()
		}
		n.offsets.mu.RUnlock()
	}
	return out
}

func (n *Node) fillLag(ctx context.Context, l *GroupLag, facts []fact) {
	now := clock.Now()
	ch := l.Topic.Channel()
	keeps := l.Topic.retention()
	if slices.Contains(ch.Hold, l.Group.Name) {
		keeps.Age, keeps.Bytes = 0, ch.HoldBytes
	}
	m := n.offsets
	m.mu.RLock()
	g := m.groups[l.Group.ID]
	shares := group.NewTable(0)
	places := make([]group.Place, len(facts))
	l.Partitions = make([]PartitionLag, len(facts))
	for i, f := range facts {
		places[i] = group.Place{First: f.first, End: f.end, Committed: f.first, ArrivalRate: f.arrival, ByteRate: f.byteRate, Paused: l.Group.Paused,
			Retain: keeps.Age, RetainBytes: keeps.Bytes, Quiet: now.Sub(l.Group.CreatedAt)}
		if g == nil {
			continue
		}
		if o := g.offsets[i]; o != nil {
			places[i].Committed, places[i].CommitRate = o.committed, o.rate.PerSecond()
			places[i].Quiet = now.Sub(o.changed)
			l.Partitions[i].CommittedAt = o.changed
		} else {
			places[i].Committed = 0 // a partition that was added later
		}
	}
	if g != nil {
		shares = g.shares
	}
	m.mu.RUnlock()
	l.Generation = shares.Generation
	verdicts := make([]group.Verdict, len(facts))
	for i, p := range l.Topic.Partitions()[:len(facts)] {
		place := &places[i]
		// An offset may have been committed after the end was looked at.
		place.End = max(place.End, place.Committed)
		place.Members = len(shares.Members)
		row := &l.Partitions[i]
		row.Partition = i
		if i < len(shares.Holdings) {
			row.Member = shares.Holdings[i].Member
			row.Label = shares.Members[row.Member].Label
			place.Held = row.Member != ""
		}
		if place.Lag() > 0 {
			at := max(place.Committed, place.First)
			if stamp, ok := n.stampFor(ctx, l.Group.ID, p, at); ok {
				row.OldestAt = &stamp
				place.OldestAge = max(now.Sub(stamp), 0)
			}
			if local := p.Replica(); local != nil {
				place.UnreadBytes = local.Journal().BytesFrom(at)
			}
		}
		row.Place = *place
		row.Verdict = place.Judge()
		verdicts[i] = row.Verdict
		l.OldestAge = max(l.OldestAge, place.OldestAge)
		l.ArrivalRate += place.ArrivalRate
		l.CommitRate += place.CommitRate
	}
	l.Verdict = group.Worst(places, verdicts)
	for id, member := range shares.Members {
		holds, leaving := shares.Share(id)
		l.Members = append(l.Members, MemberLag{ID: id, Member: member, Partitions: holds, Leaving: leaving})
	}
	sort.Slice(l.Members, func(i, j int) bool {
		a, b := l.Members[i], l.Members[j]
		if !a.Member.Joined.Equal(b.Member.Joined) {
			return a.Member.Joined.Before(b.Member.Joined)
		}
		return a.ID < b.ID
	})
}

// stampFor returns when the message at an offset was stored, and remembers it
// for the group, which may stay there for long.
func (n *Node) stampFor(ctx context.Context, id int64, p *Partition, offset int64) (time.Time, bool) {
	m, key := n.offsets, commitKey{id, p.Number}
	m.mu.RLock()
	have, ok := m.stamps[key]
	m.mu.RUnlock()
	if ok && have.offset == offset {
		return have.at, true
	}
	at, ok := n.stampOf(ctx, p, offset)
	if ok {
		m.mu.Lock()
		m.stamps[key] = stampAt{offset, at}
		m.mu.Unlock()
	}
	return at, ok
}

// stampOf returns when the message at an offset, or the next one that is kept,
// was stored.
func (n *Node) stampOf(ctx context.Context, p *Partition, offset int64) (time.Time, bool) {
	if g := p.Replica(); g != nil && g.End() > offset {
		stamp, ok, err := g.Journal().StampOf(offset)
		return time.UnixMicro(stamp.Time).UTC(), ok && err == nil
	}
	ctx, cancel := context.WithTimeout(ctx, 2*time.Second)
	defer cancel()
	s, err := n.Message(ctx, p, offset, true)
	if err != nil {
		return time.Time{}, false
	}
	return s.StoredAt, true
}

// timeAt is stampOf for those who show it.
func (n *Node) timeAt(ctx context.Context, p *Partition, offset int64) *time.Time {
	at, ok := n.stampOf(ctx, p, offset)
	if !ok {
		return nil
	}
	return &at
}

// sampleEvery is the step of the lag history.
const sampleEvery = 10 * time.Second

// sampleLag records where all groups are.
func (n *Node) sampleLag(ctx context.Context, now time.Time) error {
	if len(n.catalog.View().GroupIDs) == 0 {
		return nil
	}
	all, err := n.Lag(ctx, nil, nil)
	if err != nil {
		return err
	}
	samples := make([]catalog.LagSample, len(all))
	for i, l := range all {
		s := catalog.LagSample{Group: l.Group.ID}
		for _, p := range l.Partitions {
			s.Lag = append(s.Lag, p.Verdict.Messages)
			s.AgeMS = append(s.AgeMS, p.Place.OldestAge.Milliseconds())
			s.Committed += p.Place.Committed
			s.Ended += p.Place.End
		}
		samples[i] = s
	}
	return n.catalog.AddLagSamples(ctx, now.Truncate(sampleEvery), sampleEvery, samples)
}

// runGroups does what one node of the cluster does for all groups: it keeps the
// lag history, and removes groups that have expired.
func (n *Node) runGroups(ctx context.Context) {
	ticker := time.NewTicker(300 * time.Millisecond)
	defer ticker.Stop()
	var sampled, thinned time.Time
	for {
		select {
		case <-ctx.Done():
			return
		case now := <-ticker.C:
			if now.Truncate(sampleEvery) != sampled {
				sampled = now.Truncate(sampleEvery)
				n.recordLag(ctx, now)
			}
			if now.Truncate(time.Minute) != thinned {
				thinned = now.Truncate(time.Minute)
				n.thinLag(ctx, now)
			}
		}
	}
}

func (n *Node) recordLag(ctx context.Context, now time.Time) {
	if err := n.sampleLag(ctx, now); err != nil && ctx.Err() == nil {
		slog.Debug("the lag was not recorded", "error", err)
	}
}

func (n *Node) thinLag(ctx context.Context, now time.Time) {
	n.expireGroups(ctx)
	if err := n.catalog.ThinLagSamples(ctx, now); err != nil && ctx.Err() == nil {
		slog.Debug("old lag samples were not deleted", "error", err)
	}
}

// LagHistory returns samples of a group.
func (n *Node) LagHistory(ctx context.Context, g *catalog.Group, from, to time.Time) ([]catalog.LagRow, error) {
	rows, err := n.catalog.LagHistory(ctx, g.ID, from, to, 360)
	return rows, explain(err, g.Name)
}

// heldBy returns up to which offset retention leaves a partition to groups
// that it waits for, and false when it waits for none.
func (n *Node) heldBy(p *Partition) (int64, bool) {
	ch := p.topic.Channel()
	if len(ch.Hold) == 0 {
		return 0, false
	}
	groups := n.catalog.View().Groups[p.topic.ID]
	least, held := int64(0), false
	for _, name := range ch.Hold {
		g := groups[name]
		if g == nil {
			continue
		}
		offset := n.offsets.of(g.ID)[p.Number] // 0 while it is not known: all is kept
		if !held || offset < least {
			least, held = offset, true
		}
	}
	return least, held
}
