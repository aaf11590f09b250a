package change

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"reflect"
	"slices"
	"strings"

	"steadyferry/internal/core/declare"
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/ledger"
	"steadyferry/internal/engine/part"
)

// Preview says what a change of settings does, as far as their table knows, and
// whether it is made by hand of what a declaration has set.
func Preview[T any](ctx context.Context, records *catalog.Catalog, address string, table setting.Table[T], was, is *T, kind string) (*form.Preview, error) {
	p := &form.Preview{Address: address}
	p.Before, p.After, p.Effects = table.Diff(was, is, kind)
	if p.Careful = table.Careful(was, is, kind); p.Effects == nil {
		p.Effects = []string{}
	}
	return p, part.Explain(byHand(ctx, records, p), address)
}

// byHand warns of a change that makes a declared setting another one: by hand, or
// by another declaration.
func byHand(ctx context.Context, records *catalog.Catalog, p *form.Preview) error {
	if len(p.After) == 0 {
		return nil
	}
	by, _ := declare.MadeBy(ctx)
	by, _, _ = strings.Cut(by, " ")
	m, err := ledger.Of(records).DeclaredOf(ctx, p.Address)
	if errors.Is(err, catalog.ErrNotFound) {
		return nil
	}
	if err != nil {
		return err
	}
	if by == m.Declaration {
		return nil
	}
	if by != "" {
		p.Effects = append(p.Effects, fmt.Sprintf("declared by %s until now; %s takes it over", m.Declaration, by))
		return nil
	}
	var declared map[string]json.RawMessage
	if err := json.Unmarshal(m.Settings, &declared); err != nil {
		return err
	}
	var drifts []string
	for name, value := range p.After {
		is, err := json.Marshal(value)
		if err != nil {
			return err
		}
		if has, ok := declared[name]; ok && !sameJSON(has, is) {
			drifts = append(drifts, name)
		}
	}
	if len(drifts) > 0 {
		slices.Sort(drifts)
		p.Effects = append(p.Effects, fmt.Sprintf("%s: declared by %s, so this is drift until its files say the same or it is set back (ferry diff -drift)", strings.Join(drifts, ", "), m.Declaration))
	}
	return nil
}

// sameJSON reports whether two texts are one value: the database writes it in its
// own way.
func sameJSON(a, b []byte) bool {
	var x, y any
	return json.Unmarshal(a, &x) == nil && json.Unmarshal(b, &y) == nil && reflect.DeepEqual(x, y)
}

// UntilFresh makes a change again for as long as others change the same thing
// between the look at it and the change.
func UntilFresh(ctx context.Context, records *catalog.Catalog, address string, change func() error) error {
	for {
		err := change()
		if !errors.Is(err, catalog.ErrStale) || ctx.Err() != nil {
			return part.Explain(err, address)
		}
		if err := records.CatchUp(ctx); err != nil {
			return part.Explain(err, address)
		}
	}
}
