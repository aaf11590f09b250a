package catalog

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// One holds a name, wherever it asks from, until it lets go of it or ends.
func TestAClaimIsHeldByOne(t *testing.T) {
	a, _, _, _, _, _ := filled(t)
	release, ok, err := a.Claim(t.Context(), "apply")
	require.NoError(t, err)
	require.True(t, ok)
	_, ok, err = a.Claim(t.Context(), "apply")
	require.NoError(t, err)
	assert.False(t, ok)
	other, ok, err := a.Claim(t.Context(), "something else")
	require.NoError(t, err)
	require.True(t, ok, "another name is free")
	other()
	release()
	release, ok, err = a.Claim(t.Context(), "apply")
	require.NoError(t, err)
	require.True(t, ok)

	// Whoever ends lets go, also in the middle: the database sees its connection end.
	_, err = a.db.ExecContext(t.Context(), `SELECT pg_terminate_backend(pid) FROM pg_locks WHERE locktype = 'advisory' AND granted AND database = (SELECT oid FROM pg_database WHERE datname = current_database())`)
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		again, ok, err := a.Claim(t.Context(), "apply")
		if ok {
			again()
		}
		return err == nil && ok
	}, 10*time.Second, 20*time.Millisecond)
	release()
}
