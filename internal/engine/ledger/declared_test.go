package ledger_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/ledger"
	"steadyferry/internal/engine/postgres/testdb"
)

// A declaration's marks are its own: those of another stay, what it declares no
// longer is forgotten, and a thing has one.
func TestMarksOfDeclarations(t *testing.T) {
	_, database := testdb.New(t)
	c, err := catalog.Open(t.Context(), database, func(catalog.Delta) {})
	require.NoError(t, err)
	t.Cleanup(c.Close)
	l := ledger.Of(c)
	mark := func(kind, at, settings string) ledger.Declared {
		return ledger.Declared{Kind: kind, Address: at, Settings: []byte(settings)}
	}
	all := func() (marks []string) {
		found, err := l.AllDeclared(t.Context())
		require.NoError(t, err)
		for _, d := range found {
			marks = append(marks, d.Declaration+" "+d.Revision+" "+d.Address+" "+string(d.Settings))
		}
		return marks
	}
	require.NoError(t, l.SetDeclared(t.Context(), "nl", "1", "owner", []ledger.Declared{mark("space", "a", `{}`), mark("topic", "a/t", `{"retain": "1h"}`)}))
	require.NoError(t, l.SetDeclared(t.Context(), "other", "", "owner", []ledger.Declared{mark("space", "b", `{}`)}))
	assert.Equal(t, []string{`nl 1 a {}`, `nl 1 a/t {"retain": "1h"}`, `other  b {}`}, all())
	before, err := l.DeclaredOf(t.Context(), "a")
	require.NoError(t, err)
	require.NoError(t, l.SetDeclared(t.Context(), "nl", "1", "owner", []ledger.Declared{mark("space", "a", `{}`)}))
	after, err := l.DeclaredOf(t.Context(), "a")
	require.NoError(t, err)
	assert.Equal(t, before.At, after.At, "what is the same was declared when it was")
	assert.Equal(t, []string{`nl 1 a {}`, `other  b {}`}, all())
	require.NoError(t, l.SetDeclared(t.Context(), "nl", "2", "owner", []ledger.Declared{mark("space", "b", `{"labels": {}}`)}))
	assert.Equal(t, []string{`nl 2 b {"labels": {}}`}, all(), "it has taken over what the other declared")
	_, err = l.DeclaredOf(t.Context(), "a")
	assert.ErrorIs(t, err, catalog.ErrNotFound)
}
