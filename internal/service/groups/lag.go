package groups

import (
	"context"
	"slices"
	"sort"
	"strconv"
	"time"

	"golang.org/x/sync/errgroup"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/clock"
	"steadyferry/internal/core/group"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/logs"
	"steadyferry/internal/engine/part"
)

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

// Lag is where a group is.
type Lag struct {
	Topic                   *part.Channel
	Group                   *catalog.Group
	Round                   uint64
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

func (l *Lag) offsets() map[string]int64 {
	out := map[string]int64{}
	for _, p := range l.Partitions {
		out[strconv.FormatInt(int64(p.Partition), 10)] = p.Place.Committed
	}
	return out
}

// serviceItself is who reads for a route.
const serviceItself = "the service"

// LagOf returns where a group is now.
func (gs *Groups) LagOf(ctx context.Context, t *part.Channel, g *catalog.Group) (*Lag, error) {
	all, err := gs.Lag(ctx, t, g)
	if err != nil {
		return nil, err
	}
	return all[0], nil
}

// Lag returns where groups are, the worst first: all of them, or those of a
// topic, or one. While the records are away it tells what they had last.
func (gs *Groups) Lag(ctx context.Context, only *part.Channel, one *catalog.Group) ([]*Lag, error) {
	if err := gs.freshOffsets(ctx); err != nil {
		return nil, part.Explain(err, "")
	}
	view := gs.catalog.View()
	topics := gs.parts.Channels()
	if only != nil {
		topics = []*part.Channel{only}
	}
	var out []*Lag
	var work errgroup.Group
	work.SetLimit(8)
	for _, t := range topics {
		groups := view.Groups[t.ID]
		if len(groups) == 0 {
			continue
		}
		facts := gs.facts(t)
		for _, g := range groups {
			if one != nil && g.ID != one.ID || !access.May(ctx, access.SeeCounts, t.Record().Reader(g.Name)) {
				continue
			}
			l := &Lag{Topic: t, Group: g}
			out = append(out, l)
			work.Go(func() error { gs.fillLag(ctx, l, facts); return nil })
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
		return part.GroupAddress(a.Topic, a.Group.Name).String() < part.GroupAddress(b.Topic, b.Group.Name).String()
	})
	if one != nil && len(out) == 0 {
		return nil, problem.New(problem.NotFound, "the group was removed")
	}
	return out, nil
}

// fact is what is known of a partition, whichever group reads it.
type fact struct {
	first, end        int64
	arrival, byteRate float64
}

func (gs *Groups) facts(t *part.Channel) []fact {
	now := time.Now()
	partitions := t.Partitions()
	out := make([]fact, len(partitions))
	for i, p := range partitions {
		s := gs.parts.PartitionStatus(p, now)
		out[i] = fact{first: s.First, end: s.End, byteRate: s.Rates.BytesIn}
		gs.offsets.mu.RLock()
		if w := gs.offsets.ends[commitKey{t.ID, p.Number}]; w != nil {
			out[i].arrival = w.PerSecond()
		}
		gs.offsets.mu.RUnlock()
	}
	return out
}

func (gs *Groups) fillLag(ctx context.Context, l *Lag, facts []fact) {
	now := clock.Now()
	ch := l.Topic.Record()
	keeps := l.Topic.Retention()
	if slices.Contains(ch.Hold, l.Group.Name) || l.Group.Route != nil {
		keeps.Age, keeps.Bytes = 0, l.Topic.HoldBytes()
	}
	m := gs.offsets
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
		if l.Group.Route != nil && gs.reached != nil && !l.Topic.IsQueue() {
			if offset, known := gs.reached(l.Group, l.Topic.Partitions()[i]); known {
				places[i].Committed = offset
			}
		}
	}
	if g != nil {
		shares = g.shares
	}
	m.mu.RUnlock()
	if l.Topic.IsQueue() {
		gs.owed(l, places, now)
	}
	l.Round = shares.Round
	verdicts := make([]group.Verdict, len(facts))
	for i, p := range l.Topic.Partitions()[:len(facts)] {
		place := &places[i]
		// An offset may have been committed after the end was looked at.
		place.End = max(place.End, place.Committed)
		if place.Members = len(shares.Members); l.Group.Route != nil {
			place.Members = 1
		}
		row := &l.Partitions[i]
		row.Partition = i
		if i < len(shares.Holdings) {
			row.Member = shares.Holdings[i].Member
			row.Label = shares.Members[row.Member].Label
			place.Held = row.Member != ""
		}
		if l.Group.Route != nil {
			row.Member, row.Label = serviceItself, serviceItself
		}
		if place.Lag() > 0 && !l.Topic.IsQueue() {
			at := max(place.Committed, place.First)
			if stamp, ok := gs.stampFor(ctx, l.Group.ID, p, at); ok {
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

// owed makes the places of a route from a queue: what it has taken, and what waits for it
// when it takes everything; or the dead letters that it has not copied yet.
func (gs *Groups) owed(l *Lag, places []group.Place, now time.Time) {
	for i, p := range l.Topic.Partitions()[:len(places)] {
		place, row := &places[i], &l.Partitions[i]
		// A node that begins knows nothing yet but what is recorded: counts do not jump.
		place.First, place.End, place.Retain, place.RetainBytes = 0, place.Committed, 0, 0
		takesAll := l.Group.Where == "" && !address.ReadsDead(l.Group.Name)
		if !takesAll {
			place.ArrivalRate = gs.offsets.givenRate(commitKey{l.Group.ID, i})
		}
		s := gs.parts.PartitionStatus(p, now).Queue
		if s == nil || l.Group.Route == nil {
			continue
		}
		owed, known := s.Owed[l.Group.Route.ID]
		if known {
			place.Committed, place.End = owed.Next-owed.Count, owed.Next
		}
		if owed.Count > 0 {
			at := time.UnixMicro(owed.Since).UTC()
			row.OldestAt = &at
		}
		if takesAll {
			if place.End += s.Waiting; s.Oldest != nil && (row.OldestAt == nil || s.Oldest.Before(*row.OldestAt)) {
				row.OldestAt = s.Oldest
			}
		}
		if row.OldestAt != nil {
			place.OldestAge = max(now.Sub(*row.OldestAt), 0)
		}
	}
}

// stampFor returns when the message at an offset was stored, and remembers it
// for the group, which may stay there for long.
func (gs *Groups) stampFor(ctx context.Context, id int64, p *part.Partition, offset int64) (time.Time, bool) {
	m, key := gs.offsets, commitKey{id, p.Number}
	m.mu.RLock()
	have, ok := m.stamps[key]
	m.mu.RUnlock()
	if ok && have.offset == offset {
		return have.at, true
	}
	at, ok := gs.stampOf(ctx, p, offset)
	if ok {
		m.mu.Lock()
		m.stamps[key] = stampAt{offset, at}
		m.mu.Unlock()
	}
	return at, ok
}

// stampOf returns when the message at an offset, or the next one that is kept,
// was stored.
func (gs *Groups) stampOf(ctx context.Context, p *part.Partition, offset int64) (time.Time, bool) {
	if g := p.Replica(); g != nil && g.End() > offset {
		stamp, ok, err := g.Journal().StampOf(offset)
		return time.UnixMicro(stamp.Time).UTC(), ok && err == nil
	}
	ctx, cancel := context.WithTimeout(ctx, 2*time.Second)
	defer cancel()
	s, err := logs.Message(ctx, gs.parts, p, offset, true)
	if err != nil {
		return time.Time{}, false
	}
	return s.StoredAt, true
}

// timeAt is stampOf for those who show it.
func (gs *Groups) timeAt(ctx context.Context, p *part.Partition, offset int64) *time.Time {
	at, ok := gs.stampOf(ctx, p, offset)
	if !ok {
		return nil
	}
	return &at
}
