package node

import (
	"errors"
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/catalog"
	"steadyferry/internal/core/message"
	"steadyferry/internal/replica"
)

// No error of the layers below is left for the caller to see as a fault of the
// service: each has its cause, and says what to do.
func TestEveryErrorOfTheLayersBelowHasItsCause(t *testing.T) {
	for err, cause := range map[error]Cause{
		catalog.ErrAway: RecordsAway, catalog.ErrText: Invalid, catalog.ErrStale: Conflict, catalog.ErrFenced: Conflict, catalog.ErrNotFound: NotFound,
		replica.ErrDiskFull: DiskFull, replica.ErrLostEnd: Damaged, replica.ErrNoMajority: NoMajority, replica.ErrNotLeading: Unavailable, replica.ErrClosed: Unavailable,
		replica.ErrFailed: Unavailable, replica.ErrTime: Unavailable, message.ErrTooLarge: TooLarge,
	} {
		for _, e := range []error{err, fmt.Errorf("below: %w", err)} {
			var p *Problem
			require.ErrorAs(t, explain(e, "coldchain/readings#0"), &p, "%v", e)
			assert.Equal(t, cause, p.Cause, "%v", e)
			assert.True(t, p.Next != "" || p.Allowed != "", "%v: it says what to do", e)
		}
	}
	unknown := errors.New("something else")
	assert.Equal(t, unknown, explain(unknown, "x"))
	assert.NoError(t, explain(nil, "x"))
}
