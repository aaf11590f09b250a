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

// A declaration's marks are its own: those of another stay, what it declares no
// longer is forgotten, and a thing has one.
func TestMarksOfDeclarations(t *testing.T) {
	c, _, _, _, _, _ := filled(t)
	mark := func(kind, at, settings string) Declared {
		return Declared{Kind: kind, Address: at, Settings: []byte(settings)}
	}
	all := func() (marks []string) {
		found, err := c.AllDeclared(t.Context())
		require.NoError(t, err)
		for _, d := range found {
			marks = append(marks, d.Declaration+" "+d.Revision+" "+d.Address+" "+string(d.Settings))
		}
		return marks
	}
	require.NoError(t, c.SetDeclared(t.Context(), "nl", "1", "owner", []Declared{mark("space", "a", `{}`), mark("topic", "a/t", `{"retain": "1h"}`)}))
	require.NoError(t, c.SetDeclared(t.Context(), "other", "", "owner", []Declared{mark("space", "b", `{}`)}))
	assert.Equal(t, []string{`nl 1 a {}`, `nl 1 a/t {"retain": "1h"}`, `other  b {}`}, all())
	before, err := c.DeclaredOf(t.Context(), "a")
	require.NoError(t, err)
	require.NoError(t, c.SetDeclared(t.Context(), "nl", "1", "owner", []Declared{mark("space", "a", `{}`)}))
	after, err := c.DeclaredOf(t.Context(), "a")
	require.NoError(t, err)
	assert.Equal(t, before.At, after.At, "what is the same was declared when it was")
	assert.Equal(t, []string{`nl 1 a {}`, `other  b {}`}, all())
	require.NoError(t, c.SetDeclared(t.Context(), "nl", "2", "owner", []Declared{mark("space", "b", `{"labels": {}}`)}))
	assert.Equal(t, []string{`nl 2 b {"labels": {}}`}, all(), "it has taken over what the other declared")
	_, err = c.DeclaredOf(t.Context(), "a")
	assert.ErrorIs(t, err, ErrNotFound)
}
