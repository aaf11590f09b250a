package access

import (
	"cmp"
	"crypto/rand"
	"fmt"
	"slices"
	"strings"
	"time"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/engine/catalog"
)

// holds reports whether what is given to a holder is given to the principal.
func holds(p *catalog.Principal, to string) bool {
	team, isTeam := strings.CutPrefix(to, setting.TeamPrefix)
	return to == p.Name || isTeam && (slices.Contains(p.Teams, team) || slices.Contains(p.Brought, team))
}

// roleNamed returns a role, built in or not.
func roleNamed(v *catalog.View, name string) (access.Role, bool) {
	for _, r := range access.BuiltIn {
		if r.Name == name {
			return r, true
		}
	}
	r := v.Roles[catalog.RolesPlace+"/"+name]
	if r == nil {
		return access.Role{}, false
	}
	verbs, err := access.ParseSet(r.Verbs)
	return access.Role{Name: name, Says: r.Description, Verbs: verbs}, err == nil
}

// compiled is what a grant gives; ok is false when it gives nothing.
func compiled(v *catalog.View, g *catalog.Grant) (one access.Grant, ok bool) {
	role, ok := roleNamed(v, g.Role)
	on, err := address.ParsePattern(g.On)
	if !ok || err != nil {
		return one, false
	}
	one = access.Grant{Verbs: role.Verbs, On: on, Role: role.Name, Second: g.Second}
	if g.Until != "" {
		if one.Until, err = time.Parse(time.RFC3339, g.Until); err != nil {
			return one, false
		}
	}
	return one, true
}

// mostNamed is how many roles and people a refusal names.
const mostNamed = 4

// Refuse says why the verb is not allowed at the address: which roles would allow it, and who
// can give one.
func (a *asker) Refuse(v access.Verb, at string) error {
	return &access.RefusedError{Verb: v, At: at, Err: a.why(v, at)}
}

// Second says that something waits for somebody else who may do it too, unless one has confirmed it.
func (a *asker) Second(v access.Verb, at string) error {
	if a.looks {
		return nil
	}
	if a.with != "" && a.with != a.by.principal {
		with := a.s.Of(a.with)
		p, err := address.ParsePattern(at)
		if with.May(v, at) || err == nil && with.On(p).Has(v) {
			return nil
		}
		return &access.RefusedError{Verb: v, At: at, Err: problem.New(problem.Refused, "%s, who has confirmed it, may not %s %s", a.with, v, at)}
	}
	others := slices.DeleteFunc(who(a.s.catalog.View(), v, at), func(name string) bool { return name == a.by.principal })
	return &access.SecondError{Verb: v, At: at, Err: problem.New(problem.Second, "%s may %s %s with a second person alone", a.by.principal, v, at).Next("%s can confirm it", some(others))}
}

func (a *asker) why(v access.Verb, at string) *problem.Problem {
	view := a.s.catalog.View()
	p := problem.New(problem.Refused, "%s may not %s %s", a.by.principal, v, at)
	if principal := view.Principal(a.by.principal); principal != nil && principal.Paused {
		return p.Next("%s is shut out; %s can let it in", principal.Name, some(who(view, access.Access, "principals/"+principal.Name)))
	}
	if a.by.role != "" && a.s.Of(a.by.principal).May(v, at) {
		return p.Next("this token is for the role %s on %s alone; use another one of %s", a.by.role, a.by.pattern, a.by.principal)
	}
	if v == access.SeeContent && a.by.role == "" && lets(a.s.MayBreakGlass(a.by.principal), at) {
		return p.Next("for an hour, and with a reason that is told, you may: ferry access break-glass %s -why TEXT", at)
	}
	return p.Next("%s lets do that (%s); %s can give it: ferry access new grant %s -role ROLE -on %s", some(roles(view, v)), v.Says(), some(who(view, access.Access, at)), a.by.principal, at)
}

// roles are the names of those that let do a verb, the ones that let do least first.
func roles(v *catalog.View, verb access.Verb) (names []string) {
	all := slices.DeleteFunc(slices.Clone(access.BuiltIn), func(r access.Role) bool { return r.Name == access.RoleBreakGlass })
	for _, r := range v.Roles {
		if role, ok := roleNamed(v, r.Name); ok {
			all = append(all, role)
		}
	}
	slices.SortFunc(all, func(a, b access.Role) int {
		return cmp.Or(len(a.Verbs.Verbs())-len(b.Verbs.Verbs()), cmp.Compare(a.Name, b.Name))
	})
	for _, r := range all {
		if r.Verbs.Has(verb) {
			names = append(names, "role "+r.Name)
		}
	}
	return names
}

// who are the names of the principals that may do a verb at an address, the owner last. It looks
// at grants alone: a refusal must not cost what all rights of everybody do.
func who(v *catalog.View, verb access.Verb, at string) (names []string) {
	var to []string
	for _, g := range v.Grants {
		if one, ok := compiled(v, g); ok && access.NewRights([]access.Grant{one}, time.Now()).May(verb, at) {
			to = append(to, g.To)
		}
	}
	for _, p := range v.Principals {
		if p.Name != catalog.Owner && !p.Paused && slices.ContainsFunc(to, func(h string) bool { return holds(p, h) }) {
			names = append(names, p.Name)
		}
	}
	slices.Sort(names)
	return append(names, catalog.Owner)
}

// some names a few of many.
func some(names []string) string {
	if len(names) > mostNamed {
		return fmt.Sprintf("%s or %d others", strings.Join(names[:mostNamed], ", "), len(names)-mostNamed)
	}
	if len(names) < 2 {
		return strings.Join(names, "")
	}
	return strings.Join(names[:len(names)-1], ", ") + " or " + names[len(names)-1]
}

// RolesOf tells which roles somebody who came with a secret has on what: ROLE on PATTERN each.
func (s *Service) RolesOf(a catalog.Asker) []string {
	by := a.By()
	if by.Role != "" {
		return []string{by.Role + " on " + by.Pattern}
	}
	return s.rolesOf(a.Name)
}

func (s *Service) rolesOf(name string) []string {
	v, all := s.catalog.View(), []string{}
	if name == catalog.Owner {
		all = append(all, access.RoleOwner+" on *")
	}
	if p := v.Principal(name); p != nil {
		for _, g := range v.Grants {
			if holds(p, g.To) {
				all = append(all, g.Role+" on "+g.On)
			}
		}
	}
	slices.Sort(all)
	return all
}

// grantName is the name of a new grant, which people choose no names for.
func grantName() string { return "g-" + strings.ToLower(rand.Text()[:10]) }
