package samples

import (
	"context"
	"slices"
	"time"

	"steadyferry/internal/core/sample"
	"steadyferry/internal/engine/ledger"
)

// History returns what was measured of a thing from a time up to another one, in the finest
// steps that are kept of it and no more than most; what is not known is Unknown.
func (s *Samples) History(ctx context.Context, t sample.Thing, from, to time.Time, most int) (*sample.Block, error) {
	level := sample.LevelFor(time.Since(from), to.Sub(from), most)
	all, err := s.in(ctx, level, t.Kind, []int64{t.ID}, from, to)
	return all[t.ID], err
}

// Deep returns what was measured of things of a kind from a time on, each time in the finest
// steps that are kept of it: blocks that follow each other, by the things' ids.
func (s *Samples) Deep(ctx context.Context, kind string, things []int64, from, to time.Time) (map[int64][]*sample.Block, error) {
	deep := map[int64][]*sample.Block{}
	for _, level := range slices.Backward(sample.Levels) {
		end := to
		if level.Step > Every {
			finer := sample.Levels[slices.Index(sample.Levels, level)-1]
			end = to.Add(finer.Block - finer.Kept).Truncate(level.Step)
		}
		begin := to.Add(level.Block - level.Kept).Truncate(level.Step)
		if begin.Before(from) {
			begin = from
		}
		if !begin.Before(end) {
			continue
		}
		all, err := s.in(ctx, level, kind, things, begin, end)
		if err != nil {
			return nil, err
		}
		for id, b := range all {
			b.Cut(end)
			deep[id] = append(deep[id], b)
		}
	}
	return deep, nil
}

// in returns what was measured of things of a kind in steps of a level, by their ids.
func (s *Samples) in(ctx context.Context, level sample.Level, kind string, things []int64, from, to time.Time) (map[int64]*sample.Block, error) {
	k := sample.Named(kind)
	begin := from.Truncate(level.Step)
	// Of what becomes a block meanwhile the stretch must have been read before.
	fine, err := s.lately(ctx, k, things, begin, to)
	if err != nil {
		return nil, err
	}
	out := make(map[int64]*sample.Block, len(things))
	for _, id := range things {
		out[id] = k.NewBlock(begin, level.Step)
	}
	// Blocks of coarser steps come when they have ended; what they will be made of is there.
	for _, l := range slices.Backward(sample.Levels) {
		if l.Step > level.Step {
			continue
		}
		rows, err := s.ledger.Blocks(ctx, kind, things, l.Step, l.Begin(begin), to)
		if err != nil {
			return nil, err
		}
		for _, r := range rows {
			b := decoded(r)
			switch {
			case b == nil:
			case l.Step == level.Step:
				out[r.ID].Join(b)
			case l.Step == Every:
				fine[r.ID].Join(b)
			default:
				k.Fold(out[r.ID], b)
			}
		}
	}
	for id, b := range fine {
		if level.Step == Every {
			out[id].Join(b)
		} else {
			k.Fold(out[id], b)
		}
	}
	return out, nil
}

// lately is what stretches have of things.
func (s *Samples) lately(ctx context.Context, k *sample.Kind, things []int64, from, to time.Time) (map[int64]*sample.Block, error) {
	fine := make(map[int64]*sample.Block, len(things))
	for _, id := range things {
		fine[id] = k.NewBlock(from, Every)
	}
	unrecorded := s.unrecorded(k.Name, fine)
	rows, err := s.ledger.Stretches(ctx, from, to)
	if err != nil {
		return nil, err
	}
	for _, r := range append(rows, unrecorded...) {
		_ = sample.EachBlock(r.Data, func(t sample.Thing) bool { return t.Kind == k.Name && fine[t.ID] != nil }, func(t sample.Thing, b *sample.Block) {
			fine[t.ID].Join(b) // what cannot be read was said when it was to be a block
		})
	}
	return fine, nil
}

// unrecorded puts in what the open stretch has of things, and returns those that wait.
func (s *Samples) unrecorded(kind string, fine map[int64]*sample.Block) []ledger.StretchRow {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.open != nil {
		for id, b := range fine {
			if o := s.open.Blocks[sample.Thing{Kind: kind, ID: id}]; o != nil {
				b.Join(o)
			}
		}
	}
	return slices.Clone(s.waiting)
}
