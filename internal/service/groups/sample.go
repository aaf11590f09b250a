package groups

import (
	"context"
	"log/slog"
	"time"

	"steadyferry/internal/core/rate"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/part"
)

// Sample notes how far all groups are, for their rates.
func (gs *Groups) Sample(ctx context.Context, now time.Time) {
	if len(gs.catalog.View().GroupIDs) == 0 {
		return
	}
	if err := gs.offsets.refresh(ctx, gs); err != nil {
		return // rates stand still with the records
	}
	m := gs.offsets
	topics := gs.parts.Channels()
	type end struct {
		key    commitKey
		offset int64
	}
	var ends, given []end
	for _, t := range topics {
		groups := gs.catalog.View().Groups[t.ID]
		if len(groups) == 0 {
			continue
		}
		for _, p := range t.Partitions() {
			s := gs.parts.PartitionStatus(p, now)
			ends = append(ends, end{commitKey{t.ID, p.Number}, s.End})
			for _, g := range groups {
				if g.Route == nil || s.Queue == nil {
					continue
				}
				if owed, known := s.Queue.Owed[g.Route.ID]; known {
					given = append(given, end{commitKey{g.ID, p.Number}, owed.Next})
				}
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
	sample := func(windows map[commitKey]*rate.Window, all []end) {
		for _, e := range all {
			if windows[e.key] == nil {
				windows[e.key] = &rate.Window{}
			}
			windows[e.key].Sample(now, e.offset)
		}
	}
	sample(m.ends, ends)
	sample(m.given, given)
}

// sampleEvery is the step of the lag history.
const sampleEvery = 10 * time.Second

// sampleLag records where all groups are.
func (gs *Groups) sampleLag(ctx context.Context, now time.Time) error {
	if len(gs.catalog.View().GroupIDs) == 0 {
		return nil
	}
	all, err := gs.Lag(ctx, nil, nil)
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
	return gs.catalog.AddLagSamples(ctx, now.Truncate(sampleEvery), sampleEvery, samples)
}

// Run does what one node of the cluster does for all groups: it keeps the
// lag history, and removes groups that have expired.
func (gs *Groups) Run(ctx context.Context) {
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
				gs.recordLag(ctx, now)
			}
			if now.Truncate(time.Minute) != thinned {
				thinned = now.Truncate(time.Minute)
				gs.thinLag(ctx, now)
			}
		}
	}
}

func (gs *Groups) recordLag(ctx context.Context, now time.Time) {
	if err := gs.sampleLag(ctx, now); err != nil && ctx.Err() == nil {
		slog.Debug("the lag was not recorded", "error", err)
	}
}

func (gs *Groups) thinLag(ctx context.Context, now time.Time) {
	gs.expireGroups(ctx)
	if err := gs.catalog.ThinLagSamples(ctx, now); err != nil && ctx.Err() == nil {
		slog.Debug("old lag samples were not deleted", "error", err)
	}
}

// LagHistory returns samples of a group.
func (gs *Groups) LagHistory(ctx context.Context, g *catalog.Group, from, to time.Time) ([]catalog.LagRow, error) {
	rows, err := gs.catalog.LagHistory(ctx, g.ID, from, to, 360)
	return rows, part.Explain(err, g.Name)
}

// HeldBy returns up to which offset retention leaves a partition to groups
// that it waits for, and false when it waits for none.
func (gs *Groups) HeldBy(p *part.Partition) (int64, bool) {
	ch := p.Channel.Record()
	if len(ch.Hold) == 0 {
		return 0, false
	}
	groups := gs.catalog.View().Groups[p.Channel.ID]
	least, held := int64(0), false
	for _, name := range ch.Hold {
		g := groups[name]
		if g == nil {
			continue
		}
		offset := gs.offsets.of(g.ID)[p.Number] // 0 while it is not known: all is kept
		if !held || offset < least {
			least, held = offset, true
		}
	}
	return least, held
}
