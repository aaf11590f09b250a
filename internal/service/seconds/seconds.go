// Package seconds keeps what was asked for and takes a second person: the grant of whoever asked says
// so (core/access: Second). Somebody else who may do it too sees what it would do, and confirms or
// declines it within an hour. It is then done in the name of whoever asked, with the rights of both at
// that moment. How it is done once more is its door's: here is who may decide, once, and what came of
// it. It may be used by many at once.
package seconds

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/ledger"
	"steadyferry/internal/engine/part"
)

// Bounds.
const (
	Patience   = time.Hour // in which somebody has to confirm it
	MaxBody    = 64 << 10  // bytes of what is asked for
	mostOfOne  = 20        // that wait of one principal
	mostListed = 500
)

// Seconds is the service.
type Seconds struct {
	catalog *catalog.Catalog
	ledger  ledger.Ledger
}

// New returns the service.
func New(records *catalog.Catalog) *Seconds {
	return &Seconds{catalog: records, ledger: ledger.Of(records)}
}

// Ask has something wait for a second person that was refused for want of one, and returns the
// problem that says so.
func (s *Seconds) Ask(ctx context.Context, refused *access.SecondError, asked ledger.Second) error {
	a, ok := access.In(ctx)
	if !ok {
		return refused
	}
	asked.Who, asked.Pass, asked.Verb, asked.Address, asked.Until = a.Who(), a.Pass(), refused.Verb.String(), refused.At, time.Now().Add(Patience).UTC()
	id, until, err := s.ledger.AskSecond(ctx, asked, mostOfOne, &catalog.Entry{Who: a.Who(), Action: "ask for a second person", Address: refused.At, After: map[string]any{"verb": asked.Verb, "asked": asked.Says}})
	if errors.Is(err, ledger.ErrTooMany) {
		return problem.New(problem.TooFast, "%d things of %s wait for a second person, and no more can", mostOfOne, a.Who()).Next("have some confirmed or declined first: ferry access waiting lists them")
	}
	if err != nil {
		return part.Explain(err, refused.At)
	}
	var p *problem.Problem
	if errors.As(refused, &p) {
		told := *p
		told.Then = fmt.Sprintf("%s: ferry access confirm %d, until %s; nothing is done before", p.Then, id, until.Format("15:04 MST"))
		return &told
	}
	return refused
}

// List is what waits, and what was decided in the last days, of what whoever asks has asked for or could
// have confirmed.
func (s *Seconds) List(ctx context.Context) ([]form.Second, error) {
	all, err := s.ledger.Seconds(ctx, mostListed)
	out := []form.Second{}
	for _, one := range all {
		if s.sees(ctx, &one) {
			out = append(out, s.Told(ctx, &one))
		}
	}
	return out, part.Explain(err, "access")
}

// Told is one as whoever asks is told of it.
func (s *Seconds) Told(ctx context.Context, one *ledger.Second) form.Second {
	f := form.Second{ID: one.ID, Who: one.Who, Verb: one.Verb, Address: one.Address, Says: one.Says, AskedAt: one.AskedAt.UTC(), Until: one.Until.UTC(), State: one.State, DecidedBy: one.DecidedBy, Outcome: one.Outcome}
	f.Mine = one.State == ledger.SecondWaits && s.mayDecide(ctx, one) == nil
	return f
}

// sees reports whether whoever asks may know of one.
func (s *Seconds) sees(ctx context.Context, one *ledger.Second) bool {
	a, ok := access.In(ctx)
	return ok && (a.Who() == one.Who || s.may(ctx, one))
}

// may reports whether whoever asks may do it too, be it with a second person.
func (s *Seconds) may(ctx context.Context, one *ledger.Second) bool {
	a, ok := access.In(ctx)
	v, err := access.ParseVerb(one.Verb)
	if !ok || err != nil {
		return false
	}
	p, err := address.ParsePattern(one.Address)
	return a.Rights().May(v, one.Address) || err == nil && a.Rights().On(p).Has(v)
}

// mayDecide says why whoever asks cannot be the second person.
func (s *Seconds) mayDecide(ctx context.Context, one *ledger.Second) error {
	a, ok := access.In(ctx)
	if !ok || !s.sees(ctx, one) {
		return notThere(one.ID)
	}
	p := s.catalog.View().Principal(a.Who())
	switch {
	case a.Who() == one.Who:
		return problem.New(problem.Refused, "%s has asked for it, and cannot be the second person too", a.Who())
	case p == nil || p.Kind != setting.Person:
		return problem.New(problem.Refused, "%s is no person", a.Who()).Next("somebody who may %s %s confirms it", one.Verb, one.Address)
	}
	return nil
}

func notThere(id int64) error {
	return problem.New(problem.NotFound, "nothing waits for a second person with the number %d", id).Field("second").Next("ferry access waiting lists what does")
}

// Show returns one to whoever can be its second person, or has asked for it.
func (s *Seconds) Show(ctx context.Context, id int64) (*ledger.Second, error) {
	one, err := s.ledger.Second(ctx, id)
	if errors.Is(err, catalog.ErrNotFound) || err == nil && !s.sees(ctx, one) {
		return nil, notThere(id)
	}
	return one, part.Explain(err, "access")
}

func (s *Seconds) decided(one *ledger.Second) error {
	if one.State == ledger.SecondOver {
		return problem.New(problem.Conflict, "nobody has confirmed it until %s", one.Until.UTC().Format("15:04 MST")).Next("%s asks for it again", one.Who)
	}
	return problem.New(problem.Conflict, "it does not wait any more: %s, by %s", one.State, one.DecidedBy)
}

// Confirm takes one up as its second person: whoever gets it does it, once.
func (s *Seconds) Confirm(ctx context.Context, id int64) (*ledger.Second, error) {
	return s.decide(ctx, id, ledger.SecondBegun, "confirm", func(one *ledger.Second) error { return s.mayDecide(ctx, one) })
}

// Decline ends one that waits: as its second person, or as who has asked for it.
func (s *Seconds) Decline(ctx context.Context, id int64) error {
	_, err := s.decide(ctx, id, ledger.SecondDeclined, "decline", func(one *ledger.Second) error {
		if a, ok := access.In(ctx); ok && a.Who() == one.Who {
			return nil
		}
		return s.mayDecide(ctx, one)
	})
	return err
}

func (s *Seconds) decide(ctx context.Context, id int64, state, action string, may func(one *ledger.Second) error) (*ledger.Second, error) {
	one, err := s.Show(ctx, id)
	if err != nil {
		return nil, err
	}
	if one.State != ledger.SecondWaits {
		return nil, s.decided(one)
	}
	if err := may(one); err != nil {
		return nil, err
	}
	a, _ := access.In(ctx)
	err = s.ledger.DecideSecond(ctx, id, state, a.Who(), &catalog.Entry{Who: a.Who(), Action: action, Address: one.Address, After: map[string]any{"asked by": one.Who, "verb": one.Verb, "asked": one.Says}})
	if errors.Is(err, catalog.ErrStale) {
		if now, err := s.ledger.Second(ctx, id); err == nil {
			return nil, s.decided(now)
		}
	}
	return one, part.Explain(err, "access")
}

// End records what came of one that was confirmed; failed is why it was not done, empty: it was.
func (s *Seconds) End(ctx context.Context, id int64, failed string) error {
	state := ledger.SecondDone
	if failed != "" {
		state = ledger.SecondFailed
	}
	// Whoever has confirmed it may have gone meanwhile.
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
	defer cancel()
	return s.ledger.EndSecond(ctx, id, state, failed)
}

// Scope is what the token was for with which one was asked for.
func Scope(one *ledger.Second) catalog.Secret {
	parts := append(strings.Split(one.Pass, "\t"), "", "", "")
	return catalog.Secret{Principal: one.Who, Kind: catalog.Confirmation, Role: parts[1], Pattern: parts[2], ExpiresAt: one.Until.Add(Patience)}
}
