package ledger_test

import (
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/watch"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/ledger"
	"steadyferry/internal/engine/postgres/testdb"
)

func TestMain(m *testing.M) { testdb.Main(m) }

// What is recorded again, since it was not clear whether it was, is there once; numbers of
// incidents follow each other whatever is recorded between them.
func TestWhatIsRecordedTwiceIsThereOnce(t *testing.T) {
	_, database := testdb.New(t)
	c, err := catalog.Open(t.Context(), database, func(catalog.Delta) {})
	require.NoError(t, err)
	t.Cleanup(c.Close)
	l := ledger.Of(c)
	now := time.Now().UTC().Truncate(time.Second)
	for n := range 3 {
		i := &ledger.Incident{ID: uuid.New(), Watch: "coldchain/behind", Kind: "group", Address: "coldchain/readings@warm", Source: "coldchain/readings", Level: watch.Warn, Worst: watch.Warn, BegunAt: now, RangAt: now, PeakAt: now}
		judged := &ledger.Judged{Incidents: []*ledger.Incident{i}, Notes: []ledger.IncidentNote{{Incident: i.ID, At: now, What: "begins", Text: "lag-age is 20m"}}}
		for range 3 {
			require.NoError(t, l.Record(t.Context(), 0, judged))
		}
		assert.EqualValues(t, n+1, i.Number)
		notes, err := l.NotesOf(t.Context(), i.ID)
		require.NoError(t, err)
		assert.Len(t, notes, 1)
		said := ledger.IncidentNote{Incident: i.ID, At: now, Who: "owner", What: "said", Text: "I look at it"}
		require.NoError(t, l.Say(t.Context(), i.ID, &ledger.Saying{Acknowledge: true, Note: said}))
		said.Text = "and again"
		require.NoError(t, l.Say(t.Context(), i.ID, &ledger.Saying{Note: said}))
		notes, err = l.NotesOf(t.Context(), i.ID)
		require.NoError(t, err)
		assert.Len(t, notes, 3, "people may say several things at once")
	}
	testdb.Exec(t, database, `INSERT INTO watches (id, name, settings) VALUES (5, 'w', '{}')`)
	went, came := &ledger.WatchState{Watch: 5, Kind: "group", Thing: 1}, &ledger.WatchState{Watch: 5, Kind: "group", Thing: 1}
	require.NoError(t, l.Record(t.Context(), 0, &ledger.Judged{Gone: []*ledger.WatchState{went}, States: []*ledger.WatchState{came}}))
	states, err := l.StatesOf(t.Context(), 5)
	require.NoError(t, err)
	assert.Len(t, states, 1, "it came again")
	assert.ErrorIs(t, l.Record(t.Context(), 7, &ledger.Judged{}), catalog.ErrFenced)
	tally, err := l.Tally(t.Context())
	require.NoError(t, err)
	assert.Equal(t, map[watch.Level]int{watch.Warn: 3}, tally)
	open, err := l.Incidents(t.Context(), ledger.IncidentsAsked{Open: true, Space: "coldchain", Before: 3, Limit: 10})
	require.NoError(t, err)
	require.Len(t, open, 2)
	assert.EqualValues(t, 2, open[0].Number)
	for _, a := range []ledger.IncidentsAsked{{Watch: "coldchain/losing"}, {Address: "coldchain/orders"}, {Space: "cold"}} {
		a.Limit = 10
		none, err := l.Incidents(t.Context(), a)
		require.NoError(t, err)
		assert.Empty(t, none, "%+v", a)
	}
	of, err := l.Incidents(t.Context(), ledger.IncidentsAsked{Address: "coldchain/readings", Limit: 10})
	require.NoError(t, err)
	assert.Len(t, of, 3, "those of which it is the source")
}
