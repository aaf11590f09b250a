package test

import (
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/account"
)

// A person whom no provider knows is invited on the command line, begins the account in a browser,
// comes back with it, and changes the password.
func TestAPersonComesByAnAccount(t *testing.T) {
	t.Parallel()
	n := gated(t)
	n.Must("access", "new", "person", "ines", "-teams", "desk")
	out := n.Must("access", "new", "account", "ines")
	assert.Contains(t, out, "it works once")
	address, _, _ := strings.Cut(out, "\n")
	require.True(t, strings.HasPrefix(address, n.URL+"/invited#i-"), out)
	assert.Contains(t, n.Must("access", "principals"), "here (invited)")
	conn, err := pgx.Connect(t.Context(), n.Database())
	require.NoError(t, err)
	defer conn.Close(t.Context())

	p := strange(t, n)
	p.open(strings.TrimPrefix(address, n.URL))
	p.says("Welcome, ines")
	p.wait(`location.hash === ""`)
	p.accessible("an invitation")
	var secret string
	require.NoError(t, p.Eval(`document.querySelector("form .address").textContent.replaceAll(" ", "")`, &secret))
	const first, second = "kolme venettä ja hinaaja", "neljä lauttaa ja majakka"
	fill := func(label, text string) {
		t.Helper()
		if label == "Code" {
			_, err := conn.Exec(t.Context(), `UPDATE accounts SET step = 0`) // as if time had gone on
			require.NoError(t, err)
			text, err = account.Code(secret, time.Now())
			require.NoError(t, err)
		}
		p.fill(label, text)
	}
	fill("Password", "password1234")
	p.says("not taken")
	fill("Password", first)
	p.says("hard to guess")
	p.accessible("an invitation with a password")
	fill("Code", "")
	p.click("Begin")
	p.wait(`[...document.querySelectorAll("header a")].some(a => a.textContent === "ines")`)
	p.open("/channels")
	p.says("coldchain/inspections")
	assert.Contains(t, n.Must("access", "principals"), "here ")

	p.click("Sign out")
	p.says("Name and password")
	p.accessible("signing in with an account")
	p.fill("Name", "ines")
	fill("Password", second)
	fill("Code", "")
	p.click("Sign in with the password")
	p.says("the name, the password or the code is not right")
	fill("Password", first)
	fill("Code", "")
	p.click("Sign in with the password")
	p.wait(`document.querySelector("nav")`)

	p.click("Change your password")
	p.accessible("changing a password")
	fill("Password until now", first)
	fill("New password", second)
	fill("Code", "")
	p.click("Change it")
	p.says("The password is changed")
	p.open("/channels")
	p.says("coldchain/inspections")

	p.open(strings.TrimPrefix(address, n.URL))
	p.says("this invitation is not in force")
	said, _, _ := n.Ferry("", "access", "remove", "account", "ines")
	assert.Contains(t, said, "nothing is changed yet")
	n.Must("access", "remove", "account", "ines", "-yes")
	p.open("/channels")
	p.says("Sign in")
	log := n.Must("logbook", "-json", "-all")
	for _, action := range []string{"invite", "accept invitation", "set password", "close account"} {
		assert.Contains(t, log, `"`+action+`"`)
	}
	assert.NotContains(t, log, secret)
	assert.NotContains(t, log, first)
}
