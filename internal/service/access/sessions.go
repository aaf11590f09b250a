package access

import (
	"context"
	"log/slog"
	"sync"
	"time"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/engine/catalog"
)

// Times of sessions.
const (
	SessionLives = 10 * time.Hour   // at most, however much it is used
	SessionIdle  = 40 * time.Minute // after which an unused one ends
	Fresh        = 10 * time.Minute // from signing in on, in which dangerous steps can be taken

	extendEvery = 4 * time.Minute
	mostUses    = 10_000 // that wait to be noted
)

// SignsIn is how the logbook calls that somebody is let in, or is not.
const SignsIn = "sign in"

// NewSession lets a principal in: with what it came (like), by which way, and from which address.
// Each one is an entry of the logbook.
func (s *Service) NewSession(ctx context.Context, like catalog.Secret, way, from string) (string, error) {
	like.Kind, like.Label = catalog.Session, way
	return s.catalog.NewSecret(ctx, like, SessionIdle, &catalog.Entry{Who: like.Principal, Action: SignsIn, Address: like.Principal, After: map[string]any{"by": way}, Via: access.Via{From: from}})
}

// uses are the secrets whose use is to be noted.
type uses struct {
	mu  sync.Mutex
	all []catalog.Asker
}

// Used notes that somebody came with a secret. A session of somebody who acts goes on; one that
// only looks on by itself does not.
func (s *Service) Used(ctx context.Context, a catalog.Asker, acts bool) {
	now := time.Now()
	if a.Used(now) {
		s.uses.mu.Lock()
		if len(s.uses.all) < mostUses {
			s.uses.all = append(s.uses.all, a)
		}
		s.uses.mu.Unlock()
		s.noteOwner(ctx, a, now)
	}
	if !acts || !a.Session() { // most come with a token, a million times
		return
	}
	by := a.By()
	if time.Until(by.ExpiresAt) > SessionIdle-extendEvery {
		return
	}
	until := now.Add(SessionIdle)
	if end := by.CreatedAt.Add(SessionLives); end.Before(until) {
		until = end
	}
	if err := s.catalog.Extend(ctx, a, until); err != nil && ctx.Err() == nil {
		slog.Debug("a session could not be extended", "error", err)
	}
}

// UsesOwner is what it is called when somebody comes as the owner, which is for the first day and
// for emergencies.
const UsesOwner = "use the owner's rights"

// noteOwner has it be noted that somebody has come as the owner.
func (s *Service) noteOwner(ctx context.Context, a catalog.Asker, now time.Time) {
	owner := s.catalog.View().Principal(catalog.Owner)
	if a.Name != catalog.Owner || owner == nil || now.Sub(owner.CreatedAt) < catalog.OwnerGrace {
		return
	}
	s.gather(Gathered{Who: catalog.Owner, Via: access.ViaIn(ctx), Action: UsesOwner, Outcome: catalog.Done})
}

// NoteUses records which secrets were used.
func (s *Service) NoteUses(ctx context.Context) {
	s.uses.mu.Lock()
	all := s.uses.all
	s.uses.all = nil
	s.uses.mu.Unlock()
	if len(all) == 0 {
		return
	}
	if err := s.catalog.NoteUses(ctx, all); err != nil && ctx.Err() == nil {
		slog.Debug("uses of secrets could not be noted", "secrets", len(all), "error", err)
	}
}

// CheckFresh refuses a dangerous step to a session that was not begun lately: it may have been
// left open. Tokens are always fresh.
func CheckFresh(a catalog.Asker) error {
	if by := a.By(); by.Kind == catalog.Session && time.Since(by.CreatedAt) > Fresh {
		return problem.New(problem.SignInAgain, "that takes a token, or a session that is not older than %s", Fresh).Next("sign in again: at the console, with ferry sign-in, or with the link that ferry access link makes")
	}
	return nil
}
