package ledger

import (
	"context"
	"encoding/json"
	"time"

	"github.com/jmoiron/sqlx"

	"steadyferry/internal/engine/catalog"
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
func (l Ledger) AllDeclared(ctx context.Context) ([]Declared, error) {
	return catalog.List[Declared](ctx, l.c, declaredColumns+`ORDER BY address, kind`)
}

// DeclaredOf returns what a declaration has set of the thing with the address;
// catalog.ErrNotFound when none has set anything.
func (l Ledger) DeclaredOf(ctx context.Context, address string) (*Declared, error) {
	return catalog.One[Declared](ctx, l.c, declaredColumns+`WHERE address = $1`, address)
}

// SetDeclared records all that a declaration has set, and forgets what it has
// declared before and does no longer.
func (l Ledger) SetDeclared(ctx context.Context, declaration, revision, who string, all []Declared) error {
	kinds, addresses, settings := make([]string, len(all)), make([]string, len(all)), make([]string, len(all))
	for i, d := range all {
		kinds[i], addresses[i], settings[i] = d.Kind, d.Address, string(d.Settings)
	}
	return l.c.InTx(ctx, nil, func(ctx context.Context, tx *sqlx.Tx) error {
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
