// Package signin lets people in for whom another place vouches, by OpenID Connect: the
// authorization code flow with PKCE. What a provider says of somebody becomes a principal and its
// teams by the rules of core/signin; what that may do is service/access's. Between the two steps
// of a sign-in the browser keeps what it takes (a Flow), so that nothing waits here, and any node
// can do the second. It may be used by many at once.
package signin

import (
	"context"
	"crypto/subtle"
	"crypto/x509"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/core/signin"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/ledger"
	"steadyferry/internal/engine/voucher"
)

// FlowLives is how long a sign-in takes at most, from its first step to the second.
const FlowLives = 10 * time.Minute

// SignIn is the service.
type SignIn struct {
	PublicURL string // by which browsers reach the service; empty: by that of their requests

	catalog *catalog.Catalog
	ledger  ledger.Ledger
	config  *signin.Config
	places  map[string]*place
}

// place is a provider, and the rules for whom it vouches for.
type place struct {
	*signin.Provider
	voucher *voucher.Provider
}

// New returns the service, for the providers of a configuration.
func New(records *catalog.Catalog, config *signin.Config, publicURL string) *SignIn {
	s := &SignIn{PublicURL: publicURL, catalog: records, ledger: ledger.Of(records), config: config, places: map[string]*place{}}
	for _, p := range config.Providers {
		s.places[p.Name] = &place{p, voucher.New(p.Issuer, p.Client, p.Secret)}
	}
	return s
}

// Certified is for whom a certificate of a client stands, the first of a chain to an authority: a principal
// that is there, and not the owner.
func (s *SignIn) Certified(chain []*x509.Certificate) (catalog.Asker, bool) {
	if s.config.Certificates == nil || !s.config.Certificates.Trust().Stands(chain) {
		return catalog.Asker{}, false
	}
	c := chain[0]
	name, ok := s.config.Certificates.Principal(c)
	if !ok || name == catalog.Owner || s.catalog.View().Principal(name) == nil {
		return catalog.Asker{}, false
	}
	return catalog.Stands(catalog.Secret{Principal: name, Kind: catalog.Certificate, ExpiresAt: c.NotAfter}, c.Raw), true
}

// Providers are those by which people can sign in.
func (s *SignIn) Providers() []*signin.Provider { return s.config.Providers }

// Tokens reports whether one signs in to the console with a token; programs come with theirs in any case.
func (s *SignIn) Tokens() bool { return signin.On(s.config.Tokens) }

// Flow is what the browser keeps between the two steps of a sign-in.
type Flow struct {
	voucher.Flow
	Provider string    `json:"provider"`
	To       string    `json:"to"` // the page that was wanted
	Until    time.Time `json:"until"`
}

// Why somebody is not let in, in the words of addresses of the console.
const (
	Away    = "away"    // the provider does not answer
	Late    = "late"    // it took too long, or another browser began it
	Refused = "refused" // what the provider says is not valid, or it is nobody who may come
)

// Failed says why somebody is not let in.
type Failed struct {
	Why string
	Err error
}

func (f *Failed) Error() string { return f.Err.Error() }
func (f *Failed) Unwrap() error { return f.Err }

// failed is why somebody is not let in by a provider that has answered so.
func failed(err error) *Failed {
	if errors.Is(err, voucher.ErrAway) {
		return &Failed{Away, err}
	}
	return &Failed{Refused, err}
}

func (s *SignIn) place(name string) (*place, error) {
	if p := s.places[name]; p != nil {
		return p, nil
	}
	return nil, problem.New(problem.NotFound, "there is no provider %s to sign in with", name).Field("provider").Next("the file of -sign-in names those that there are")
}

// Begin returns where the browser goes to sign in, and what it keeps meanwhile. The provider sends
// it to redirect afterwards. With anew people say again who they are, even if it still knows.
func (s *SignIn) Begin(ctx context.Context, provider, redirect, to string, anew bool) (string, *Flow, error) {
	p, err := s.place(provider)
	if err != nil {
		return "", nil, err
	}
	at, flow, err := p.voucher.Begin(ctx, redirect, anew)
	if err != nil {
		return "", nil, failed(err)
	}
	return at, &Flow{flow, provider, to, time.Now().Add(FlowLives).UTC()}, nil
}

// Finish returns for whom the provider vouches with a code, as a principal that is there from now
// on. The error is a *Failed.
func (s *SignIn) Finish(ctx context.Context, f *Flow, provider, redirect, state, code string) (string, error) {
	p, err := s.place(provider)
	switch {
	case err != nil:
		return "", &Failed{Refused, err}
	case f.Provider != provider || f.State == "" || subtle.ConstantTimeCompare([]byte(f.State), []byte(state)) != 1 || time.Now().After(f.Until):
		return "", &Failed{Late, errors.New("this browser has not begun it, or too long ago")}
	}
	claims, err := p.voucher.Claims(ctx, f.Flow, redirect, code)
	if err != nil {
		return "", failed(err)
	}
	person, err := p.Person(claims)
	if err != nil {
		return "", failed(err)
	}
	if err := s.settle(ctx, p, person); err != nil {
		return "", failed(err)
	}
	return person.Name, nil
}

// mostTries is how often a principal is tried to be set that others set too.
const mostTries = 5

// settle makes the principal of a person, or brings its teams up to date. A principal that waits
// for its person, without an identity, is theirs from their first sign-in on; what belongs to
// somebody else, to a machine or to the owner is refused.
func (s *SignIn) settle(ctx context.Context, p *place, person *signin.Person) error {
	for try := 1; ; try++ {
		old := s.catalog.View().Principal(person.Name)
		if old == nil {
			one := &catalog.Principal{Owned: catalog.Owned{ID: catalog.NewOwnedID(), Name: person.Name}, Principal: setting.Principal{Kind: setting.Person, Identity: person.Identity, Brought: person.Teams, Description: "came by " + p.Label}}
			err := s.catalog.NewRights(ctx, &catalog.Entry{Who: person.Name, Action: "new person", Address: catalog.PrincipalsPlace + "/" + person.Name, After: map[string]any{"provider": p.Name, "teams": person.Teams}}, catalog.Rights{Principals: []*catalog.Principal{one}})
			if !errors.Is(err, catalog.ErrExists) || try == mostTries {
				return err
			}
			if err := s.catalog.Refresh(ctx); err != nil {
				return err
			}
			continue
		}
		switch {
		case old.Name == catalog.Owner || old.Kind != setting.Person:
			return fmt.Errorf("%s is no person here", person.Name)
		case old.Identity != "" && old.Identity != person.Identity:
			return fmt.Errorf("%s is somebody else here: another provider, or another person of this one, came with the name before", person.Name)
		case old.Paused:
			return fmt.Errorf("%s is shut out", person.Name)
		case old.Identity == person.Identity && slices.Equal(old.Brought, person.Teams):
			return nil
		}
		is := *old
		is.Identity, is.Brought = person.Identity, person.Teams
		err := s.catalog.SetPrincipal(ctx, &is, &catalog.Entry{Who: person.Name, Action: "set person", Address: catalog.PrincipalsPlace + "/" + person.Name,
			Before: map[string]any{"provider": strings.SplitN(old.Identity, " ", 2)[0], "brought": old.Brought}, After: map[string]any{"provider": p.Name, "brought": person.Teams}})
		if !errors.Is(err, catalog.ErrStale) || try == mostTries {
			return err
		}
		if err := s.catalog.Refresh(ctx); err != nil {
			return err
		}
	}
}

// Left ends the sessions of whom a provider says that they have left, and returns who that was.
func (s *SignIn) Left(ctx context.Context, provider, token string) (string, error) {
	p, err := s.place(provider)
	if err != nil {
		return "", err
	}
	subject, err := p.voucher.Left(ctx, token)
	if err != nil {
		return "", problem.New(problem.Invalid, "the token does not say that somebody has left: %v", err).Field("logout_token")
	}
	for _, one := range s.catalog.View().Principals {
		if one.Identity == p.Name+" "+subject {
			return one.Name, s.catalog.EndSessions(ctx, one.Name, &catalog.Entry{Who: one.Name, Action: "leave", Address: catalog.PrincipalsPlace + "/" + one.Name, After: map[string]any{"provider": p.Name}})
		}
	}
	return "", nil
}
