package change

import (
	"context"
	"maps"
	"slices"

	"steadyferry/internal/core/address"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/engine/catalog"
)

// Find returns the record of a kind at an address, of those that a view has. Without one it
// says which is near, or else what to do.
func Find[T any](ctx context.Context, records *catalog.Catalog, kind string, a address.Address, of func(*catalog.View) map[string]*T, otherwise string) (*T, error) {
	if one := of(records.View())[a.String()]; one != nil {
		return one, nil
	}
	// Another node may have made it a moment ago.
	if records.Refresh(ctx) == nil {
		if one := of(records.View())[a.String()]; one != nil {
			return one, nil
		}
	}
	p := problem.New(problem.NotFound, "there is no %s %s", kind, a)
	if near := address.Nearest(a.String(), slices.Collect(maps.Keys(of(records.View())))); near != "" {
		return nil, p.Next("did you mean %s?", near)
	}
	return nil, p.Next("%s", otherwise)
}
