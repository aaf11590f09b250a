package access

import (
	"context"
	"log/slog"
	"time"

	"steadyferry/internal/engine/logbook"
)

// SignLogbook writes down, signed by this node, how the logbook ends now.
func (s *Service) SignLogbook(ctx context.Context) {
	if !s.catalog.AwaySince().IsZero() {
		return
	}
	if s.heads == nil {
		heads, err := logbook.OpenHeads(s.dir, s.parts.Name())
		if err != nil {
			slog.Warn("the logbook is not proved by this node", "error", err)
			return
		}
		s.heads = heads
		if _, err := logbook.Apart(ctx, s.catalog); err != nil && ctx.Err() == nil {
			slog.Warn("the logbook stays with the role that writes it", "error", err)
		}
	}
	if err := s.heads.Keep(ctx, s.catalog, s.keep); err != nil && ctx.Err() == nil {
		slog.Warn("how the logbook ends could not be written down", "error", err)
	}
}

// ForgetLogbook has entries go that are older than they are kept.
func (s *Service) ForgetLogbook(ctx context.Context) {
	for ctx.Err() == nil && s.catalog.AwaySince().IsZero() {
		gone, err := logbook.Forget(ctx, s.catalog, time.Now().Add(-s.keep))
		if err != nil && ctx.Err() == nil {
			slog.Warn("old entries of the logbook could not be taken away", "error", err)
		}
		if err != nil || gone < logbook.MostForgotten {
			return
		}
	}
}
