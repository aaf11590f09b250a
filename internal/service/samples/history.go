package samples

import (
	"context"
	"slices"
	"time"

	"steadyferry/internal/core/sample"
	"steadyferry/internal/engine/catalog"
)

// History returns what was measured of a thing from a time up to another one, in the finest
// steps that are kept of it and no more than most; what is not known is Unknown.
func (s *Samples) History(ctx context.Context, t sample.Thing, from, to time.Time, most int) (*sample.Block, error) {
	k := sample.Named(t.Kind)
	level := sample.LevelFor(time.Since(from), to.Sub(from), most)
	begin := from.Truncate(level.Step)
	// Of what becomes a block meanwhile the stretch must have been read before.
	fine, err := s.lately(ctx, k, t, begin, to)
	if err != nil {
		return nil, err
	}
	out := k.NewBlock(begin, level.Step)
	// Blocks of coarser steps come when they have ended; what they will be made of is there.
	for _, l := range slices.Backward(sample.Levels) {
		if l.Step > level.Step {
			continue
		}
		rows, err := s.catalog.Blocks(ctx, t, l.Step, l.Begin(begin), to)
		if err != nil {
			return nil, err
		}
		for _, r := range rows {
			b := decoded(r)
			switch {
			case b == nil:
			case l.Step == level.Step:
				out.Join(b)
			case l.Step == Every:
				fine.Join(b)
			default:
				k.Fold(out, b)
			}
		}
	}
	if level.Step == Every {
		out.Join(fine)
	} else {
		k.Fold(out, fine)
	}
	return out, nil
}

// lately is what stretches have of a thing.
func (s *Samples) lately(ctx context.Context, k *sample.Kind, t sample.Thing, from, to time.Time) (*sample.Block, error) {
	fine := k.NewBlock(from, Every)
	unrecorded := s.unrecorded(fine, t)
	rows, err := s.catalog.Stretches(ctx, from, to)
	if err != nil {
		return nil, err
	}
	for _, r := range append(rows, unrecorded...) {
		if b, err := sample.BlockOf(r.Data, t); err == nil && b != nil {
			fine.Join(b)
		}
	}
	return fine, nil
}

// unrecorded puts in what the open stretch has of a thing, and returns those that wait.
func (s *Samples) unrecorded(fine *sample.Block, t sample.Thing) []catalog.StretchRow {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.open != nil && s.open.Blocks[t] != nil {
		fine.Join(s.open.Blocks[t])
	}
	return slices.Clone(s.waiting)
}
