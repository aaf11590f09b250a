package catalog

import (
	"context"
	"crypto/sha256"
	"crypto/subtle"
	"errors"
	"sync"
	"time"
)

// hash is that of a secret.
type hash = [sha256.Size]byte

// sessions are those that this node has looked up. A session is forgotten at the
// word that its row changed; what was read before that word is not kept after it.
type sessions struct {
	mu      sync.Mutex
	known   map[hash]*secret // guarded by mu, as all below
	forgets int              // times that something was forgotten
}

// mostSessions is how many a node keeps; one more is looked up at each use.
const mostSessions = 20_000

func (k *sessions) get(h hash) *secret {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.known[h]
}

// keep remembers what was looked up since the number of forgets.
func (k *sessions) keep(h hash, s *secret, since int) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.forgets != since {
		return
	}
	if len(k.known) >= mostSessions {
		for old, s := range k.known {
			if s.over() {
				delete(k.known, old)
			}
		}
	}
	if len(k.known) < mostSessions {
		k.known[h] = s
	}
}

func (k *sessions) now() int {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.forgets
}

// forget lets go of sessions whose rows changed, of all when that is not known.
func (k *sessions) forget(changed keys) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if changed == nil {
		clear(k.known)
		k.forgets++
	}
	for _, h := range hashes(changed["secrets"]) {
		delete(k.known, hash(h))
		k.forgets++
	}
}

// Known returns for whom a token or a session stands, without asking the
// database: every token in force is known, and sessions that were looked up. The
// secret is found by its hash, and the hashes are compared in constant time.
func (c *Catalog) Known(kind, text string) (Asker, bool) {
	h := sha256.Sum256([]byte(text))
	return c.known(kind, h).principal(kind, h)
}

func (c *Catalog) known(kind string, h hash) *secret {
	if kind == Session {
		return c.sessions.get(h)
	}
	return c.View().tokens[h]
}

// principal is for whom a secret of the kind and hash stands; none of nil.
func (s *secret) principal(kind string, h hash) (Asker, bool) {
	if s == nil || s.Kind != kind || subtle.ConstantTimeCompare(s.Hash, h[:]) != 1 || s.over() {
		return Asker{}, false
	}
	return Asker{Name: s.Principal, secret: h, by: s}, true
}

// LookUp asks the records for whom a secret stands that is not known here: another
// node may have made it. It returns ErrAway when they do not answer, of tokens
// false: those are all known.
func (c *Catalog) LookUp(ctx context.Context, kind, text string) (Asker, bool, error) {
	if kind == Token {
		if err := c.Refresh(ctx); err != nil {
			return Asker{}, false, nil
		}
		p, ok := c.Known(kind, text)
		return p, ok, nil
	}
	h := sha256.Sum256([]byte(text))
	s, err := c.lookUp(ctx, kind, h)
	p, ok := s.principal(kind, h)
	return p, ok, err
}

func (c *Catalog) lookUp(ctx context.Context, kind string, h hash) (*secret, error) {
	since := c.sessions.now()
	s, err := One[secret](ctx, c, secretColumns+`WHERE x.hash = $1 AND x.kind = $2 AND `+standing["secrets"], h[:], kind)
	switch {
	case errors.Is(err, ErrNotFound):
		return nil, nil
	case err == nil && kind == Session:
		c.sessions.keep(h, s, since)
	}
	return s, err
}

// By describes the secret with which the asker came.
func (a *Asker) By() Secret { return a.by.describe() }

// Session reports whether it has come with a session.
func (a *Asker) Session() bool { return a.by.Kind == Session }

// Like is a secret of a kind that is good for what this one is, and for no more.
func (a *Asker) Like(kind string) Secret {
	return Secret{Principal: a.Name, Kind: kind, Role: a.by.Role, Pattern: a.by.Pattern}
}

// InForce reports whether the secret that a principal came with still stands
// for it, and when that ends by itself (zero: never). While the records cannot be
// asked, what was in force stays so until its end.
func (c *Catalog) InForce(ctx context.Context, a Asker) (until time.Time, ok bool) {
	s := c.known(a.by.Kind, a.secret)
	if a.by.Kind == Certificate && c.View().Principal(a.Name) != nil {
		s = a.by
	}
	if s == nil && a.by.Kind == Session {
		found, err := c.lookUp(ctx, Session, a.secret)
		if s = found; err != nil {
			s = a.by
		}
	}
	if s == nil || s.over() {
		return time.Time{}, false
	}
	return s.ExpiresAt.Time, true
}
