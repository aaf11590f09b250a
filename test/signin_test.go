package test

import (
	"bufio"
	"bytes"
	"context"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/engine/outside/gatehouse"
	"steadyferry/test/browser"
	"steadyferry/test/harness"
)

// gated is a node at which people sign in at a provider, which vouches for three.
func gated(t *testing.T) *harness.Node {
	t.Helper()
	var handler http.Handler
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { handler.ServeHTTP(w, r) }))
	t.Cleanup(server.Close)
	house := gatehouse.New(server.URL+"/people", "steady-ferry", []gatehouse.Person{{Name: "help-desk-1", Groups: []string{"outside-desk"}}, {Name: "lead", Groups: []string{"leads"}}, {Name: "owner"}})
	handler = house.Handler()
	path := filepath.Join(t.TempDir(), "sign-in.yaml")
	text := fmt.Sprintf("providers:\n  - {name: northlight, label: Northlight, issuer: %s/people, client: steady-ferry, teams: [{claim: groups, holds: outside-desk, team: desk}, {claim: groups, holds: leads, team: leads}]}\n", server.URL)
	require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
	n := harness.Start(t, "-sign-in", path)
	n.Must("new", "space", "coldchain")
	n.Must("new", "queue", "coldchain/inspections")
	n.Must("access", "new", "grant", "team:desk", "-role", "help-desk", "-on", "coldchain/inspections", "-yes")
	n.Must("access", "new", "grant", "team:leads", "-role", "team-owner", "-on", "coldchain", "-yes")
	return n
}

// strange is a browser in which nobody has signed in.
func strange(t *testing.T, n *harness.Node) *page {
	t.Helper()
	b, err := browser.Start(context.Background())
	require.NoError(t, err)
	t.Cleanup(b.Close)
	return &page{b, t, n}
}

// People sign in by a click where they are known, come to the page that they wanted, and are told
// why when they are not let in.
func TestPeopleSignInWhereTheyAreKnown(t *testing.T) {
	t.Parallel()
	n := gated(t)
	p := strange(t, n)
	p.open("/access?show=roles")
	p.says("Sign in at Northlight")
	p.accessible("signing in")
	p.click("Sign in at Northlight")
	p.says("The gatehouse")
	p.click("help-desk-1")
	p.wait(`location.pathname + location.search === "/access?show=roles"`)
	p.says("Who may do what")
	p.wait(`[...document.querySelectorAll("header a")].some(a => a.textContent === "help-desk-1")`)
	p.open("/channels")
	p.says("coldchain/inspections")
	assert.Contains(t, n.Must("access", "principals"), "help-desk on coldchain/inspections")
	assert.Contains(t, n.Must("logbook"), "sign in")
	p.click("Sign out")
	p.says("Sign in at Northlight")

	p.click("Sign in at Northlight")
	p.click("owner")
	p.says("You are not let in")
	p.accessible("not let in")
	p.open("/sign-in?failed=away&provider=northlight")
	p.says("does not answer")
	p.open("/sign-in?failed=Call%20us")
	p.says("Sign in at Northlight")
	p.wait(`!document.body.innerText.includes("Call us")`)

	// Where nobody sends people back to is not believed.
	for _, to := range []string{"https://elsewhere.example/", "//elsewhere.example", `/\elsewhere.example`, "javascript:alert(1)"} {
		p.open("/api/v1/sign-in/northlight?to=" + strings.NewReplacer("/", "%2F", ":", "%3A", `\`, "%5C").Replace(to))
		p.click("help-desk-1")
		p.wait(fmt.Sprintf(`location.origin === %q && document.querySelector("nav")`, n.URL))
	}
	// What was not begun here is not finished here.
	r := n.Ask("GET", "/api/v1/sign-in/northlight/done?state=x&code=y&iss=z", "")
	assert.Contains(t, r.Body, "<html") // it went on to the page that says why
	assert.Equal(t, 404, n.Ask("GET", "/api/v1/sign-in/elsewhere", "").Status)
}

// A session that was begun a while ago is asked for again before a dangerous step, which then is
// done; one that nobody uses ends.
func TestDangerousStepsTakeWhoIsThere(t *testing.T) {
	t.Parallel()
	n := gated(t)
	p := strange(t, n)
	p.open("/")
	p.click("Sign in at Northlight")
	p.click("lead")
	p.wait(`document.querySelector("nav")`)
	age := func(session, expires string) {
		conn, err := pgx.Connect(t.Context(), n.Database())
		require.NoError(t, err)
		defer conn.Close(t.Context())
		_, err = conn.Exec(t.Context(), fmt.Sprintf(`UPDATE secrets SET created_at = now() - interval '%s', expires_at = now() + interval '%s' WHERE kind = 'session'`, session, expires))
		require.NoError(t, err)
	}
	age("11 minutes", "30 minutes")
	p.open("/access?show=grants")
	p.click("New grant")
	p.fill("To", "team:desk")
	p.fill("Role", "consumer")
	p.fill("On", "coldchain/inspections")
	p.says("gains")
	p.click("Give it")
	p.says("This step takes lead, and lately")
	p.accessible("sign in again")
	p.fill("Token", "t-wrong")
	p.click("Sign in with the token")
	p.says("this token or link is not in force")
	age("1 minute", "30 minutes") // somebody signed in, in the other window
	require.NoError(t, p.Run(`new BroadcastChannel("ferry-signed-in").postMessage("")`))
	p.wait(`document.querySelector("table")?.innerText.includes("consumer")`)

	// A page that is left open is no use of the session.
	age("5 hours", "2 seconds")
	p.says("Sign in at Northlight")
	time.Sleep(100 * time.Millisecond)
	assert.NotContains(t, n.Must("access"), "session")
}

// On the command line people sign in with a browser that may be elsewhere, do what they may, and
// sign out.
func TestSigningInOnTheCommandLine(t *testing.T) {
	t.Parallel()
	n := gated(t)
	p := strange(t, n)
	home := t.TempDir()
	ferry := func(args ...string) *exec.Cmd {
		cmd := exec.Command(harness.Binary(t, "ferry"), append(args, "-server", n.URL)...)
		cmd.Env = []string{"HOME=" + home, "XDG_CONFIG_HOME=" + home}
		return cmd
	}
	says := func(cmd *exec.Cmd) string {
		out, _ := cmd.CombinedOutput()
		return string(out)
	}
	assert.Contains(t, says(ferry("list")), "ferry sign-in asks a browser")
	for _, let := range []string{"Do not", "Let it in as help-desk-1"} {
		var out bytes.Buffer
		cmd := ferry("sign-in")
		cmd.Stderr = &out
		pipe, err := cmd.StdoutPipe()
		require.NoError(t, err)
		require.NoError(t, cmd.Start())
		lines := bufio.NewReader(pipe)
		line, err := lines.ReadString('\n')
		require.NoError(t, err, out.String())
		p.open(strings.TrimPrefix(strings.TrimSpace(strings.TrimPrefix(line, "open")), n.URL))
		if let == "Do not" {
			p.click("Sign in at Northlight")
			p.click("help-desk-1")
		}
		p.says("wants to do what help-desk-1 may")
		p.accessible("letting a program in")
		p.click(let)
		p.says(map[bool]string{true: "It is not let in.", false: "It is let in as help-desk-1."}[let == "Do not"])
		rest, err := io.ReadAll(lines)
		require.NoError(t, err)
		ended := cmd.Wait()
		if let == "Do not" {
			assert.Error(t, ended)
			assert.Contains(t, out.String(), "it was not let in")
			continue
		}
		require.NoError(t, ended, out.String())
		assert.Contains(t, string(rest), "signed in as help-desk-1")
	}
	listed := says(ferry("list"))
	assert.Contains(t, listed, "coldchain/inspections")
	assert.Contains(t, listed, "only what you may see is shown")
	assert.Contains(t, says(ferry("send", "coldchain/inspections", "-body", "{}")), "help-desk-1 may not publish coldchain/inspections")
	assert.Contains(t, n.Must("access"), "ferry on ")
	assert.Contains(t, says(ferry("sign-in", "-out")), "signed out")
	assert.NotContains(t, n.Must("access"), "ferry on ")
	assert.Contains(t, says(ferry("sign-in", "-out")), "nobody is signed in here")
	assert.Contains(t, says(ferry("list")), "not let in")
}
