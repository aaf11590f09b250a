package access

import (
	"context"
	"errors"
	"slices"
	"strings"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/part"
	"steadyferry/internal/service/change"
)

// Roles lists the roles, those that are built in first.
func (s *Service) Roles() (all []form.Role) {
	for _, r := range access.BuiltIn {
		all = append(all, form.Role{Name: r.Name, Verbs: r.Verbs.Names(), Description: r.Says, BuiltIn: true})
	}
	own := len(all)
	for _, r := range s.catalog.View().Roles {
		all = append(all, form.Role{Name: r.Name, Verbs: r.Verbs, Description: r.Description})
	}
	slices.SortFunc(all[own:], func(a, b form.Role) int { return strings.Compare(a.Name, b.Name) })
	return all
}

// NewRole makes a role, which nobody has yet.
func (s *Service) NewRole(ctx context.Context, who, name string, settings setting.Change) error {
	if err := access.Check(ctx, access.Access, allOf(catalog.RolesPlace)); err != nil {
		return err
	}
	r, err := s.newRole(name, settings)
	if err != nil {
		return err
	}
	return s.made(s.catalog.NewRights(ctx, &catalog.Entry{Who: who, Action: "new role", Address: catalog.RolesPlace + "/" + name, After: setting.Roles.Show(&r.Role, "")}, catalog.Rights{Roles: []*catalog.Role{r}}), name)
}

// newRole is a role that is to be made, or why there can be none.
func (s *Service) newRole(name string, settings setting.Change) (*catalog.Role, error) {
	if err := address.CheckName(name); err != nil {
		return nil, problem.New(problem.Invalid, "%v", err).Field("name")
	}
	if _, there := roleNamed(s.catalog.View(), name); there {
		return nil, s.made(catalog.ErrExists, name)
	}
	r := &catalog.Role{Owned: catalog.Owned{ID: catalog.NewOwnedID(), Name: name}}
	setting.Roles.SetDefaults(&r.Role, "")
	setting.Roles.Apply(&r.Role, settings)
	if len(r.Verbs) == 0 {
		return nil, problem.New(problem.Invalid, "a role that lets do nothing").Field("verbs").Allowed(access.Everything.String())
	}
	return r, nil
}

// CheckDeclared says why a role or a mask cannot be made; made reports which roles are made before.
func (s *Service) CheckDeclared(kind, name string, settings setting.Change, made func(role string) bool) error {
	if kind == setting.ARole {
		_, err := s.newRole(name, settings)
		return err
	}
	_, err := s.newMask(name, settings, made)
	return err
}

// SetRole changes what a role lets do, or with preview only says who gains and loses what. It
// takes of each who has it what giving it anew would take.
func (s *Service) SetRole(ctx context.Context, who, name string, settings setting.Change, preview bool) (p *form.Preview, err error) {
	at := catalog.RolesPlace + "/" + name
	if err := access.Check(ctx, access.Access, at); err != nil {
		return nil, err
	}
	err = change.UntilFresh(ctx, s.catalog, at, func() error {
		v := s.catalog.View()
		old := v.Roles[at]
		if old == nil {
			return s.noOwnRole(v, name)
		}
		is := *old
		setting.Roles.Apply(&is.Role, settings)
		was, err := access.ParseSet(old.Verbs)
		if err != nil {
			return err
		}
		now, err := access.ParseSet(is.Verbs)
		if err != nil {
			return err
		}
		if now == 0 {
			return problem.New(problem.Invalid, "a role that lets do nothing").Field("verbs").Allowed(access.Everything.String())
		}
		if p, err = change.Preview(ctx, s.catalog, at, setting.Roles, &old.Role, &is.Role, ""); err != nil || len(p.After) == 0 {
			return err
		}
		for _, g := range v.Grants {
			if g.Role != name {
				continue
			}
			if more := now.Without(was); more != 0 {
				if err := s.mayGiveVerbs(ctx, name, more, g.On); err != nil {
					return err
				}
				p.Effects = append(p.Effects, g.To+" gains "+more.String()+" on "+g.On)
			}
			if less := was.Without(now); less != 0 {
				p.Effects = append(p.Effects, g.To+" loses "+less.String()+" on "+g.On)
			}
		}
		slices.Sort(p.Effects)
		if preview {
			return nil
		}
		return s.catalog.SetRole(ctx, &is, &catalog.Entry{Who: who, Action: "set role", Address: at, Before: p.Before, After: p.After})
	})
	return p, err
}

// RemoveRole deletes a role that nobody has.
func (s *Service) RemoveRole(ctx context.Context, who, name string) error {
	if err := access.Check(ctx, access.Access, catalog.RolesPlace+"/"+name); err != nil {
		return err
	}
	r := s.catalog.View().Roles[catalog.RolesPlace+"/"+name]
	if r == nil {
		return s.noOwnRole(s.catalog.View(), name)
	}
	err := s.catalog.RemoveRole(ctx, r, &catalog.Entry{Who: who, Action: "remove role", Address: catalog.RolesPlace + "/" + name, Before: setting.Roles.Show(&r.Role, "")})
	if errors.Is(err, catalog.ErrExists) {
		return problem.New(problem.Conflict, "the role %s is given to somebody", name).Field("role").Next("ferry access grants tells to whom: take it back first")
	}
	return part.Explain(err, name)
}

// noOwnRole says that a role is not there, or is one that stays as it is.
func (s *Service) noOwnRole(v *catalog.View, name string) error {
	if _, builtIn := roleNamed(v, name); builtIn {
		return problem.New(problem.Conflict, "the role %s is built in, and stays as it is", name).Field("role")
	}
	return s.noRole(name)
}
