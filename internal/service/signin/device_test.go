package signin_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/service/signin"
)

// A program that waits is let in once, with what the session of who lets it in is limited to; or it
// is denied, or nobody comes in time.
func TestAProgramIsLetInByWhoIsSignedIn(t *testing.T) {
	g := open(t)
	ctx := t.Context()
	poll := func(code string) (catalog.Secret, error) {
		as, _, err := g.Poll(ctx, code)
		return as, err
	}
	code, userCode, err := g.NewDevice(ctx, "ferry on quay-3", "127.0.0.1")
	require.NoError(t, err)
	_, err = poll(code)
	assert.ErrorIs(t, err, signin.ErrPending)
	_, err = poll(code)
	assert.ErrorIs(t, err, signin.ErrSlowDown, "it asks too often")
	d, err := g.Device(ctx, strings.ToLower(strings.ReplaceAll(userCode, "-", " ")))
	require.NoError(t, err, "however it is typed")
	assert.Equal(t, "ferry on quay-3", d.Name)
	as := catalog.Secret{Principal: "lead", Role: "viewer", Pattern: "coldchain"}
	require.NoError(t, g.Decide(ctx, userCode, as, true))
	assert.ErrorContains(t, g.Decide(ctx, userCode, catalog.Secret{Principal: "owner"}, true), "no program waits", "nobody else decides it anew")
	_, err = g.Device(ctx, userCode)
	assert.Error(t, err)
	got, err := poll(code)
	require.NoError(t, err)
	assert.Equal(t, as, got)
	_, err = poll(code)
	assert.ErrorIs(t, err, signin.ErrExpired, "once")

	code, userCode, err = g.NewDevice(ctx, "ferry", "127.0.0.1")
	require.NoError(t, err)
	require.NoError(t, g.Decide(ctx, userCode, as, false))
	_, err = poll(code)
	assert.ErrorIs(t, err, signin.ErrDenied)

	code, userCode, err = g.NewDevice(ctx, "ferry", "127.0.0.1")
	require.NoError(t, err)
	g.n.Exec(`UPDATE devices SET expires_at = now() - interval '1 second'`)
	assert.Error(t, g.Decide(ctx, userCode, as, true))
	_, err = poll(code)
	assert.ErrorIs(t, err, signin.ErrExpired)
	for _, wrong := range []string{"", "AEIOU", "x", code, userCode + "B"} {
		_, err := g.Device(ctx, wrong)
		assert.Error(t, err, wrong)
		_, err = poll(wrong)
		assert.ErrorIs(t, err, signin.ErrExpired, wrong)
	}
}

// Those that nobody lets in do not pile up, and their codes are hard to guess.
func TestWhatWaitsIsBounded(t *testing.T) {
	g := open(t)
	ctx := t.Context()
	seen := map[string]bool{}
	for range 20 {
		_, userCode, err := g.NewDevice(ctx, "ferry", "127.0.0.1")
		require.NoError(t, err)
		assert.Regexp(t, `^[BCDFGHJKLMNPQRSTVWXZ]{4}-[BCDFGHJKLMNPQRSTVWXZ]{4}$`, userCode)
		seen[userCode] = true
	}
	assert.Len(t, seen, 20)
	g.n.Exec(`INSERT INTO devices (hash, user_code, name, address, expires_at) SELECT sha256(n::text::bytea), n::text, 'x', 'x', now() + interval '1 minute' FROM generate_series(1, 480) AS n`)
	_, _, err := g.NewDevice(ctx, "ferry", "127.0.0.1")
	assert.ErrorContains(t, err, "no more can")
	g.n.Exec(`UPDATE devices SET expires_at = now() - interval '1 second'`)
	_, _, err = g.NewDevice(ctx, "ferry", "127.0.0.1")
	assert.NoError(t, err)
	for _, name := range []string{"", strings.Repeat("x", 101)} {
		_, _, err := g.NewDevice(ctx, name, "127.0.0.1")
		assert.ErrorContains(t, err, "1 to 100")
	}
}
