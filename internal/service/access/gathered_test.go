package access_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/logbook"
	"steadyferry/internal/node/nodetest"
	"steadyferry/internal/service/access"
)

// Whatever strangers send is noted in a bounded way, and keeps nothing else from being noted.
func TestWhatStrangersSendIsNotedInBounds(t *testing.T) {
	n := nodetest.Open(t)
	ctx := t.Context()
	noted := func() []logbook.Row {
		n.Access.NoteGathered(ctx, false)
		rows, err := logbook.Entries(ctx, n.Catalog, logbook.Asked{Outcome: catalog.Refused, Limit: 2000})
		require.NoError(t, err)
		return rows
	}
	n.Access.NoteRefusal(access.Gathered{Who: access.Nobody, Action: "sign in", Says: "the provider says a\x00b\xff" + strings.Repeat("x", 100_000)})
	n.Access.NoteRefusal(access.Gathered{Who: "desk-1", Action: "set", Address: "coldchain"})
	rows := noted()
	require.Len(t, rows, 2)
	for _, r := range rows {
		assert.Less(t, len(r.After), 1000)
	}
	for i := range 2000 {
		n.Access.NoteRefusal(access.Gathered{Who: access.Nobody, Action: "sign in", Says: strings.Repeat("y", i)})
	}
	assert.Less(t, len(noted()), 600, "those beyond are told as one")
}
