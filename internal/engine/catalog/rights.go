package catalog

import (
	"cmp"
	"context"
	"reflect"

	"github.com/jmoiron/sqlx"

	"steadyferry/internal/core/setting"
)

// Principal is a person or a machine, and how it is set.
type Principal struct {
	Owned
	Number            uint32 `db:"number"` // it stands with what was published, and is never another's
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

// Mask is fields of messages that are hidden from some roles.
type Mask struct {
	Owned
	setting.Mask `db:"-"`
}

func (p *Principal) settings() any { return &p.Principal }
func (r *Role) settings() any      { return &r.Role }
func (g *Grant) settings() any     { return &g.Grant }
func (m *Mask) settings() any      { return &m.Mask }

// Where principals, roles, grants and masks are named in the place of a space.
const (
	PrincipalsPlace = "principals"
	RolesPlace      = "roles"
	GrantsPlace     = "grants"
	MasksPlace      = "masks"
)

var (
	principalsTable = ownedTable(PrincipalsPlace, PrincipalsPlace, func(v *View) (*map[string]*Principal, *map[int64]*Principal) { return &v.Principals, &v.principals })
	rolesTable      = ownedTable(RolesPlace, RolesPlace, func(v *View) (*map[string]*Role, *map[int64]*Role) { return &v.Roles, &v.roles })
	grantsTable     = ownedTable(GrantsPlace, GrantsPlace, func(v *View) (*map[string]*Grant, *map[int64]*Grant) { return &v.Grants, &v.grants })
	masksTable      = ownedTable(MasksPlace, MasksPlace, func(v *View) (*map[string]*Mask, *map[int64]*Mask) { return &v.Masks, &v.masks })
)

// Rights are what decides who may do what, and sees what.
type Rights struct {
	Principals []*Principal
	Roles      []*Role
	Grants     []*Grant
	Masks      []*Mask
}

// NewRights records what decides who may do what, together.
func (c *Catalog) NewRights(ctx context.Context, e *Entry, r Rights) error {
	return c.Change(ctx, e, func(ctx context.Context, tx *sqlx.Tx) error {
		return cmp.Or(insertOwned(ctx, tx, PrincipalsPlace, r.Principals...), insertOwned(ctx, tx, RolesPlace, r.Roles...),
			insertOwned(ctx, tx, GrantsPlace, r.Grants...), insertOwned(ctx, tx, MasksPlace, r.Masks...))
	})
}

// SetPrincipal changes a principal, which must be of the revision that it was made from (else
// ErrStale).
func (c *Catalog) SetPrincipal(ctx context.Context, p *Principal, e *Entry) error {
	return c.Change(ctx, e, func(ctx context.Context, tx *sqlx.Tx) error { return setOwned(ctx, tx, PrincipalsPlace, p) })
}

// SetRole changes a role, which must be of the revision that it was made from (else ErrStale).
func (c *Catalog) SetRole(ctx context.Context, r *Role, e *Entry) error {
	return c.Change(ctx, e, func(ctx context.Context, tx *sqlx.Tx) error { return setOwned(ctx, tx, RolesPlace, r) })
}

// SetMask changes a mask, which must be of the revision that it was made from (else ErrStale).
func (c *Catalog) SetMask(ctx context.Context, m *Mask, e *Entry) error {
	return c.Change(ctx, e, func(ctx context.Context, tx *sqlx.Tx) error { return setOwned(ctx, tx, MasksPlace, m) })
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

// RemoveMask deletes a mask: what it hid is seen again.
func (c *Catalog) RemoveMask(ctx context.Context, id int64, e *Entry) error {
	return c.removeOwned(ctx, MasksPlace, id, e)
}

// Principal returns the principal of a name, or nil.
func (v *View) Principal(name string) *Principal { return v.Principals[PrincipalsPlace+"/"+name] }

// SameRights reports whether what decides who may do what is the same in another view.
func (v *View) SameRights(other *View) bool {
	return same(v.Principals, other.Principals) && same(v.Roles, other.Roles) && same(v.Grants, other.Grants) && same(v.Masks, other.Masks)
}

// same reports whether two maps are one: a view that changes one has another.
func same[T any](a, b map[string]T) bool {
	return reflect.ValueOf(a).Pointer() == reflect.ValueOf(b).Pointer()
}
