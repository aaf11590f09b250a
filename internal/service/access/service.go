// Package access knows who asks and what they may do: it compiles what principals and their
// teams were given into rights, says why something is refused and who could allow it, keeps
// principals, roles and grants, and looks after the token of the owner that lies in the data
// directory. All of it is safe to call at once.
package access

import (
	"cmp"
	"context"
	"net"
	"strings"
	"sync"
	"time"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/logbook"
	"steadyferry/internal/engine/part"
	"steadyferry/internal/engine/peer"
)

// Service keeps rights, and the owner's token of this node.
type Service struct {
	uses      uses
	gathering gathering

	parts   *part.Registry
	catalog *catalog.Catalog
	dir     string
	keep    time.Duration // of entries of the logbook
	proof   proof

	mu    sync.Mutex // guards all below
	of    *catalog.View
	known map[scope]*access.Rights // in that view
}

// scope is whose rights are meant, and the role and pattern that they are limited to, if they are.
type scope struct{ principal, role, pattern string }

// mostKnown bounds the rights that are kept.
const mostKnown = 10_000

// New returns the service; dir is the node's data directory, and entries of the logbook are kept
// for keep, if that is not 0.
func New(parts *part.Registry, records *catalog.Catalog, dir string, keep time.Duration) *Service {
	s := &Service{parts: parts, catalog: records, dir: dir, keep: cmp.Or(keep, logbook.Kept), known: map[scope]*access.Rights{}}
	peer.Answer(&parts.Calls, headKind, s.keepHead)
	return s
}

// Of returns the rights of a principal at this moment. One that is not there has none.
func (s *Service) Of(name string) *access.Rights { return s.in(scope{principal: name}) }

func (s *Service) in(of scope) *access.Rights {
	if of == (scope{principal: catalog.Owner}) {
		return access.Whole
	}
	v, now := s.catalog.View(), time.Now()
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.of == nil || !s.of.SameRights(v) || len(s.known) > mostKnown {
		clear(s.known)
	}
	s.of = v
	r := s.known[of]
	if r == nil || !r.Hold(now) {
		r = compile(v, of, now)
		s.known[of] = r
	}
	return r
}

// compile puts together what a principal was given, less what it is limited to.
func compile(v *catalog.View, of scope, now time.Time) *access.Rights {
	r, masks := access.Whole, maskedBy(v)
	if of.principal != catalog.Owner {
		r = access.NewRights(given(v, of.principal), now).Through(masks)
	}
	if of.role == "" {
		return r
	}
	var limits []access.Grant
	if one, ok := compiled(v, &catalog.Grant{Grant: setting.Grant{Role: of.role, On: of.pattern}}); ok {
		limits = append(limits, one)
	}
	return r.Within(access.NewRights(limits, now).Through(masks))
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

// asker is a principal, with what the secret that it has come with is limited to.
type asker struct {
	s    *Service
	by   scope
	came catalog.Asker
	Coming
}

// Coming is how somebody has come who asks.
type Coming struct {
	From  string // HOST:PORT of the network; empty: by no door
	looks bool   // only to see what would be done
	with  string // a second person, who has confirmed what is asked for; empty: there is none
}

// Looks is coming to see only what would be done.
func (c Coming) Looks() Coming { c.looks = true; return c }

// With is coming with a second person, who has confirmed what is asked for.
func (c Coming) With(second string) Coming { c.with = second; return c }

// Asker returns who asks with a secret.
func (s *Service) Asker(a catalog.Asker, how Coming) access.Asker {
	by := a.Like("")
	return &asker{s, scope{by.Principal, by.Role, by.Pattern}, a, how}
}

// Via is how it has come.
func (a *asker) Via() access.Via {
	if a.From == "" {
		return access.Via{}
	}
	host, _, _ := net.SplitHostPort(a.From)
	by := a.came.By()
	via := access.Via{Credential: by.Kind + " " + by.ID, From: host}
	if a.with != "" {
		via.Credential = "confirmed by " + a.with
	}
	return via
}

// mostChores is how many chores may have set each other, by declarations.
const mostChores = 4

// Named returns who asks in the name of somebody, as a job does for who made it: of a
// principal, of a chore (chore ADDRESS), which does what whoever has set it last may do, or of
// the service.
func (s *Service) Named(who string) access.Asker { return s.Scoped(who, "") }

// Scoped is Named with no more than a scope is for, the pass of whoever asked for it first; empty: there is none.
func (s *Service) Scoped(who, pass string) access.Asker {
	if who == setting.Ferryd {
		return access.Node(who)
	}
	for range mostChores {
		at, ok := strings.CutPrefix(who, "chore ")
		if !ok {
			break
		}
		who, pass = "", ""
		if c := s.catalog.View().Chores[at]; c != nil {
			who, pass = c.By, c.Scope
		}
	}
	if by, how, ok := scopeOf(pass); ok && by.principal == who {
		return &asker{s: s, by: by, Coming: how}
	}
	return &asker{s: s, by: scope{principal: who}}
}

func (a *asker) Who() string { return a.by.principal }

func (a *asker) Rights() *access.Rights { return a.s.in(a.by) }

// Pass is the principal, and behind tabs the role and the pattern that its token is for, whether it
// only looks, and the second person: names have no tabs.
func (a *asker) Pass() string {
	parts := []string{a.by.principal, a.by.role, a.by.pattern}
	if a.looks || a.with != "" {
		parts = append(parts, map[bool]string{true: looks}[a.looks], a.with)
	}
	return strings.Join(parts, "\t")
}

const looks = "looks"

// scopeOf reads what Pass of an asker tells.
func scopeOf(pass string) (by scope, how Coming, ok bool) {
	parts := strings.Split(pass, "\t")
	switch len(parts) {
	case 3:
		parts = append(parts, "", "")
	case 5:
	default:
		return by, how, false
	}
	return scope{parts[0], parts[1], parts[2]}, Coming{looks: parts[3] == looks, with: parts[4]}, true
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
	by, how, ok := scopeOf(pass)
	if !ok {
		return ctx
	}
	return access.As(ctx, &asker{s: s, by: by, Coming: how})
}
