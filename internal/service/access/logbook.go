package access

import (
	"context"
	"log/slog"
	"sync"
	"time"

	"steadyferry/internal/core/chain"
	"steadyferry/internal/engine/logbook"
	"steadyferry/internal/engine/peer"
)

// proof is what proves of the logbook, beside it, how it has ended.
type proof struct {
	mu    sync.Mutex     // guards the rest
	heads *logbook.Heads // nil: not opened yet
}

// opened returns the heads of this node.
func (s *Service) opened() (*logbook.Heads, error) {
	s.proof.mu.Lock()
	defer s.proof.mu.Unlock()
	if s.proof.heads != nil {
		return s.proof.heads, nil
	}
	heads, err := logbook.OpenHeads(s.dir, s.parts.Name())
	if err != nil {
		return nil, err
	}
	s.proof.heads = heads
	return heads, nil
}

// SignLogbook writes down, signed by this node, how the logbook ends now, and has the other nodes
// that answer write it down too.
func (s *Service) SignLogbook(ctx context.Context) {
	if !s.catalog.AwaySince().IsZero() {
		return
	}
	heads, err := s.opened()
	if err != nil {
		slog.Warn("the logbook is not proved by this node", "error", err)
		return
	}
	head, err := heads.Keep(ctx, s.catalog, s.keep)
	if err != nil && ctx.Err() == nil {
		slog.Warn("how the logbook ends could not be written down", "error", err)
	}
	if head != nil {
		peer.AskEach[bool](ctx, s.parts.Peers(), s.parts.OtherNodes(), headKind, head)
	}
}

// headKind is the call that has another node keep how the logbook has ended.
const headKind = "head"

// keepHead keeps how another node has seen the logbook end.
func (s *Service) keepHead(_ context.Context, from uint64, head chain.Head) (bool, error) {
	heads, err := s.opened()
	if err == nil {
		err = heads.KeepOf(s.parts.NodeName(from), head)
	}
	return err == nil, err
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
