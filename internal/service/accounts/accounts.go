// Package accounts lets people in by a password and a code of their own (local accounts), where no
// provider vouches for them. An account is begun by an invitation, which whoever looks after a
// person makes and passes on, and which is good once; whoever has it chooses the password and takes the codes over.
// What is wrong with a sign-in is never told, nor whether a name has an account: each try costs the same.
// It may be used by many at once.
package accounts

import (
	"cmp"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"log/slog"
	"time"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/account"
	"steadyferry/internal/core/admit"
	"steadyferry/internal/core/cores"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/seal"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/ledger"
	"steadyferry/internal/engine/part"
)

// InvitationLives is how long an invitation can be accepted.
const InvitationLives = 48 * time.Hour

// Tries of one account on one node: so many at once, and then one every while. Three nodes take less
// than a hundred an hour together.
const (
	tryBurst, tryEvery = 8, 150 * time.Second
	hashWait           = 5 * time.Second // for a processor on which to compare a password
)

// Way is how sessions and the logbook name that somebody has come by an account.
const Way = "account"

// Accounts is the service.
type Accounts struct {
	catalog *catalog.Catalog
	ledger  ledger.Ledger
	ring    seal.Ring
	off     bool
	handle  func(ctx context.Context, principal string) error // why whoever asks may not have its credentials in hand
	tries   *admit.Rates                                      // by name, whether there is such an account or not
	hashing chan struct{}                                     // a place for each that compares
}

// New returns the service, which keeps the secrets of codes with a ring; handle says why whoever
// asks may not have the credentials of a principal in hand.
func New(records *catalog.Catalog, ring seal.Ring, off bool, handle func(ctx context.Context, principal string) error) *Accounts {
	return &Accounts{catalog: records, ledger: ledger.Of(records), ring: ring, off: off, handle: handle,
		tries: admit.NewRates("sign-ins", tryBurst, tryEvery), hashing: make(chan struct{}, cores.AllButOne())}
}

// On reports whether people can sign in by an account.
func (s *Accounts) On() bool { return !s.off }

func (s *Accounts) check() error {
	if s.off {
		return problem.New(problem.NotFound, "accounts are switched off here").Next("sign in at a provider, or with a link that ferry access link makes; the file of -sign-in says accounts: false")
	}
	return nil
}

// sealedFor is where the secret of an account's codes is kept: it opens nowhere else.
func sealedFor(id int64) string { return fmt.Sprintf("accounts/%d/codes", id) }

// Invite begins the account of a person anew and returns the invitation, which is told here alone. What the
// account was before ends.
func (s *Accounts) Invite(ctx context.Context, who, name string) (invitation string, until time.Time, err error) {
	p, err := s.person(ctx, name)
	if err = cmp.Or(s.check(), err); err != nil {
		return "", until, err
	}
	if len(s.ring) == 0 {
		return "", until, problem.New(problem.Unavailable, "this node has no key by which it can keep secrets").Next("start each node with ferryd's -seal-keys FILE, the same for all; ferryd rekey -new makes a line of it")
	}
	invitation, until = "i-"+rand.Text()+rand.Text(), time.Now().Add(InvitationLives).UTC().Truncate(time.Second)
	a := ledger.Account{ID: p.ID, InvitedUntil: &until, Codes: s.ring.Seal(sealedFor(p.ID), []byte(account.NewCodes()))}
	err = s.ledger.NewAccount(ctx, a, invitation, &catalog.Entry{Who: who, Action: "invite", Address: catalog.PrincipalsPlace + "/" + name, After: map[string]any{"until": until}})
	return invitation, until, part.Explain(err, "principals/"+name)
}

// person is one whose account whoever asks may have in hand.
func (s *Accounts) person(ctx context.Context, name string) (*catalog.Principal, error) {
	at := catalog.PrincipalsPlace + "/" + name
	if err := access.Check(ctx, access.Access, at); err != nil {
		return nil, err
	}
	if err := s.handle(ctx, name); err != nil {
		return nil, err
	}
	p := s.catalog.View().Principal(name)
	switch {
	case p == nil:
		return nil, problem.New(problem.NotFound, "there is no principal %s", name).Field("principal").Next("ferry access new person %s makes one", name)
	case p.Kind != setting.Person || name == catalog.Owner:
		return nil, problem.New(problem.Invalid, "%s has no account: those are of people, and not of the owner", name).Field("principal").Next("it comes with tokens: ferry access new token %s", name)
	}
	return p, nil
}

// Close ends the account of a person.
func (s *Accounts) Close(ctx context.Context, who, name string) error {
	p, err := s.person(ctx, name)
	if err != nil {
		return err
	}
	err = s.ledger.CloseAccount(ctx, p.ID, &catalog.Entry{Who: who, Action: "close account", Address: catalog.PrincipalsPlace + "/" + name})
	if errors.Is(err, catalog.ErrNotFound) {
		return problem.New(problem.NotFound, "%s has no account", name).Field("principal").Next("ferry access principals tells who has one")
	}
	return part.Explain(err, "principals/"+name)
}

// States of accounts.
const (
	Invited = "invited" // nobody has accepted the invitation yet
	Over    = "over"    // nor has in time
	Open    = "open"
)

// States tells of each principal with an account how that is.
func (s *Accounts) States(ctx context.Context) (map[string]string, error) {
	all, err := s.ledger.Accounts(ctx)
	out := make(map[string]string, len(all))
	for _, a := range all {
		switch {
		case a.InvitedUntil == nil:
			out[a.Principal] = Open
		case a.InvitedUntil.After(time.Now()):
			out[a.Principal] = Invited
		default:
			out[a.Principal] = Over
		}
	}
	return out, part.Explain(err, catalog.PrincipalsPlace)
}

// Codes are how an app takes the codes of an account over.
type Codes struct {
	Name    string
	Secret  string // in base32
	URI     string // otpauth
	Picture []byte // of it, as PNG
}

func noInvitation(err error) error {
	if errors.Is(err, catalog.ErrNotFound) || errors.Is(err, catalog.ErrStale) {
		return problem.New(problem.NotFound, "this invitation is not in force").Field("invitation").Next("each is good once, for %s: ask who has made it for another one", InvitationLives)
	}
	return part.Explain(err, "sign-in")
}

func (s *Accounts) invited(ctx context.Context, invitation string) (a *ledger.Account, codes string, err error) {
	if err := s.check(); err != nil {
		return nil, "", err
	}
	if a, err = s.ledger.Invited(ctx, invitation); err != nil {
		return nil, "", noInvitation(err)
	}
	codes, err = s.open(a)
	return a, codes, err
}

// open is the secret of an account's codes, which what is kept of its password is made with too. That this node cannot open it is for its log.
func (s *Accounts) open(a *ledger.Account) (string, error) {
	b, err := s.ring.Open(sealedFor(a.ID), a.Codes)
	if err != nil {
		slog.Error("the codes of an account cannot be read", "principal", a.Principal, "error", err)
		return "", problem.New(problem.Unavailable, "this node cannot read what is kept of the account").Next("its log says why")
	}
	return string(b), nil
}

// Invitation tells who comes with an invitation for whom it is, and how to take the codes over;
// host names the service in the app.
func (s *Accounts) Invitation(ctx context.Context, invitation, host string) (*Codes, error) {
	a, codes, err := s.invited(ctx, invitation)
	if err != nil {
		return nil, err
	}
	uri, picture, err := account.CodesURI(codes, a.Principal, host)
	return &Codes{a.Principal, codes, uri, picture}, err
}

// Judge says how hard a password is to guess for the account of an invitation, and why it is not taken.
func (s *Accounts) Judge(ctx context.Context, invitation, password string) (account.Strength, error) {
	a, _, err := s.invited(ctx, invitation)
	if err != nil {
		return account.Strength{}, err
	}
	return account.StrengthOf(password, a.Principal), checkPassword(password, a.Principal)
}

func checkPassword(password, name string) error {
	if err := account.CheckPassword(password, name); err != nil {
		return problem.New(problem.Invalid, "%v", err).Field("password").Allowed(account.AllowedPasswords)
	}
	return nil
}

// Accept gives the account of an invitation its password, for whoever has the codes too, and
// returns whose it is.
func (s *Accounts) Accept(ctx context.Context, invitation, password, code string) (string, error) {
	a, codes, err := s.invited(ctx, invitation)
	if err != nil {
		return "", err
	}
	if err := cmp.Or(checkPassword(password, a.Principal), s.tries.Allow(a.Principal, time.Now())); err != nil {
		return "", err
	}
	step, ok := account.CodeStep(codes, code, a.Step, time.Now())
	if !ok {
		return "", problem.New(problem.Invalid, "this is not the code of now").Field("code").Next("take the code that the app shows at this moment; look whether the clock of its device is right")
	}
	kept, err := hashed(ctx, s, func() (string, error) { return account.Hash(password, codes), nil })
	if err != nil {
		return "", err
	}
	return a.Principal, noInvitation(s.ledger.SetPassword(ctx, a, kept, step, &catalog.Entry{Who: a.Principal, Action: "accept invitation", Address: catalog.PrincipalsPlace + "/" + a.Principal}))
}

// ErrNotIn is that somebody is not let in. It does not tell why.
var ErrNotIn = errors.New("the name, the password or the code is not right, or the code was used before")

// Enter returns the principal of a name whose account has the password and the code; else ErrNotIn.
func (s *Accounts) Enter(ctx context.Context, name, password, code string) (string, error) {
	a, _, step, err := s.prove(ctx, name, password, code)
	if err != nil {
		return "", err
	}
	err = s.ledger.TakeCode(ctx, a, step)
	if errors.Is(err, catalog.ErrStale) {
		return "", ErrNotIn
	}
	return a.Principal, part.Explain(err, "sign-in")
}

// Change gives an account another password, for whoever has the old one and the codes. All its
// sessions end.
func (s *Accounts) Change(ctx context.Context, name, password, code, next string) error {
	if err := checkPassword(next, name); err != nil {
		return err
	}
	a, codes, step, err := s.prove(ctx, name, password, code)
	if err != nil {
		return err
	}
	kept, err := hashed(ctx, s, func() (string, error) { return account.Hash(next, codes), nil })
	if err != nil {
		return err
	}
	err = s.ledger.SetPassword(ctx, a, kept, step, &catalog.Entry{Who: name, Action: "set password", Address: catalog.PrincipalsPlace + "/" + name})
	if errors.Is(err, catalog.ErrStale) {
		return ErrNotIn
	}
	return part.Explain(err, "sign-in")
}

// prove returns the account of a name that has the password and the code, with the secret of its codes. It
// takes as long whether
// there is such an account or not, and whatever is wrong.
func (s *Accounts) prove(ctx context.Context, name, password, code string) (a *ledger.Account, codes string, step int64, err error) {
	if err := s.check(); err != nil {
		return nil, "", 0, err
	}
	if setting.CheckPrincipal(name) != nil {
		name = "" // nobody's
	}
	forgive, err := s.tries.Try(name, time.Now())
	if err != nil {
		return nil, "", 0, err
	}
	a, err = s.ledger.Account(ctx, name)
	if errors.Is(err, catalog.ErrNotFound) {
		a, err = &ledger.Account{}, nil
	}
	if err != nil {
		return nil, "", 0, part.Explain(err, "sign-in")
	}
	codes = account.NewCodes()
	if a.Password != "" {
		if codes, err = s.open(a); err != nil {
			return nil, "", 0, err
		}
	}
	right, err := hashed(ctx, s, func() (bool, error) { return account.Verify(a.Password, password, codes) })
	if err != nil {
		return nil, "", 0, err
	}
	step, fits := account.CodeStep(codes, code, a.Step, time.Now())
	p := s.catalog.View().Principal(name)
	if !right || !fits || p == nil || p.Paused || p.Kind != setting.Person {
		return nil, "", 0, ErrNotIn
	}
	forgive() // who is right is not slowed down by it
	return a, codes, step, nil
}

// hashed does what costs much when there is a processor for it.
func hashed[T any](ctx context.Context, s *Accounts, do func() (T, error)) (out T, err error) {
	ctx, cancel := context.WithTimeout(ctx, hashWait)
	defer cancel()
	select {
	case s.hashing <- struct{}{}:
		defer func() { <-s.hashing }()
		return do()
	case <-ctx.Done():
		return out, problem.New(problem.Unavailable, "too many sign in at once").Next("try again in a moment")
	}
}

// Rekey seals the secrets of all accounts anew that are not sealed with the ring's first key, and returns how
// many those are, of how many.
func Rekey(ctx context.Context, records *catalog.Catalog, ring seal.Ring) (anew, all int, err error) {
	l := ledger.Of(records)
	accounts, err := l.Accounts(ctx)
	for _, a := range accounts {
		if all++; ring.Newest(a.Codes) {
			continue
		}
		codes, err := ring.Open(sealedFor(a.ID), a.Codes)
		if err != nil {
			return anew, all, fmt.Errorf("the account of %s: %w", a.Principal, err)
		}
		if err := l.SealAccount(ctx, &a, ring.Seal(sealedFor(a.ID), codes)); err != nil {
			return anew, all, err
		}
		anew++
	}
	return anew, all, err
}
