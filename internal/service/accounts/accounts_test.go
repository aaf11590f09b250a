package accounts_test

import (
	"bytes"
	"context"
	"encoding/base64"
	"errors"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/access/accesstest"
	"steadyferry/internal/core/account"
	"steadyferry/internal/core/admit"
	"steadyferry/internal/core/seal"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/ledger"
	"steadyferry/internal/engine/postgres/testdb"
	"steadyferry/internal/node/nodetest"
	"steadyferry/internal/service/accounts"
)

func TestMain(m *testing.M) { testdb.Main(m) }

const password, another = "kolme venettä ja hinaaja", "neljä lauttaa ja majakka"

var person = setting.Principal{Kind: setting.Person}

// desk is a node with a person who has an account.
type desk struct {
	*nodetest.Node
	t     *testing.T
	codes string // of ines
}

func open(t *testing.T) *desk {
	d := &desk{Node: nodetest.Open(t), t: t}
	d.Somebody("ines", person, "viewer", "coldchain")
	d.begin(password)
	return d
}

// begin has ines begin her account anew.
func (d *desk) begin(password string) {
	d.t.Helper()
	invitation, until, err := d.Accounts.Invite(accesstest.Owner(d.t), "owner", "ines")
	require.NoError(d.t, err)
	assert.WithinDuration(d.t, time.Now().Add(accounts.InvitationLives), until, time.Minute)
	codes, err := d.Accounts.Invitation(d.t.Context(), invitation, "ferry.example")
	require.NoError(d.t, err)
	assert.Equal(d.t, "ines", codes.Name)
	d.codes = codes.Secret
	name, err := d.Accounts.Accept(d.t.Context(), invitation, password, d.code())
	require.NoError(d.t, err)
	require.Equal(d.t, "ines", name)
}

// code is the one of now, which is good again as if time had gone on.
func (d *desk) code() string {
	d.t.Helper()
	d.Exec(`UPDATE accounts SET step = 0`)
	text, err := account.Code(d.codes, time.Now())
	require.NoError(d.t, err)
	return text
}

func (d *desk) enter(name, password, code string) error {
	_, err := d.Accounts.Enter(d.t.Context(), name, password, code)
	return err
}

// What is wrong is not told, and a code is good once.
func TestWhoGetsInByAnAccount(t *testing.T) {
	d := open(t)
	d.Somebody("build-42", setting.Principal{Kind: setting.Machine}, "publisher", "*")
	d.Somebody("lana", person, "viewer", "coldchain") // has none
	code := d.code()
	wrong := "000000"
	if code == wrong {
		wrong = "111111"
	}
	for name, err := range map[string]error{
		"another password":  d.enter("ines", another, code),
		"no password":       d.enter("ines", "", code),
		"another code":      d.enter("ines", password, wrong),
		"no code":           d.enter("ines", password, ""),
		"nobody":            d.enter("nobody", password, code),
		"without account":   d.enter("lana", password, code),
		"without, empty":    d.enter("lana", "", ""),
		"a machine":         d.enter("build-42", password, code),
		"the owner":         d.enter("owner", password, code),
		"no name":           d.enter("", "", ""),
		"a name with holes": d.enter("ines' OR '1'='1", password, code),
	} {
		assert.ErrorIs(t, err, accounts.ErrNotIn, name)
	}
	require.NoError(t, d.enter("ines", password, code))
	assert.ErrorIs(t, d.enter("ines", password, code), accounts.ErrNotIn, "a code is good once")

	_, err := d.Access.SetPrincipal(accesstest.Owner(t), "owner", "ines", setting.Change{"paused": true}, false)
	require.NoError(t, err)
	assert.ErrorIs(t, d.enter("ines", password, d.code()), accounts.ErrNotIn, "who is shut out")
}

// However many come with one code at once, one gets in.
func TestACodeLetsOneIn(t *testing.T) {
	d := open(t)
	code := d.code()
	var in atomic.Int32
	var all sync.WaitGroup
	for range 6 {
		all.Go(func() {
			if err := d.enter("ines", password, code); err == nil {
				in.Add(1)
			} else {
				assert.ErrorIs(t, err, accounts.ErrNotIn)
			}
		})
	}
	all.Wait()
	assert.EqualValues(t, 1, in.Load())
}

// Tries are bounded for each name, whether it has an account or not; who is right is not slowed
// down by having been so.
func TestTriesAreBounded(t *testing.T) {
	d := open(t)
	for range 9 {
		require.NoError(t, d.enter("ines", password, d.code()))
	}
	for _, name := range []string{"ines", "nobody"} {
		var full *admit.Full
		tries := 0
		for tries < 50 && !errors.As(d.enter(name, another, "123456"), &full) {
			tries++
		}
		assert.LessOrEqual(t, tries, 8, name)
		require.NotNil(t, full, name)
		assert.Greater(t, full.Retry, time.Minute)
	}
	var full *admit.Full
	assert.ErrorAs(t, d.enter("ines", password, d.code()), &full, "the right password does not help then")
}

// A name that nobody has takes as long as one that somebody has.
func TestTimeDoesNotTellWhoHasAnAccount(t *testing.T) {
	d := open(t)
	took := func(name string) time.Duration {
		least := time.Hour
		for range 4 {
			began := time.Now()
			assert.ErrorIs(t, d.enter(name, another, "123456"), accounts.ErrNotIn)
			least = min(least, time.Since(began))
		}
		return least
	}
	with, without := took("ines"), took("nobody")
	assert.Greater(t, 2*without, with, "%s and %s", with, without)
	assert.Greater(t, 2*with, without, "%s and %s", with, without)
}

func TestAnInvitationIsGoodOnceAndNotForLong(t *testing.T) {
	d := open(t)
	ctx := accesstest.Owner(t)
	states := func() string {
		all, err := d.Accounts.States(ctx)
		require.NoError(t, err)
		return all["ines"]
	}
	assert.Equal(t, accounts.Open, states())
	invitation, _, err := d.Accounts.Invite(ctx, "owner", "ines")
	require.NoError(t, err)
	assert.Equal(t, accounts.Invited, states())
	assert.ErrorIs(t, d.enter("ines", password, d.code()), accounts.ErrNotIn, "what the account was ends")

	newer, _, err := d.Accounts.Invite(ctx, "owner", "ines")
	require.NoError(t, err)
	_, err = d.Accounts.Invitation(ctx, invitation, "x")
	assert.ErrorContains(t, err, "not in force", "another one takes its place")
	codes, err := d.Accounts.Invitation(ctx, newer, "x")
	require.NoError(t, err)
	d.codes = codes.Secret
	for text, says := range map[string]string{"short": "5 characters", "password1234": "guessed", "ines ines ines": "guessed"} {
		_, err = d.Accounts.Accept(ctx, newer, text, d.code())
		assert.ErrorContains(t, err, says)
		_, err = d.Accounts.Judge(ctx, newer, text)
		assert.ErrorContains(t, err, says)
	}
	strength, err := d.Accounts.Judge(ctx, newer, another)
	require.NoError(t, err)
	assert.GreaterOrEqual(t, strength.Score, account.Strong)
	_, err = d.Accounts.Accept(ctx, newer, another, "000000")
	assert.ErrorContains(t, err, "not the code of now")

	d.Exec(`UPDATE accounts SET invited_until = now() - interval '1 second'`)
	assert.Equal(t, accounts.Over, states())
	_, err = d.Accounts.Accept(ctx, newer, another, d.code())
	assert.ErrorContains(t, err, "not in force", "it is over")
	d.Exec(`UPDATE accounts SET invited_until = now() + interval '1 hour'`)
	_, err = d.Accounts.Accept(ctx, newer, another, d.code())
	require.NoError(t, err)
	_, err = d.Accounts.Accept(ctx, newer, password, d.code())
	assert.ErrorContains(t, err, "not in force", "it was accepted")
	require.NoError(t, d.enter("ines", another, d.code()))
}

// sessions is how many ines has.
func (d *desk) sessions() (n int) {
	all, err := d.Catalog.Secrets(d.t.Context())
	require.NoError(d.t, err)
	for _, s := range all {
		if s.Principal == "ines" && s.Kind == catalog.Session {
			n++
		}
	}
	return n
}

// Another password, another invitation and the end of an account end what was begun with it.
func TestWhatEndsWithAPassword(t *testing.T) {
	d := open(t)
	ctx := accesstest.Owner(t)
	signIn := func() {
		_, err := d.Access.NewSession(ctx, catalog.Secret{Principal: "ines"}, accounts.Way, "127.0.0.1")
		require.NoError(t, err)
		require.Positive(t, d.sessions())
	}
	signIn()
	assert.ErrorIs(t, d.Accounts.Change(ctx, "ines", another, d.code(), password+"!"), accounts.ErrNotIn)
	assert.ErrorIs(t, d.Accounts.Change(ctx, "lana", password, d.code(), another), accounts.ErrNotIn)
	assert.ErrorContains(t, d.Accounts.Change(ctx, "ines", password, d.code(), "short"), "5 characters")
	assert.Positive(t, d.sessions(), "nothing was changed")
	require.NoError(t, d.Accounts.Change(ctx, "ines", password, d.code(), another))
	assert.Zero(t, d.sessions())
	assert.ErrorIs(t, d.enter("ines", password, d.code()), accounts.ErrNotIn)
	require.NoError(t, d.enter("ines", another, d.code()))

	signIn()
	d.begin(password)
	assert.Zero(t, d.sessions())
	signIn()
	require.NoError(t, d.Accounts.Close(ctx, "owner", "ines"))
	assert.Zero(t, d.sessions())
	assert.ErrorContains(t, d.Accounts.Close(ctx, "owner", "ines"), "ines has no account")

	d.begin(password)
	_, err := d.Access.RemovePrincipal(ctx, "owner", "ines", false)
	require.NoError(t, err)
	states, err := d.Accounts.States(ctx)
	require.NoError(t, err)
	assert.Empty(t, states, "it goes with its principal")
}

// Whoever could invite somebody could be it: it takes all that handling their tokens takes.
func TestWhoMayInvite(t *testing.T) {
	d := open(t)
	clerk := &catalog.Role{Owned: catalog.Owned{Name: "clerk"}, Role: setting.Role{Verbs: []string{"access"}}}
	chief := &catalog.Role{Owned: catalog.Owned{Name: "chief"}, Role: setting.Role{Verbs: []string{"access", "see-counts", "see-causes", "see-metadata", "logbook"}}}
	d.Somebody("lana", person, "team-owner", "coldchain")
	for name, c := range map[string]struct {
		by   context.Context
		of   string
		says string
	}{
		"a viewer":                       {d.Somebody("vera", person, "viewer", "*"), "ines", "may not access"},
		"somebody for themselves":        {d.Somebody("olga", person, "viewer", "*"), "olga", "may not access"},
		"a clerk for who may more":       {d.Somebody("carla", person, "clerk", "principals", clerk), "lana", "carla may not access coldchain"},
		"a chief for who may more":       {d.Somebody("conny", person, "chief", "*", chief), "lana", "may not do there itself"},
		"the owner for a machine":        {accesstest.Owner(t), "build-42", "there is no principal"},
		"the owner for the owner":        {accesstest.Owner(t), "owner", "and not of the owner"},
		"a chief for who may less":       {d.Somebody("cora", person, "chief", "*"), "vera", ""},
		"the owner for who may all else": {accesstest.Owner(t), "lana", ""},
	} {
		_, _, err := d.Accounts.Invite(c.by, "x", c.of)
		closed := d.Accounts.Close(c.by, "x", c.of)
		if c.says == "" {
			assert.NoError(t, err, name)
			assert.NoError(t, closed, name)
		} else {
			assert.ErrorContains(t, err, c.says, name)
			assert.ErrorContains(t, closed, c.says, name)
		}
	}
}

// Switched off, nobody gets in and nobody is invited.
func TestAccountsCanBeSwitchedOff(t *testing.T) {
	d := open(t)
	off := accounts.New(d.Catalog, d.ring(0), true, d.Access.MayHandle)
	assert.False(t, off.On())
	_, err := off.Enter(t.Context(), "ines", password, d.code())
	assert.ErrorContains(t, err, "switched off")
	_, _, err = off.Invite(accesstest.Owner(t), "owner", "ines")
	assert.ErrorContains(t, err, "switched off")
	_, err = off.Invitation(t.Context(), "i-x", "x")
	assert.ErrorContains(t, err, "switched off")
	without := accounts.New(d.Catalog, nil, false, d.Access.MayHandle)
	_, _, err = without.Invite(accesstest.Owner(t), "owner", "ines")
	assert.ErrorContains(t, err, "-seal-keys")
}

// ring has keys of these bytes.
func (d *desk) ring(bytesOf ...byte) seal.Ring {
	var text string
	for _, b := range bytesOf {
		text += base64.StdEncoding.EncodeToString(bytes.Repeat([]byte{b}, 32)) + "\n"
	}
	ring, err := seal.Parse([]byte(text))
	require.NoError(d.t, err)
	return ring
}

// Secrets of codes are sealed: they open with the keys of the nodes, for their account alone, and
// are sealed anew with another key.
func TestCodesAreSealed(t *testing.T) {
	d := open(t)
	all, err := ledger.Of(d.Catalog).Accounts(t.Context())
	require.NoError(t, err)
	require.Len(t, all, 1)
	assert.NotContains(t, string(all[0].Codes), d.codes)
	assert.NotContains(t, all[0].Password, password)

	anew, of, err := accounts.Rekey(t.Context(), d.Catalog, d.ring(1, 0))
	require.NoError(t, err)
	assert.Equal(t, []int{1, 1}, []int{anew, of})
	anew, _, err = accounts.Rekey(t.Context(), d.Catalog, d.ring(1, 0))
	require.NoError(t, err)
	assert.Zero(t, anew)
	assert.ErrorContains(t, d.enter("ines", password, d.code()), "cannot read", "with the old key alone")
	newer := accounts.New(d.Catalog, d.ring(1), false, d.Access.MayHandle)
	_, err = newer.Enter(t.Context(), "ines", password, d.code())
	require.NoError(t, err)
	_, _, err = accounts.Rekey(t.Context(), d.Catalog, d.ring(2))
	assert.ErrorContains(t, err, "the account of ines")
}

// What is done with accounts is in the logbook, without what nobody may know.
func TestTheLogbookTellsOfAccounts(t *testing.T) {
	d := open(t)
	require.NoError(t, d.Accounts.Change(t.Context(), "ines", password, d.code(), another))
	require.NoError(t, d.Accounts.Close(accesstest.Owner(t), "owner", "ines"))
	rows, err := catalog.List[string](t.Context(), d.Catalog, `SELECT who || ' ' || action || ' ' || address || coalesce(after::text, '') FROM logbook WHERE address = 'principals/ines' ORDER BY id`)
	require.NoError(t, err)
	require.Len(t, rows, 4)
	for i, begins := range []string{"owner invite principals/ines", "ines accept invitation", "ines set password", "owner close account"} {
		assert.Contains(t, rows[i], begins)
		assert.NotContains(t, rows[i], d.codes)
		assert.NotContains(t, rows[i], "argon2id")
	}
}
