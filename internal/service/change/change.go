package change

import (
	"context"
	"errors"

	"steadyferry/internal/core/form"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/part"
)

// Preview says what a change of settings does, as far as their table knows.
func Preview[T any](address string, table setting.Table[T], was, is *T, kind string) *form.Preview {
	p := &form.Preview{Address: address}
	p.Before, p.After, p.Effects = table.Diff(was, is, kind)
	if p.Careful = table.Careful(was, is, kind); p.Effects == nil {
		p.Effects = []string{}
	}
	return p
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
