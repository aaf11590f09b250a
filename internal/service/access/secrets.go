package access

import (
	"context"
	"errors"
	"slices"
	"strings"
	"time"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/part"
)

// MayHandle says why whoever asks may not have the credentials of a principal in hand: one's own
// one may, and those of whoever may do no more than one could have given; of people it takes the
// verb access on them too.
func (s *Service) MayHandle(ctx context.Context, principal string) error {
	a, ok := access.In(ctx)
	if ok && a.Who() == principal {
		return nil
	}
	at := catalog.PrincipalsPlace + "/" + principal
	v := s.catalog.View()
	p := v.Principal(principal)
	if p == nil || p.Kind != setting.Machine {
		if err := access.Check(ctx, access.Access, at); err != nil {
			return err
		}
	}
	if principal == catalog.Owner {
		return s.mayGive(ctx, access.RoleOwner, "*")
	}
	if p == nil {
		return nil
	}
	return s.mayGiveAll(ctx, func(to string) bool { return holds(p, to) })
}

// mayGiveAll says why whoever asks could not have given all that some holders were given.
func (s *Service) mayGiveAll(ctx context.Context, of func(to string) bool) error {
	for _, g := range s.catalog.View().Grants {
		if !of(g.To) {
			continue
		}
		if _, known := roleNamed(s.catalog.View(), g.Role); !known {
			continue // it gives nothing
		}
		if err := s.mayGive(ctx, g.Role, g.On); err != nil {
			return err
		}
	}
	return nil
}

// mayJoin says why whoever asks may not put somebody into teams: what those were given is given
// with it.
func (s *Service) mayJoin(ctx context.Context, teams []string) error {
	return s.mayGiveAll(ctx, func(to string) bool {
		team, is := strings.CutPrefix(to, setting.TeamPrefix)
		return is && slices.Contains(teams, team)
	})
}

// mayHold says why whoever asks may not get a secret that is good for all that a principal may:
// what that is may grow.
func (s *Service) mayHold(ctx context.Context, t catalog.Secret) error {
	if a, ok := access.In(ctx); t.Role != "" || ok && a.Who() == t.Principal {
		return nil
	}
	return access.Check(ctx, access.Access, catalog.PrincipalsPlace+"/"+t.Principal)
}

// mayGive says why whoever asks may not give a role on what a pattern covers: it takes the verb
// access there, each verb of the role, and to see the whole of messages if the role shows them.
func (s *Service) mayGive(ctx context.Context, role, on string) error {
	r, known := roleNamed(s.catalog.View(), role)
	if !known {
		return s.noRole(role)
	}
	return s.mayGiveVerbs(ctx, role, r.Verbs, on)
}

func (s *Service) mayGiveVerbs(ctx context.Context, role string, verbs access.Set, on string) error {
	p, err := address.ParsePattern(on)
	if err != nil {
		return problem.New(problem.Invalid, "%v", err).Field("on")
	}
	a, ok := access.In(ctx)
	if !ok {
		return access.Check(ctx, access.Access, on)
	}
	if err := access.CheckOn(ctx, access.Access, p); err != nil {
		return err
	}
	if more := verbs.Without(a.Rights().On(p)); more != 0 {
		return problem.New(problem.Refused, "%s may not give the role %s on %s: it lets do what %s may not do there itself (%s)", a.Who(), role, on, a.Who(), more)
	}
	// What one does with a second person one gives with one too, or one could give it to oneself.
	for _, v := range (verbs & access.Dangerous).Verbs() {
		if err := access.CheckOn(ctx, v, p); err != nil {
			return err
		}
	}
	if verbs.Without(access.Contents) != verbs {
		return unmasked(a, p, on)
	}
	return nil
}

func (s *Service) noRole(name string) error {
	all := []string{}
	for _, r := range access.BuiltIn {
		all = append(all, r.Name)
	}
	for _, r := range s.catalog.View().Roles {
		all = append(all, r.Name)
	}
	slices.Sort(all)
	p := problem.New(problem.NotFound, "there is no role %s", name).Field("role").Next("ferry access roles lists them")
	if near := address.Nearest(name, all); near != "" {
		p = p.Next("did you mean %s? ferry access roles lists them", near)
	}
	return p
}

// Secrets describes the tokens, sessions and links that whoever asks may have in hand.
func (s *Service) Secrets(ctx context.Context) ([]catalog.Secret, error) {
	all, err := s.catalog.Secrets(ctx)
	return slices.DeleteFunc(all, func(one catalog.Secret) bool { return s.MayHandle(ctx, one.Principal) != nil }), part.Explain(err, "access")
}

// secret returns one that whoever asks may have in hand.
func (s *Service) secret(ctx context.Context, id string) (catalog.Secret, error) {
	one, err := s.catalog.Secret(ctx, id)
	if err == nil && s.MayHandle(ctx, one.Principal) != nil {
		err = catalog.ErrNotFound // of what is somebody else's it is not told whether it is there
	}
	if errors.Is(err, catalog.ErrNotFound) {
		return one, problem.New(problem.NotFound, "nothing in force has the id %q", id).Field("secret").Next("ferry access lists what is")
	}
	return one, part.Explain(err, "access")
}

// NewToken makes a token, which is told here alone. For a principal that is not there a machine
// is made, with the role of the token on its pattern.
func (s *Service) NewToken(ctx context.Context, who string, t catalog.Secret, lives time.Duration) (string, error) {
	if (t.Role == "") != (t.Pattern == "") {
		return "", problem.New(problem.Invalid, "a token is for a role on a pattern, or for all that %s may", t.Principal).Field("role").Allowed("both role and on, or none of them")
	}
	if err := s.makeMachine(ctx, who, t); err != nil {
		return "", err
	}
	if err := s.MayHandle(ctx, t.Principal); err != nil {
		return "", err
	}
	if err := s.mayHold(ctx, t); err != nil {
		return "", err
	}
	t.Kind = catalog.Token
	if a, ok := access.In(ctx); ok && a.Who() == t.Principal && t.Role == "" {
		// A token that is good for less makes none that is good for more.
		if own, is := a.(*asker); is {
			t.Role, t.Pattern = own.by.role, own.by.pattern
		}
	} else if t.Role != "" {
		if err := s.fits(ctx, t); err != nil {
			return "", err
		}
	}
	text, err := s.catalog.NewSecret(ctx, t, lives, &catalog.Entry{Who: who, Action: "new token", Address: t.Principal,
		After: map[string]any{"label": t.Label, "expires": address.FormatDuration(lives), "role": t.Role, "on": t.Pattern}})
	if errors.Is(err, catalog.ErrNotFound) {
		return "", problem.New(problem.NotFound, "there is no principal %s", t.Principal).Field("principal").Next("with a role and a pattern a machine of that name is made")
	}
	return text, part.Explain(err, "access")
}

// fits says why a token of a principal cannot be for a role on a pattern.
func (s *Service) fits(ctx context.Context, t catalog.Secret) error {
	on, err := address.ParsePattern(t.Pattern)
	if err != nil {
		return problem.New(problem.Invalid, "%v", err).Field("on")
	}
	role, known := roleNamed(s.catalog.View(), t.Role)
	if !known {
		return s.noRole(t.Role)
	}
	rights := s.Of(t.Principal)
	if a, ok := access.In(ctx); ok && a.Who() == t.Principal {
		rights = a.Rights()
	}
	if more := role.Verbs.Without(rights.On(on)); more != 0 {
		return problem.New(problem.Conflict, "%s may not %s on %s itself", t.Principal, more, t.Pattern).Field("role").Next("a token is never good for more than its principal: ferry access new grant %s -role %s -on %s", t.Principal, t.Role, t.Pattern)
	}
	return nil
}

// makeMachine makes the machine that a token is for, if nothing of the name is there.
func (s *Service) makeMachine(ctx context.Context, who string, t catalog.Secret) error {
	if t.Role == "" || s.catalog.View().Principal(t.Principal) != nil {
		return nil
	}
	if err := setting.CheckPrincipal(t.Principal); err != nil {
		return problem.New(problem.Invalid, "%v", err).Field("principal")
	}
	if err := s.mayGive(ctx, t.Role, t.Pattern); err != nil {
		return err
	}
	m := &catalog.Principal{Owned: catalog.Owned{ID: catalog.NewOwnedID(), Name: t.Principal}, Principal: setting.Principal{Kind: setting.Machine}}
	g := &catalog.Grant{Owned: catalog.Owned{ID: catalog.NewOwnedID(), Name: grantName()}, Grant: setting.Grant{To: t.Principal, Role: t.Role, On: t.Pattern}}
	err := s.catalog.NewRights(ctx, &catalog.Entry{Who: who, Action: "new machine", Address: catalog.PrincipalsPlace + "/" + t.Principal, After: map[string]any{"role": t.Role, "on": t.Pattern}}, catalog.Rights{Principals: []*catalog.Principal{m}, Grants: []*catalog.Grant{g}})
	if errors.Is(err, catalog.ErrExists) {
		return nil // somebody was quicker
	}
	return part.Explain(err, "access")
}

// Rotate makes another token in the place of one.
func (s *Service) Rotate(ctx context.Context, who, id string) (string, error) {
	one, err := s.secret(ctx, id)
	if err != nil {
		return "", err
	}
	if one.Kind != catalog.Token {
		return "", problem.New(problem.Invalid, "it is a %s", one.Kind).Field("secret").Allowed("a token; a session or a link is revoked")
	}
	if err := s.mayHold(ctx, one); err != nil {
		return "", err
	}
	text, err := s.catalog.Rotate(ctx, one, &catalog.Entry{Who: who, Action: "rotate token", Address: one.Principal, Before: map[string]any{"id": one.ID, "label": one.Label}})
	return text, part.Explain(err, "access")
}

// Revoke ends a token, a session or a link.
func (s *Service) Revoke(ctx context.Context, who, id string) error {
	one, err := s.secret(ctx, id)
	if err != nil {
		return err
	}
	err = s.catalog.Revoke(ctx, one.ID, &catalog.Entry{Who: who, Action: "revoke " + one.Kind, Address: one.Principal, Before: map[string]any{"id": one.ID, "label": one.Label}})
	if errors.Is(err, catalog.ErrNotFound) {
		return nil // somebody was quicker
	}
	return part.Explain(err, "access")
}

// RevokeAll ends all secrets of a kind, of everybody, but the one with the id.
func (s *Service) RevokeAll(ctx context.Context, who, kind, but string) (int64, error) {
	if err := access.Check(ctx, access.Access, catalog.PrincipalsPlace+"/*"); err != nil {
		return 0, err
	}
	n, err := s.catalog.RevokeAll(ctx, kind, but, &catalog.Entry{Who: who, Action: "revoke every " + kind, Address: who})
	return n, part.Explain(err, "access")
}
