// Package accesstest has tests ask as somebody.
package accesstest

import (
	"context"

	"steadyferry/internal/core/access"
)

// T is a test or a benchmark.
type T interface{ Context() context.Context }

// Owner returns the context of a test, asked for by who may do everything.
func Owner(t T) context.Context { return access.As(t.Context(), access.Node("owner")) }
