package ledger_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/ledger"
	"steadyferry/internal/engine/postgres/testdb"
)

// What waits is decided once, and not when its time is over, whoever has looked before.
func TestWhatWaitsIsDecidedOnceAndInTime(t *testing.T) {
	_, database := testdb.New(t)
	records, err := catalog.Open(t.Context(), database, func(catalog.Delta) {})
	require.NoError(t, err)
	t.Cleanup(records.Close)
	l := ledger.Of(records)
	entry := &catalog.Entry{Who: "ines", Action: "ask", Address: "coldchain/inspections"}
	ask := func(target string, until time.Duration, most int) (int64, error) {
		id, _, err := l.AskSecond(t.Context(), ledger.Second{Who: "ines", Verb: "discard", Address: "coldchain/inspections", Says: "discard", Method: "POST", Target: target, Body: []byte("{}"), Until: time.Now().Add(until)}, most, entry)
		return id, err
	}
	first, err := ask("/one", time.Hour, 2)
	require.NoError(t, err)
	again, err := ask("/one", time.Hour, 2)
	require.NoError(t, err)
	assert.Equal(t, first, again, "the same is asked for once")
	_, err = ask("/two", time.Hour, 1)
	assert.ErrorIs(t, err, ledger.ErrTooMany)
	late, err := ask("/two", -time.Second, 2)
	require.NoError(t, err)
	assert.ErrorIs(t, l.DecideSecond(t.Context(), late, ledger.SecondBegun, "lana", entry), catalog.ErrStale)
	one, err := l.Second(t.Context(), late)
	require.NoError(t, err)
	assert.Equal(t, ledger.SecondOver, one.State)
	require.NoError(t, l.DecideSecond(t.Context(), first, ledger.SecondBegun, "lana", entry))
	assert.ErrorIs(t, l.DecideSecond(t.Context(), first, ledger.SecondDeclined, "lana", entry), catalog.ErrStale)
	n, err := l.SecondsWaiting(t.Context())
	require.NoError(t, err)
	assert.Zero(t, n)
	_, err = ask("/three", time.Hour, 2)
	assert.NoError(t, err, "there is room again")
	require.NoError(t, l.EndSecond(t.Context(), first, ledger.SecondFailed, "it was gone"))
	require.NoError(t, l.EndSecond(t.Context(), first, ledger.SecondDone, ""))
	one, err = l.Second(t.Context(), first)
	require.NoError(t, err)
	assert.Equal(t, []string{ledger.SecondFailed, "it was gone", "lana"}, []string{one.State, one.Outcome, one.DecidedBy}, "what came of it stays")
	assert.Empty(t, one.Body, "what was decided needs it no more")
}
