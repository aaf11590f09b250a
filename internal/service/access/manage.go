package access

import (
	"context"
	"errors"
	"slices"
	"strings"
	"time"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/part"
	"steadyferry/internal/service/change"
)

// allOf is the address of principals, roles or grants of any name, where one is to be made.
func allOf(place string) string { return place + "/*" }

// Principals lists those that whoever asks may see: itself, and whose credentials it may have in
// hand.
func (s *Service) Principals(ctx context.Context) []form.Principal {
	all := []form.Principal{}
	v := s.catalog.View()
	for _, p := range v.Principals {
		if s.MayHandle(ctx, p.Name) == nil {
			provider, _, _ := strings.Cut(p.Identity, " ")
			all = append(all, form.Principal{Name: p.Name, Kind: p.Kind, Teams: append([]string{}, p.Teams...), Brought: append([]string{}, p.Brought...), Provider: provider, Paused: p.Paused, Description: p.Description, Roles: s.rolesOf(p.Name), CreatedAt: p.CreatedAt.UTC()})
		}
	}
	slices.SortFunc(all, func(a, b form.Principal) int { return strings.Compare(a.Name, b.Name) })
	return all
}

// Grants lists what was given to whoever asks, and what it could have given.
func (s *Service) Grants(ctx context.Context) []form.Grant {
	all := []form.Grant{}
	v := s.catalog.View()
	a, _ := access.In(ctx)
	var self *catalog.Principal
	if a != nil {
		self = v.Principal(a.Who())
	}
	for _, g := range v.Grants {
		if self != nil && holds(self, g.To) || access.May(ctx, access.Access, g.On) {
			all = append(all, told(g))
		}
	}
	slices.SortFunc(all, func(a, b form.Grant) int { return strings.Compare(a.To+" "+a.On+" "+a.Role, b.To+" "+b.On+" "+b.Role) })
	return all
}

// told is a grant as it is told.
func told(g *catalog.Grant) form.Grant {
	return form.Grant{Name: g.Name, To: g.To, Role: g.Role, On: g.On, Until: g.Until, Why: g.Why, Opens: g.Opens, Second: g.Second, CreatedAt: g.CreatedAt.UTC()}
}

// NewPrincipal makes a person or a machine, which may do nothing yet.
func (s *Service) NewPrincipal(ctx context.Context, who, name string, settings setting.Change) error {
	if err := access.Check(ctx, access.Access, allOf(catalog.PrincipalsPlace)); err != nil {
		return err
	}
	if _, err := settings.CheckBounds(ctx); err != nil {
		return err
	}
	if err := setting.CheckPrincipal(name); err != nil {
		return problem.New(problem.Invalid, "%v", err).Field("name")
	}
	p := &catalog.Principal{Owned: catalog.Owned{ID: catalog.NewOwnedID(), Name: name}}
	setting.Principals.SetDefaults(&p.Principal, "")
	setting.Principals.Apply(&p.Principal, settings)
	if err := s.mayJoin(ctx, p.Teams); err != nil {
		return err
	}
	return s.made(s.catalog.NewRights(ctx, &catalog.Entry{Who: who, Action: "new " + p.Kind, Address: catalog.PrincipalsPlace + "/" + name, After: setting.Principals.Show(&p.Principal, "")}, catalog.Rights{Principals: []*catalog.Principal{p}}), name)
}

func (s *Service) made(err error, name string) error {
	if errors.Is(err, catalog.ErrExists) {
		return problem.New(problem.Conflict, "%s exists already", name).Field("name")
	}
	return part.Explain(err, name)
}

// NewGrant gives a role, or with preview only says who would gain what.
func (s *Service) NewGrant(ctx context.Context, who string, settings setting.Change, preview bool) (*form.Preview, error) {
	g := &catalog.Grant{Owned: catalog.Owned{ID: catalog.NewOwnedID(), Name: grantName()}}
	setting.Grants.SetDefaults(&g.Grant, "")
	setting.Grants.Apply(&g.Grant, settings)
	if g.To == "" {
		return nil, problem.New(problem.Invalid, "it is not said who gets it").Field("to").Allowed("the name of a principal, or team:NAME")
	}
	if g.Role == access.RoleBreakGlass {
		return nil, problem.New(problem.Invalid, "nobody gives the role %s: who may break the glass has it for a while", g.Role).Field("role").Next("a role with -opens lets break the glass")
	}
	if err := s.mayGive(ctx, g.Role, g.On); err != nil {
		return nil, err
	}
	if g.Opens {
		if err := s.mayGive(ctx, access.RoleBreakGlass, g.On); err != nil {
			return nil, err
		}
	}
	v := s.catalog.View()
	if !strings.HasPrefix(g.To, setting.TeamPrefix) && v.Principal(g.To) == nil {
		return nil, problem.New(problem.NotFound, "there is no principal %s", g.To).Field("to").Next("ferry access new person %s, or ferry access new machine %s, makes one", g.To, g.To)
	}
	one, ok := compiled(v, g)
	if !ok || !one.Until.IsZero() && !one.Until.After(time.Now()) {
		return nil, problem.New(problem.Invalid, "until is %s, which is past", g.Until).Field("until")
	}
	p := &form.Preview{Address: catalog.GrantsPlace + "/" + g.Name}
	for _, h := range s.holders(v, g.To) {
		if more := one.Verbs.Without(s.Of(h).On(one.On)); more != 0 {
			p.Effects = append(p.Effects, h+" gains "+more.String()+" on "+g.On)
		}
	}
	if g.Opens {
		p.Effects = append(p.Effects, g.To+" may have itself see what is in messages of "+g.On+" for an hour, with a reason that is told")
	}
	if dangerous := one.Verbs & access.Dangerous; g.Second && dangerous != 0 {
		p.Effects = append(p.Effects, "what is dangerous of it ("+dangerous.String()+") is done when somebody else who may do it has confirmed it")
	}
	if len(p.Effects) == 0 {
		p.Effects = []string{"nobody gains anything by it now"}
	}
	if preview {
		return p, nil
	}
	return p, s.made(s.catalog.NewRights(ctx, &catalog.Entry{Who: who, Action: "new grant", Address: catalog.PrincipalsPlace + "/" + g.To, After: setting.Grants.Show(&g.Grant, "")}, catalog.Rights{Grants: []*catalog.Grant{g}}), g.Name)
}

// holders are the principals that get what is given to a holder.
func (s *Service) holders(v *catalog.View, to string) (names []string) {
	for _, p := range v.Principals {
		if holds(p, to) {
			names = append(names, p.Name)
		}
	}
	slices.Sort(names)
	return names
}

// RemoveGrant takes a role back, or with preview only says who would lose what.
func (s *Service) RemoveGrant(ctx context.Context, who, name string, preview bool) (*form.Preview, error) {
	v := s.catalog.View()
	g := v.Grants[catalog.GrantsPlace+"/"+name]
	if g == nil || !access.May(ctx, access.Access, g.On) {
		return nil, problem.New(problem.NotFound, "there is no grant %s", name).Field("grant").Next("ferry access grants lists those that there are")
	}
	p := &form.Preview{Address: catalog.GrantsPlace + "/" + name}
	if one, ok := compiled(v, g); ok {
		for _, h := range s.holders(v, g.To) {
			rest := access.NewRights(without(given(v, h), one), time.Now())
			if less := one.Verbs.Without(rest.On(one.On)); less != 0 && h != catalog.Owner {
				p.Effects = append(p.Effects, h+" loses "+less.String()+" on "+g.On)
			}
		}
	}
	if len(p.Effects) == 0 {
		p.Effects = []string{"nobody loses anything by it now"}
	}
	if preview {
		return p, nil
	}
	return p, part.Explain(s.catalog.RemoveGrant(ctx, g.ID, &catalog.Entry{Who: who, Action: "remove grant", Address: catalog.PrincipalsPlace + "/" + g.To, Before: setting.Grants.Show(&g.Grant, "")}), name)
}

// without is grants without one of them.
func without(all []access.Grant, one access.Grant) []access.Grant {
	i := slices.IndexFunc(all, func(g access.Grant) bool {
		return g.Role == one.Role && g.Verbs == one.Verbs && g.Second == one.Second && g.On.String() == one.On.String() && g.Until.Equal(one.Until)
	})
	if i < 0 {
		return all
	}
	return slices.Delete(slices.Clone(all), i, i+1)
}

// SetPrincipal changes a principal, or with preview only says what that would do.
func (s *Service) SetPrincipal(ctx context.Context, who, name string, settings setting.Change, preview bool) (p *form.Preview, err error) {
	at := catalog.PrincipalsPlace + "/" + name
	if err := access.Check(ctx, access.Access, at); err != nil {
		return nil, err
	}
	if _, err := settings.CheckBounds(ctx); err != nil {
		return nil, err
	}
	err = change.UntilFresh(ctx, s.catalog, at, func() error {
		old := s.catalog.View().Principal(name)
		if old == nil || name == catalog.Owner {
			return problem.New(problem.NotFound, "there is no principal %s that can be changed", name).Field("principal").Next("ferry access principals lists those that there are")
		}
		is := *old
		setting.Principals.Apply(&is.Principal, settings)
		joins := slices.DeleteFunc(slices.Clone(is.Teams), func(team string) bool { return slices.Contains(old.Teams, team) })
		if err := s.mayJoin(ctx, joins); err != nil {
			return err
		}
		if p, err = change.Preview(ctx, s.catalog, at, setting.Principals, &old.Principal, &is.Principal, ""); err != nil || len(p.After) == 0 || preview {
			return err
		}
		return s.catalog.SetPrincipal(ctx, &is, &catalog.Entry{Who: who, Action: "set " + is.Kind, Address: at, Before: p.Before, After: p.After})
	})
	return p, err
}

// RemovePrincipal deletes a principal with its credentials, or with preview only says what would
// end.
func (s *Service) RemovePrincipal(ctx context.Context, who, name string, preview bool) (*form.Preview, error) {
	if err := access.Check(ctx, access.Access, catalog.PrincipalsPlace+"/"+name); err != nil {
		return nil, err
	}
	one := s.catalog.View().Principal(name)
	if one == nil || name == catalog.Owner {
		return nil, problem.New(problem.NotFound, "there is no principal %s that can be removed", name).Field("principal").Next("ferry access principals lists those that there are")
	}
	p := &form.Preview{Address: catalog.PrincipalsPlace + "/" + name,
		Effects: []string{"its tokens and sessions are refused at once, and what it was given is taken back; jobs and chores in its name stop at their next step"}}
	if preview {
		return p, nil
	}
	return p, part.Explain(s.catalog.RemovePrincipal(ctx, one, &catalog.Entry{Who: who, Action: "remove " + one.Kind, Address: p.Address, Before: setting.Principals.Show(&one.Principal, "")}), name)
}

// May explains whether a principal may do a verb at an address.
func (s *Service) May(ctx context.Context, principal string, verb access.Verb, at string) (*form.May, error) {
	if a, ok := access.In(ctx); !ok || a.Who() != principal {
		if err := access.Check(ctx, access.Access, at); err != nil {
			return nil, err
		}
	}
	v := s.catalog.View()
	out := &form.May{Principal: principal, Verb: verb.String(), Address: at, May: s.Of(principal).May(verb, at), By: []form.Grant{}}
	p := v.Principal(principal)
	if p == nil {
		return nil, problem.New(problem.NotFound, "there is no principal %s", principal).Field("principal").Next("ferry access principals lists those that there are")
	}
	for _, g := range v.Grants {
		if one, ok := compiled(v, g); ok && holds(p, g.To) && access.NewRights([]access.Grant{one}, time.Now()).May(verb, at) {
			out.By = append(out.By, told(g))
		}
	}
	switch {
	case principal == catalog.Owner:
		out.Says = "the owner may do everything"
	case out.May:
		out.Says = principal + " may " + out.Verb + " " + at + ": " + out.By[0].Role + " on " + out.By[0].On + " was given to " + out.By[0].To
		if masks := s.Of(principal).Sight(verb, at).Names(); access.Contents.Has(verb) && len(masks) > 0 {
			out.Says += "; mask " + strings.Join(masks, ", ") + " hides something of it"
		}
	default:
		out.Says = s.Named(principal).Refuse(verb, at).Error()
	}
	return out, nil
}

// WhoMay lists the principals that may do a verb at an address.
func (s *Service) WhoMay(ctx context.Context, verb access.Verb, at string) ([]string, error) {
	if err := access.Check(ctx, access.Access, at); err != nil {
		return nil, err
	}
	return who(s.catalog.View(), verb, at), nil
}
