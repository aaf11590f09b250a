package samples

import (
	"context"
	"log/slog"
	"time"

	"steadyferry/internal/core/sample"
	"steadyferry/internal/engine/ledger"
)

// Bounds of one round.
const (
	thingsAtOnce = 500
	settled      = 2 * time.Minute // after the end of a block what is late may still come
)

// Run makes blocks of what was measured, and deletes what is too old. It runs on one node.
func (s *Samples) Run(ctx context.Context) {
	ticker := time.NewTicker(stretchSpan)
	defer ticker.Stop()
	for {
		if err := s.Compact(ctx, time.Now()); err != nil && ctx.Err() == nil {
			slog.Debug("measured values are not made into blocks yet", "error", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-ticker.C:
		}
	}
}

// Compact makes blocks of what was measured up to a time, and deletes what is too old; not
// while another node still does.
func (s *Samples) Compact(ctx context.Context, now time.Time) error {
	release, ok, err := s.catalog.Claim(ctx, "blocks of samples")
	if err != nil || !ok {
		return err
	}
	defer release()
	now = now.Add(-settled)
	changed, err := s.firstBlocks(ctx, now)
	if err != nil {
		return err
	}
	for i := 1; i < len(sample.Levels); i++ {
		if err := s.coarser(ctx, sample.Levels[i], sample.Levels[i-1], changed, now); err != nil {
			return err
		}
	}
	for _, l := range sample.Levels {
		if err := s.ledger.DropBlocks(ctx, l.Step, now.Add(-l.Kept-l.Block)); err != nil {
			return err
		}
	}
	return nil
}

// firstBlocks makes the blocks of the finest steps of stretches, and lets these go. It
// returns when the first of them begins, now without one.
func (s *Samples) firstBlocks(ctx context.Context, now time.Time) (changed time.Time, err error) {
	level, changed := sample.Levels[0], now
	for ctx.Err() == nil {
		oldest, err := s.ledger.OldestStretch(ctx)
		begin := level.Begin(oldest)
		if err != nil || oldest.IsZero() || now.Before(begin.Add(level.Block)) {
			return changed, err
		}
		rows, err := s.ledger.Stretches(ctx, begin, begin.Add(level.Block))
		if err != nil {
			return changed, err
		}
		blocks, err := s.join(ctx, begin, rows)
		if err != nil {
			return changed, err
		}
		changed = begin
		if err := s.put(ctx, level, begin, blocks); err != nil {
			return changed, err
		}
		if err := s.ledger.DropStretches(ctx, rows); err != nil {
			return changed, err
		}
	}
	return changed, ctx.Err()
}

// join makes blocks that begin at a time of stretches, and of the blocks that there are
// already: a stretch may come late. What cannot be read is left out.
func (s *Samples) join(ctx context.Context, begin time.Time, rows []ledger.StretchRow) (map[sample.Thing]*sample.Block, error) {
	all := map[sample.Thing]*sample.Block{}
	join := func(t sample.Thing, b *sample.Block) {
		if all[t] == nil {
			all[t] = sample.Named(t.Kind).NewBlock(begin, Every)
		}
		all[t].Join(b)
	}
	blocks, err := s.ledger.BlocksAt(ctx, Every, begin)
	if err != nil {
		return nil, err
	}
	for _, r := range blocks {
		if b := decoded(r); b != nil {
			join(r.Thing, b)
		}
	}
	for _, r := range rows {
		part, err := sample.DecodeStretch(r.Data)
		if err != nil {
			slog.Warn("measured values cannot be read; they are left out", "at", r.At, "error", err)
			continue
		}
		for t, b := range part.Blocks {
			join(t, b)
		}
	}
	return all, nil
}

// decoded is the block of a row, nil if it cannot be read.
func decoded(r ledger.BlockRow) *sample.Block {
	k := sample.Named(r.Kind)
	if k == nil {
		return nil // of a newer version
	}
	b, err := k.Decode(r.Data)
	if err != nil {
		slog.Warn("measured values cannot be read; they are left out", "kind", r.Kind, "id", r.ID, "at", r.At, "error", err)
		return nil
	}
	return b
}

// put records blocks of things that begin at a time.
func (s *Samples) put(ctx context.Context, level sample.Level, begin time.Time, blocks map[sample.Thing]*sample.Block) error {
	var things []sample.Thing
	var data [][]byte
	flush := func() error {
		err := s.ledger.PutBlocks(ctx, level.Step, begin, things, data)
		things, data = things[:0], data[:0]
		return err
	}
	for t, b := range blocks {
		things, data = append(things, t), append(data, sample.Named(t.Kind).Encode(b, nil))
		if len(things) == thingsAtOnce {
			if err := flush(); err != nil {
				return err
			}
		}
	}
	return flush()
}

// coarser makes the blocks of a level that have ended of those of a finer one, and again
// those in which a finer one has changed.
func (s *Samples) coarser(ctx context.Context, level, finer sample.Level, changed, now time.Time) error {
	first, _, some, err := s.ledger.BlockSpan(ctx, finer.Step)
	if err != nil || !some {
		return err
	}
	begin := level.Begin(first)
	if _, last, some, err := s.ledger.BlockSpan(ctx, level.Step); err != nil {
		return err
	} else if some {
		next := last.Add(level.Block)
		if again := level.Begin(changed); again.Before(next) {
			next = again
		}
		if next.After(begin) {
			begin = next
		}
	}
	for ; !now.Before(begin.Add(level.Block)) && ctx.Err() == nil; begin = begin.Add(level.Block) {
		if err := s.fold(ctx, level, finer, begin); err != nil {
			return err
		}
	}
	return ctx.Err()
}

// fold makes the blocks of a level that begin at a time, some things at a time.
func (s *Samples) fold(ctx context.Context, level, finer sample.Level, begin time.Time) error {
	end := begin.Add(level.Block)
	for behind := (sample.Thing{}); ; {
		things, err := s.ledger.BlockThings(ctx, finer.Step, begin, end, behind, thingsAtOnce)
		if err != nil || len(things) == 0 {
			return err
		}
		blocks := map[sample.Thing]*sample.Block{}
		for _, t := range things {
			if k := sample.Named(t.Kind); k != nil {
				if blocks[t], err = s.folded(ctx, k, t, level, finer, begin, end); err != nil {
					return err
				}
			}
		}
		if err := s.put(ctx, level, begin, blocks); err != nil {
			return err
		}
		behind = things[len(things)-1]
	}
}

// folded is a block of a level, made of those of a finer one.
func (s *Samples) folded(ctx context.Context, k *sample.Kind, t sample.Thing, level, finer sample.Level, from, to time.Time) (*sample.Block, error) {
	into := k.NewBlock(from, level.Step)
	rows, err := s.ledger.Blocks(ctx, t.Kind, []int64{t.ID}, finer.Step, from, to)
	for _, r := range rows {
		if fine := decoded(r); fine != nil {
			k.Fold(into, fine)
		}
	}
	return into, err
}
