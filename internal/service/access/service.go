// Package access knows who asks and what they may do: it compiles what principals and their
// teams were given into rights, says why something is refused and who could allow it, keeps
// principals, roles and grants, and looks after the token of the owner that lies in the data
// directory. All of it is safe to call at once.
package access

import (
	"context"
	"strings"
	"sync"
	"time"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/part"
)

// Service keeps rights, and the owner's token of this node.
type Service struct {
	parts   *part.Registry
	catalog *catalog.Catalog
	dir     string

	mu    sync.Mutex // guards all below
	of    *catalog.View
	known map[string]*access.Rights // of the principals of that view, by name
}

// New returns the service; dir is the node's data directory.
func New(parts *part.Registry, records *catalog.Catalog, dir string) *Service {
	return &Service{parts: parts, catalog: records, dir: dir, known: map[string]*access.Rights{}}
}

// Of returns the rights of a principal at this moment. One that is not there has none.
func (s *Service) Of(name string) *access.Rights {
	if name == catalog.Owner {
		return access.Whole
	}
	v, now := s.catalog.View(), time.Now()
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.of == nil || !s.of.SameRights(v) {
		clear(s.known)
	}
	s.of = v
	r := s.known[name]
	if r == nil || !r.Hold(now) {
		r = access.NewRights(given(v, name), now)
		s.known[name] = r
	}
	return r
}

// given are the grants of a principal and of its teams.
func given(v *catalog.View, name string) (all []access.Grant) {
	p := v.Principal(name)
	if p == nil || p.Paused {
		return nil
	}
	for _, g := range v.Grants {
		if !holds(p, g.To) {
			continue
		}
		if one, ok := compiled(v, g); ok {
			all = append(all, one)
		}
	}
	return all
}

// asker is a principal that has come with a secret.
type asker struct {
	s  *Service
	by catalog.Secret

	mu     sync.Mutex
	whole  *access.Rights // of the principal, when they were limited last
	scoped *access.Rights // guarded by mu, as is whole
}

// Asker returns who asks with a secret.
func (s *Service) Asker(a catalog.Asker) access.Asker { return &asker{s: s, by: a.Like("")} }

// mostChores is how many chores may have set each other, by declarations.
const mostChores = 4

// Named returns who asks in the name of somebody, as a job does for who made it: of a
// principal, of a chore (chore ADDRESS), which does what whoever has set it last may do, or of
// the service.
func (s *Service) Named(who string) access.Asker {
	if who == setting.Ferryd {
		return access.Node(who)
	}
	for range mostChores {
		at, ok := strings.CutPrefix(who, "chore ")
		if !ok {
			break
		}
		who = ""
		if c := s.catalog.View().Chores[at]; c != nil {
			who = c.By
		}
	}
	return &asker{s: s, by: catalog.Secret{Principal: who}}
}

func (a *asker) Who() string { return a.by.Principal }

// Pass is the principal, and behind tabs the role and the pattern that its token is for: names
// have no tabs.
func (a *asker) Pass() string {
	return strings.Join([]string{a.by.Principal, a.by.Role, a.by.Pattern}, "\t")
}

// Passed has a context be asked with by who has asked another node, as that says: what it may is
// seen here again.
func (s *Service) Passed(ctx context.Context, pass string) context.Context {
	if pass == access.PassOfNobody {
		return ctx
	}
	if pass == access.PassOfNode {
		return access.As(ctx, access.Node(setting.Ferryd))
	}
	parts := strings.SplitN(pass, "\t", 3)
	if len(parts) != 3 {
		return ctx
	}
	return access.As(ctx, &asker{s: s, by: catalog.Secret{Principal: parts[0], Role: parts[1], Pattern: parts[2]}})
}

func (a *asker) Rights() *access.Rights {
	r := a.s.Of(a.by.Principal)
	if a.by.Role == "" {
		return r
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.whole != r {
		a.whole, a.scoped = r, r.Within(a.s.scope(a.by))
	}
	return a.scoped
}
