// Package voucher talks to a place that vouches for people by OpenID Connect: the authorization
// code flow with PKCE, and what it says of those who have left. Who they are here is not its
// matter. A Provider may be used by many at once.
package voucher

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"errors"
	"fmt"
	"io"
	"net/http"
	"sync"
	"time"

	"github.com/coreos/go-oidc/v3/oidc"
	"golang.org/x/oauth2"
)

// Bounds of what is asked and told.
const (
	patience     = 5 * time.Second // for an answer
	maxAnswer    = 1 << 20
	knownFor     = time.Hour // what a provider says of itself
	leaveWithin  = 5 * time.Minute
	mostLeavings = 10_000
)

// ErrAway is wrapped when the provider does not answer, or nothing of use.
var ErrAway = errors.New("the provider does not answer")

// Provider is such a place.
type Provider struct {
	issuer, client, secret string
	http                   *http.Client

	mu      sync.Mutex
	known   *oidc.Provider
	knownAt time.Time
	gone    map[string]time.Time // what was taken of leavings, until it is too old
}

// New returns the provider at an issuer's address, which knows this service as a client; without a
// secret it has none. It is asked when it is needed first.
func New(issuer, client, secret string) *Provider {
	return &Provider{issuer: issuer, client: client, secret: secret, gone: map[string]time.Time{},
		http: &http.Client{Timeout: patience, Transport: bounded{http.DefaultTransport}, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}}
}

// bounded cuts answers that are larger than any that is expected.
type bounded struct{ http.RoundTripper }

type cut struct {
	io.Reader
	io.Closer
}

func (b bounded) RoundTrip(r *http.Request) (*http.Response, error) {
	response, err := b.RoundTripper.RoundTrip(r)
	if err == nil {
		response.Body = cut{io.LimitReader(response.Body, maxAnswer), response.Body}
	}
	return response, err
}

func (p *Provider) context(ctx context.Context) context.Context {
	return oidc.ClientContext(ctx, p.http)
}

// ask is what the provider says of itself; its keys it is asked for when one is not known.
func (p *Provider) ask(ctx context.Context) (*oidc.Provider, error) {
	p.mu.Lock()
	known, at := p.known, p.knownAt
	p.mu.Unlock()
	if known != nil && time.Since(at) < knownFor {
		return known, nil
	}
	// The keys are asked for long after this request.
	fresh, err := oidc.NewProvider(p.context(context.WithoutCancel(ctx)), p.issuer)
	if err != nil {
		return nil, errors.Join(ErrAway, err)
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	p.known, p.knownAt = fresh, time.Now()
	return fresh, nil
}

func (p *Provider) config(known *oidc.Provider, redirect string) *oauth2.Config {
	end := known.Endpoint()
	end.AuthStyle = oauth2.AuthStyleInParams // else what fails is tried twice
	return &oauth2.Config{ClientID: p.client, ClientSecret: p.secret, Endpoint: end, RedirectURL: redirect, Scopes: []string{oidc.ScopeOpenID, "profile", "email", "groups"}}
}

// Flow is what one sign-in is known by, from its first step to the second.
type Flow struct {
	State    string `json:"state"`
	Nonce    string `json:"nonce"`
	Verifier string `json:"verifier"`
}

// Begin returns where the browser goes. The provider sends it to redirect afterwards. With anew
// people say again who they are, even if the provider still knows.
func (p *Provider) Begin(ctx context.Context, redirect string, anew bool) (string, Flow, error) {
	known, err := p.ask(ctx)
	if err != nil {
		return "", Flow{}, err
	}
	f := Flow{State: rand.Text(), Nonce: rand.Text(), Verifier: oauth2.GenerateVerifier()}
	options := []oauth2.AuthCodeOption{oidc.Nonce(f.Nonce), oauth2.S256ChallengeOption(f.Verifier)}
	if anew {
		options = append(options, oauth2.SetAuthURLParam("prompt", "login"), oauth2.SetAuthURLParam("max_age", "0"))
	}
	return p.config(known, redirect).AuthCodeURL(f.State, options...), f, nil
}

// Claims are what the provider says of whom it has sent back with a code, proved to be for this
// service and this sign-in.
func (p *Provider) Claims(ctx context.Context, f Flow, redirect, code string) (map[string]any, error) {
	known, err := p.ask(ctx)
	if err != nil {
		return nil, err
	}
	ctx = p.context(ctx)
	tokens, err := p.config(known, redirect).Exchange(ctx, code, oauth2.VerifierOption(f.Verifier))
	if err != nil {
		var said *oauth2.RetrieveError
		if errors.As(err, &said) && said.Response.StatusCode < http.StatusInternalServerError {
			return nil, fmt.Errorf("the provider takes the code for nothing: %s", said.ErrorCode)
		}
		return nil, errors.Join(ErrAway, err)
	}
	text, _ := tokens.Extra("id_token").(string)
	token, err := known.Verifier(&oidc.Config{ClientID: p.client}).Verify(ctx, text)
	if err != nil {
		return nil, err
	}
	claims := map[string]any{}
	if err := token.Claims(&claims); err != nil {
		return nil, err
	}
	if by, _ := claims["azp"].(string); by != p.client && (by != "" || len(token.Audience) > 1) {
		return nil, errors.New("the token was made for another client")
	}
	// What says that somebody has left is signed by the same key.
	if _, leaves := claims["events"]; leaves || f.Nonce == "" || subtle.ConstantTimeCompare([]byte(token.Nonce), []byte(f.Nonce)) != 1 {
		return nil, errors.New("the token is for another sign-in")
	}
	return claims, nil
}

// Left returns who has left by a token of OpenID Connect Back-Channel Logout 1.0, as the provider
// names them. Each is taken once, and soon.
func (p *Provider) Left(ctx context.Context, text string) (subject string, err error) {
	known, err := p.ask(ctx)
	if err != nil {
		return "", err
	}
	token, err := known.Verifier(&oidc.Config{ClientID: p.client}).VerifyLogout(p.context(ctx), text)
	if err != nil {
		return "", err
	}
	now := time.Now()
	if age := now.Sub(token.IssuedAt); age > leaveWithin || age < -leaveWithin || token.Subject == "" || token.TokenID == "" || !p.once(token.TokenID, now) {
		return "", errors.New("the token is old, came before, or names nobody")
	}
	return token.Subject, nil
}

// once reports whether a token has not come before.
func (p *Provider) once(id string, now time.Time) bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	for old, until := range p.gone {
		if until.Before(now) {
			delete(p.gone, old)
		}
	}
	if _, before := p.gone[id]; before || len(p.gone) >= mostLeavings {
		return false
	}
	p.gone[id] = now.Add(2 * leaveWithin)
	return true
}
