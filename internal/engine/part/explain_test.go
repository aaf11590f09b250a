package part

import (
	"errors"
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/message"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/replica"
)

// No error of the layers below is left for the caller to see as a fault of the
// service: each has its cause, and says what to do.
func TestEveryErrorOfTheLayersBelowHasItsCause(t *testing.T) {
	for err, cause := range map[error]problem.Kind{
		catalog.ErrAway: problem.CatalogAway, catalog.ErrText: problem.Invalid, catalog.ErrStale: problem.Conflict, catalog.ErrFenced: problem.Conflict, catalog.ErrNotFound: problem.NotFound,
		replica.ErrDiskFull: problem.DiskFull, replica.ErrLostEnd: problem.Damaged, replica.ErrNoMajority: problem.NoMajority, replica.ErrNotLeading: problem.Unavailable, replica.ErrClosed: problem.Unavailable,
		replica.ErrFailed: problem.Unavailable, replica.ErrTime: problem.Unavailable, message.ErrTooLarge: problem.TooLarge,
	} {
		for _, e := range []error{err, fmt.Errorf("below: %w", err)} {
			var p *problem.Problem
			require.ErrorAs(t, Explain(e, "coldchain/readings#0"), &p, "%v", e)
			assert.Equal(t, cause, p.Kind, "%v", e)
			assert.True(t, p.Then != "" || p.Range != "", "%v: it says what to do", e)
		}
	}
	unknown := errors.New("something else")
	assert.Equal(t, unknown, Explain(unknown, "x"))
	assert.NoError(t, Explain(nil, "x"))
}
