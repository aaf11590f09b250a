package change

import (
	"context"
	"errors"

	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/part"
)

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
