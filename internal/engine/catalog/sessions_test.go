package catalog

import (
	"context"
	"fmt"
	"math/rand/v2"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/engine/postgres/testdb"
)

// two are catalogs of one database, as of two nodes.
func two(t *testing.T) (a, b *Catalog, database string) {
	t.Helper()
	_, database = testdb.New(t)
	return openCatalog(t, database), openCatalog(t, database), database
}

func newSession(t *testing.T, c *Catalog, who string) string {
	t.Helper()
	text, err := c.NewSecret(t.Context(), Secret{Principal: who, Kind: Session}, time.Hour, &Entry{Who: who, Action: "sign in", Address: who})
	require.NoError(t, err)
	return text
}

// requireIn looks a session up where it is not known yet.
func requireIn(t *testing.T, c *Catalog, text string) Asker {
	t.Helper()
	p, ok, err := c.LookUp(t.Context(), Session, text)
	require.NoError(t, err)
	require.True(t, ok)
	return p
}

// A sign-in makes no version, a token does; both are in force on every node.
func TestASignInMakesNoVersion(t *testing.T) {
	a, b, database := two(t)
	require.NoError(t, a.NewSpace(t.Context(), &Space{Name: "coldchain"}, nil))
	before := a.View().Version
	for i := range 20 {
		text := newSession(t, a, "owner")
		_, known := b.Known(Session, text)
		assert.False(t, known)
		p := requireIn(t, b, text)
		assert.Equal(t, "owner", p.Name)
		assert.Equal(t, Session, p.By().Kind)
		_, known = b.Known(Session, text)
		assert.True(t, known, "it is asked about once")
		_, ok, err := b.LookUp(t.Context(), Link, text)
		require.NoError(t, err)
		assert.False(t, ok, "a session is no link (%d)", i)
	}
	require.NoError(t, a.CatchUp(t.Context()))
	assert.Equal(t, before, a.View().Version)
	entries, err := List[int](t.Context(), a, `SELECT 1 FROM logbook`)
	require.NoError(t, err)
	assert.Len(t, entries, 20, "each is in the logbook")
	rows, err := List[int](t.Context(), a, `SELECT 1 FROM changed WHERE tbl = 'secrets'`)
	require.NoError(t, err)
	assert.Empty(t, rows)

	token, err := a.NewSecret(t.Context(), Secret{Principal: Owner, Kind: Token, Label: "reports"}, 0, nil)
	require.NoError(t, err)
	assert.Equal(t, before+1, a.View().Version)
	require.Eventually(t, func() bool { _, ok := b.Known(Token, token); return ok }, 4*time.Second, time.Millisecond)

	// What is over goes without a word, and what a person changes does not.
	testdb.Exec(t, database, `UPDATE secrets SET expires_at = now() - interval '1 s' WHERE kind = 'session'`)
	require.NoError(t, b.CatchUp(t.Context()))
	after := b.View().Version
	require.NoError(t, a.Tidy(t.Context()))
	require.NoError(t, b.CatchUp(t.Context()))
	assert.Equal(t, after, b.View().Version)
	all, err := b.Secrets(t.Context())
	require.NoError(t, err)
	assert.Len(t, all, 1, "the token")
}

// A session that ends is refused by every node that knew it: by its owner, by
// whoever revokes it or all, by a newer one, by hand.
func TestASessionThatEndsIsRefusedEverywhere(t *testing.T) {
	for name, end := range map[string]func(t *testing.T, a *Catalog, database, text string, p Asker){
		"signed out": func(t *testing.T, a *Catalog, database, text string, p Asker) {
			was, err := a.DropSecret(t.Context(), Session, text)
			require.NoError(t, err)
			assert.True(t, was)
			was, err = a.DropSecret(t.Context(), Session, text)
			require.NoError(t, err)
			assert.False(t, was)
		},
		"revoked": func(t *testing.T, a *Catalog, database, text string, p Asker) {
			one, err := a.Secret(t.Context(), p.By().ID)
			require.NoError(t, err)
			assert.Equal(t, p.By(), one)
			require.NoError(t, a.Revoke(t.Context(), one.ID, nil))
			require.ErrorIs(t, a.Revoke(t.Context(), one.ID, nil), ErrNotFound)
			_, err = a.Secret(t.Context(), one.ID)
			require.ErrorIs(t, err, ErrNotFound)
		},
		"all revoked": func(t *testing.T, a *Catalog, database, text string, p Asker) {
			kept := newSession(t, a, "owner")
			e := &Entry{Who: "owner", Action: "revoke every session", Address: "owner"}
			n, err := a.RevokeAll(t.Context(), Session, new(requireIn(t, a, kept)).By().ID, e)
			require.NoError(t, err)
			assert.EqualValues(t, 1, n)
			assert.Equal(t, map[string]any{"count": int64(1)}, e.Before)
			requireIn(t, a, kept)
		},
		"one too many": func(t *testing.T, a *Catalog, database, text string, p Asker) {
			for range maxSessions {
				newSession(t, a, "owner")
			}
		},
		"by hand": func(t *testing.T, a *Catalog, database, text string, p Asker) {
			testdb.Exec(t, database, `DELETE FROM secrets WHERE kind = 'session'`)
		},
	} {
		t.Run(name, func(t *testing.T) {
			a, b, database := two(t)
			text := newSession(t, a, "owner")
			p := requireIn(t, b, text)
			_, ok := b.InForce(t.Context(), p)
			require.True(t, ok)
			end(t, a, database, text, p)
			require.Eventually(t, func() bool { _, ok := b.Known(Session, text); return !ok }, 4*time.Second, time.Millisecond, "at a word, and not at the next look")
			_, ok = b.InForce(t.Context(), p)
			assert.False(t, ok)
			_, ok, err := b.LookUp(t.Context(), Session, text)
			require.NoError(t, err)
			assert.False(t, ok)
		})
	}
}

// Nobody keeps a session that he read before it was ended, however the two meet.
func TestALookUpThatMeetsTheEndKeepsNothing(t *testing.T) {
	a, b, _ := two(t)
	var people []*Principal
	for i := range 7 {
		people = append(people, &Principal{Owned: Owned{ID: NewOwnedID(), Name: fmt.Sprint("p", i)}})
	}
	require.NoError(t, a.NewRights(t.Context(), nil, Rights{Principals: people}))
	for round := range 150 {
		text := newSession(t, a, fmt.Sprint("p", round%7))
		var wg sync.WaitGroup
		for range 3 {
			wg.Go(func() {
				for range 4 {
					_, _, err := b.LookUp(t.Context(), Session, text)
					assert.NoError(t, err)
				}
			})
		}
		wg.Go(func() {
			time.Sleep(time.Duration(rand.IntN(1500)) * time.Microsecond)
			_, err := a.DropSecret(t.Context(), Session, text)
			assert.NoError(t, err)
			assert.NoError(t, b.CatchUp(t.Context()))
		})
		wg.Wait()
		_, ok := b.Known(Session, text)
		require.False(t, ok, "round %d: it was ended, and is let in", round)
	}
}

// With the database away, sessions that a node knows stay in force, and of others
// it says why it cannot tell.
func TestSessionsWhileTheDatabaseIsAway(t *testing.T) {
	a, _, _ := two(t)
	text, other := newSession(t, a, "owner"), newSession(t, a, "owner")
	p := requireIn(t, a, text)
	gone, cancel := context.WithTimeout(t.Context(), 0)
	defer cancel()
	_, ok := a.Known(Session, text)
	assert.True(t, ok)
	_, ok, err := a.LookUp(gone, Session, other)
	assert.False(t, ok)
	require.ErrorIs(t, err, ErrAway)
	a.sessions.forget(nil)
	_, ok = a.InForce(gone, p)
	assert.True(t, ok, "nothing says that it has ended")
	_, ok, err = a.LookUp(gone, Token, "t-unknown")
	assert.False(t, ok)
	assert.NoError(t, err, "every token in force is known")
	_, ok = a.InForce(t.Context(), p)
	assert.True(t, ok)
}

// A node keeps so many sessions and no more, and lets go of those that are over
// first.
func TestANodeKeepsSoManySessions(t *testing.T) {
	k := sessions{known: map[hash]*secret{}}
	of := func(i int) hash { return hash{byte(i), byte(i >> 8), byte(i >> 16)} }
	over, stays := &secret{}, &secret{}
	over.ExpiresAt.Valid = true
	for i := range mostSessions {
		k.keep(of(i), []*secret{over, stays}[i%2], 0)
	}
	assert.Len(t, k.known, mostSessions)
	k.keep(of(mostSessions), stays, 0)
	assert.Len(t, k.known, mostSessions/2+1)
	for i := range mostSessions {
		k.keep(of(mostSessions+1+i), stays, 0)
	}
	assert.Len(t, k.known, mostSessions)
}
