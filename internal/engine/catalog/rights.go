package catalog

import (
	"context"
	"reflect"

	"github.com/jmoiron/sqlx"

	"steadyferry/internal/core/setting"
)

// Principal is a person or a machine, and how it is set.
type Principal struct {
	Owned
	setting.Principal `db:"-"`
}

// Role is a role, and what it lets do.
type Role struct {
	Owned
	setting.Role `db:"-"`
}

// Grant is a role that is given to somebody.
type Grant struct {
	Owned
	setting.Grant `db:"-"`
}

func (p *Principal) settings() any { return &p.Principal }
func (r *Role) settings() any      { return &r.Role }
func (g *Grant) settings() any     { return &g.Grant }

// Where principals, roles and grants are named in the place of a space.
const (
	PrincipalsPlace = "principals"
	RolesPlace      = "roles"
	GrantsPlace     = "grants"
)

var (
	principalsTable = ownedTable(PrincipalsPlace, PrincipalsPlace, func(v *View) (*map[string]*Principal, *map[int64]*Principal) { return &v.Principals, &v.principals })
	rolesTable      = ownedTable(RolesPlace, RolesPlace, func(v *View) (*map[string]*Role, *map[int64]*Role) { return &v.Roles, &v.roles })
	grantsTable     = ownedTable(GrantsPlace, GrantsPlace, func(v *View) (*map[string]*Grant, *map[int64]*Grant) { return &v.Grants, &v.grants })
)

// NewRights records principals, roles and grants together.
func (c *Catalog) NewRights(ctx context.Context, e *Entry, principals []*Principal, roles []*Role, grants []*Grant) error {
	return c.Change(ctx, e, func(ctx context.Context, tx *sqlx.Tx) error {
		if err := insertOwned(ctx, tx, PrincipalsPlace, principals...); err != nil {
			return err
		}
		if err := insertOwned(ctx, tx, RolesPlace, roles...); err != nil {
			return err
		}
		return insertOwned(ctx, tx, GrantsPlace, grants...)
	})
}

// SetPrincipal changes a principal, which must be of the revision that it was made from (else
// ErrStale).
func (c *Catalog) SetPrincipal(ctx context.Context, p *Principal, e *Entry) error {
	return c.Change(ctx, e, func(ctx context.Context, tx *sqlx.Tx) error { return setOwned(ctx, tx, PrincipalsPlace, p) })
}

// RemovePrincipal deletes a principal, with what it has got and its secrets.
func (c *Catalog) RemovePrincipal(ctx context.Context, p *Principal, e *Entry) error {
	return c.Change(ctx, e, func(ctx context.Context, tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `DELETE FROM grants WHERE settings ->> 'to' = $1`, p.Name); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `DELETE FROM principals WHERE id = $1`, p.ID)
		return err
	})
}

// RemoveRole deletes a role that nobody has; ErrExists when somebody has got it meanwhile.
func (c *Catalog) RemoveRole(ctx context.Context, r *Role, e *Entry) error {
	return c.Change(ctx, e, func(ctx context.Context, tx *sqlx.Tx) error {
		return Fenced(ctx, tx, ErrExists, `DELETE FROM roles WHERE id = $1 AND NOT EXISTS (SELECT 1 FROM grants WHERE settings ->> 'role' = $2)`, r.ID, r.Name)
	})
}

// RemoveGrant takes a role from who has got it.
func (c *Catalog) RemoveGrant(ctx context.Context, id int64, e *Entry) error {
	return c.removeOwned(ctx, GrantsPlace, id, e)
}

// Principal returns the principal of a name, or nil.
func (v *View) Principal(name string) *Principal { return v.Principals[PrincipalsPlace+"/"+name] }

// SameRights reports whether principals, roles and grants are the same in another view.
func (v *View) SameRights(other *View) bool {
	return same(v.Principals, other.Principals) && same(v.Roles, other.Roles) && same(v.Grants, other.Grants)
}

// same reports whether two maps are one: a view that changes one has another.
func same[T any](a, b map[string]T) bool {
	return reflect.ValueOf(a).Pointer() == reflect.ValueOf(b).Pointer()
}
