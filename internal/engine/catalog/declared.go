package catalog

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"hash/fnv"
	"maps"
	"time"

	"github.com/jmoiron/sqlx"
)

// Declared is what a declaration has set of a thing.
type Declared struct {
	Kind        string          `db:"kind"`
	Address     string          `db:"address"`
	Declaration string          `db:"declaration"`
	Revision    string          `db:"revision"`
	Settings    json.RawMessage `db:"settings"` // as their table shows them
	Who         string          `db:"who"`
	At          time.Time       `db:"at"`
}

const declaredColumns = `SELECT kind, address, declaration, revision, settings, who, at FROM declared `

// AllDeclared returns what declarations have set, by address.
func (c *Catalog) AllDeclared(ctx context.Context) ([]Declared, error) {
	return List[Declared](ctx, c, declaredColumns+`ORDER BY address, kind`)
}

// DeclaredOf returns what a declaration has set of the thing with the address;
// ErrNotFound when none has set anything.
func (c *Catalog) DeclaredOf(ctx context.Context, address string) (*Declared, error) {
	return One[Declared](ctx, c, declaredColumns+`WHERE address = $1`, address)
}

// SetDeclared records all that a declaration has set, and forgets what it has
// declared before and does no longer.
func (c *Catalog) SetDeclared(ctx context.Context, declaration, revision, who string, all []Declared) error {
	kinds, addresses, settings := make([]string, len(all)), make([]string, len(all)), make([]string, len(all))
	for i, d := range all {
		kinds[i], addresses[i], settings[i] = d.Kind, d.Address, string(d.Settings)
	}
	return c.InTx(ctx, nil, func(ctx context.Context, tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `DELETE FROM declared WHERE declaration = $1 AND NOT (kind || ' ' || address = ANY (SELECT k || ' ' || a FROM unnest($2::text[], $3::text[]) AS t (k, a)))`, declaration, kinds, addresses); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `INSERT INTO declared (kind, address, declaration, revision, settings, who)
			SELECT k, a, $1, $2, s::jsonb, $3 FROM unnest($4::text[], $5::text[], $6::text[]) AS t (k, a, s)
			ON CONFLICT (kind, address) DO UPDATE SET declaration = excluded.declaration, revision = excluded.revision, settings = excluded.settings, who = excluded.who, at = now()
			WHERE declared.declaration <> excluded.declaration OR declared.revision <> excluded.revision OR declared.settings <> excluded.settings`, declaration, revision, who, kinds, addresses, settings)
		return err
	})
}

// Claim takes a name for as long as this process holds it, or reports that another
// one does. The database lets go of it when the process ends, however that is.
func (c *Catalog) Claim(ctx context.Context, name string) (release func(), ok bool, err error) {
	number := fnv.New64a()
	fmt.Fprint(number, name)
	key := int64(number.Sum64())
	err = c.within(ctx, func(ctx context.Context) error {
		conn, err := c.db.Connx(ctx)
		if err != nil {
			return err
		}
		if err := conn.GetContext(ctx, &ok, `SELECT pg_try_advisory_lock($1)`, key); err != nil || !ok {
			conn.Close()
			return errors.Join(ctx.Err(), err) // the driver says only that the connection is bad
		}
		release = func() {
			ctx, cancel := context.WithTimeout(context.Background(), statementTimeout)
			defer cancel()
			// What cannot be said is given up with the connection.
			if _, err := conn.ExecContext(ctx, `SELECT pg_advisory_unlock($1)`, key); err != nil {
				_ = conn.Raw(func(any) error { return err })
			}
			conn.Close()
		}
		return nil
	})
	return release, ok, err
}

// declarationKey is where a context has the declaration that makes its changes.
type declarationKey struct{}

// WithDeclaration has the logbook entries of changes made with the context tell
// that a declaration, and which revision of it, made them.
func WithDeclaration(ctx context.Context, declaration string) context.Context {
	return context.WithValue(ctx, declarationKey{}, declaration)
}

// DeclarationIn returns the declaration that makes the changes of a context.
func DeclarationIn(ctx context.Context) (declaration string, ok bool) {
	declaration, ok = ctx.Value(declarationKey{}).(string)
	return declaration, ok
}

// noted is what an entry tells of a thing after its change, with the declaration
// that made it, if one did.
func noted(ctx context.Context, after any) any {
	declaration, ok := DeclarationIn(ctx)
	if !ok {
		return after
	}
	fields, _ := after.(map[string]any)
	if fields = maps.Clone(fields); fields == nil {
		fields = map[string]any{}
	}
	fields["declaration"] = declaration
	return fields
}
