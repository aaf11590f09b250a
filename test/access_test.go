package test

import (
	"bufio"
	"encoding/json"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/client"
	"steadyferry/test/harness"
)

func newToken(t *testing.T, n *harness.Node, args ...string) (token client.Token) {
	t.Helper()
	require.NoError(t, json.Unmarshal([]byte(n.Must(append([]string{"access", "new", "-json"}, args...)...)), &token))
	return token
}

// statusWith is what a node says to a token.
func statusWith(t *testing.T, n *harness.Node, token string) int {
	t.Helper()
	return n.Ask("GET", "/api/v1/session", "", "Authorization", "Bearer "+token).Status
}

// What is revoked is refused at once on every node, also where it has a stream
// open.
func TestARevokedTokenIsRefusedEverywhere(t *testing.T) {
	c := harness.StartCluster(t, 2)
	a, b := c.Nodes[0], c.Nodes[1]
	a.Topic("coldchain/readings", 1)
	token := newToken(t, a, "-label", "night reports", "-expires", "30d")
	require.Eventually(t, func() bool { return statusWith(t, b, token.Token) == 200 }, 20*time.Second, 20*time.Millisecond)
	listed := b.Must("access")
	assert.Contains(t, listed, "night reports")
	assert.NotContains(t, listed, token.Token, "a token is told only once")

	request, err := http.NewRequestWithContext(t.Context(), "GET", b.URL+"/api/v1/channels/coldchain/readings/tail", nil)
	require.NoError(t, err)
	request.Header.Set("Authorization", "Bearer "+token.Token)
	stream, err := http.DefaultClient.Do(request)
	require.NoError(t, err)
	defer stream.Body.Close()
	require.Equal(t, 200, stream.StatusCode)
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		for in := bufio.NewScanner(stream.Body); in.Scan(); {
		}
	}()

	assert.Contains(t, a.Must("access", "revoke", token.ID), "nothing is changed yet")
	assert.Equal(t, 200, statusWith(t, a, token.Token))
	a.Must("access", "revoke", token.ID, "-yes")
	assert.Equal(t, 401, statusWith(t, a, token.Token), "the node that revoked it refuses it at once")
	require.Eventually(t, func() bool { return statusWith(t, b, token.Token) == 401 }, 2*time.Second, 10*time.Millisecond)
	select {
	case <-ended:
	case <-time.After(3 * time.Second):
		t.Fatal("the open stream goes on with a revoked token")
	}
	assert.NotContains(t, a.Must("access"), token.ID)
}

// An owner's token that has leaked can be replaced; a restart brings none of
// it back.
func TestTheOwnersTokenCanBeReplaced(t *testing.T) {
	dir := harness.Dir(t)
	n := harness.StartIn(t, dir)
	old := n.Token
	var own client.Secret
	require.NoError(t, json.Unmarshal([]byte(strings.Split(n.Must("access", "-json"), "\n")[0]), &own))
	require.True(t, own.Own)
	text := strings.Fields(n.Must("access", "rotate", own.ID, "-yes"))[0]
	assert.Equal(t, 401, statusWith(t, n, old))
	assert.Equal(t, 200, statusWith(t, n, text))

	n.Kill()
	n = harness.StartIn(t, dir)
	assert.Equal(t, 401, statusWith(t, n, old), "it does not come back with a start")
	written, err := os.ReadFile(filepath.Join(dir, "owner.token"))
	require.NoError(t, err)
	assert.Equal(t, 200, statusWith(t, n, strings.TrimSpace(string(written))), "the file has a token in force")
}

func TestTokensEndAndSaySo(t *testing.T) {
	n := harness.Start(t)
	for want, args := range map[string][]string{
		"-label is missing":    {"access", "new"},
		"1m to 3650d":          {"access", "new", "-label", "x", "-expires", "1s"},
		"nothing in force has": {"access", "revoke", "0123456789ab", "-yes"},
		"allowed: new, break-glass, confirm, decline, end-sessions, grants": {"access", "invent"},
		"takes an id after it": {"access", "revoke"},
	} {
		_, errOut, code := n.Ferry("", args...)
		assert.NotZero(t, code, args)
		assert.Contains(t, errOut, want, args)
	}
}

// A session cannot live on in links that it makes, nor be ended by what is not
// a session.
func TestASessionDoesNotLiveOnInLinks(t *testing.T) {
	n := harness.Start(t)
	signIn := func() string {
		answer := n.Ask("POST", "/api/v1/session", `{"token":"`+n.Token+`"}`, "Content-Type", "application/json", "Authorization", "", "Sec-Fetch-Site", "same-origin")
		require.Equal(t, 200, answer.Status, answer.Body)
		cookie, _, _ := strings.Cut(answer.Header.Get("Set-Cookie"), ";")
		return cookie
	}
	with := func(cookie, method, path string) harness.Answer {
		return n.Ask(method, path, "", "Authorization", "", "Cookie", cookie, "Sec-Fetch-Site", "same-origin")
	}
	first := signIn()
	require.Equal(t, 201, with(first, "POST", "/api/v1/links").Status)
	conn, err := pgx.Connect(t.Context(), n.Database())
	require.NoError(t, err)
	_, err = conn.Exec(t.Context(), `UPDATE secrets SET created_at = created_at - interval '11 minutes' WHERE kind = 'session'`)
	require.NoError(t, err)
	require.NoError(t, conn.Close(t.Context()))
	n.Must("new", "space", "coldchain") // the records are read again
	require.Eventually(t, func() bool { return with(first, "POST", "/api/v1/links").Status == 403 }, 10*time.Second, 50*time.Millisecond)
	assert.Contains(t, with(first, "POST", "/api/v1/links").Body, "ferry access link")
	second := signIn()
	require.Equal(t, 201, with(second, "POST", "/api/v1/links").Status)

	// The owner's token put in the place of a session ends nothing.
	assert.NotEqual(t, 500, with("ferry_session="+n.Token, "DELETE", "/api/v1/session").Status)
	assert.Equal(t, 200, statusWith(t, n, n.Token))

	assert.Contains(t, n.Must("access", "end-sessions"), "it would end 2 sessions")
	assert.Contains(t, n.Must("access", "end-sessions", "-yes"), "ended 2 sessions")
	assert.Equal(t, 401, with(second, "GET", "/api/v1/session").Status)
}

// The help of a command shows no secret of the environment.
func TestHelpTellsNoSecrets(t *testing.T) {
	for _, command := range [][]string{{"ferryd", "verify", "-h"}, {"ferryd", "serve", "-h"}, {"ferryd", "demo", "-h"}, {"ferryd", "certs", "-h"}, {"ferry", "help", "send"}, {"ferry", "send", "-h"}} {
		cmd := exec.Command(harness.Binary(t, command[0]), command[1:]...)
		cmd.Env = append(os.Environ(), "FERRY_TOKEN=t-SECRET", "FERRYD_DATABASE=postgres://u:t-SECRET@h/d")
		out, _ := cmd.CombinedOutput()
		assert.NotEmpty(t, out, command)
		assert.NotContains(t, string(out), "t-SECRET", command)
	}
}

// Roles, masks and people are changed from the command line, which says first who gains and loses what.
func TestRolesAndMasksAreChanged(t *testing.T) {
	t.Parallel()
	n := harness.Start(t)
	n.Topic("coldchain/readings", 1)
	n.Must("access", "new", "role", "packer", "-verbs", "publish,see-counts")
	n.Must("access", "new", "person", "ines")
	n.Must("access", "new", "grant", "ines", "-role", "packer", "-on", "coldchain", "-yes")
	out := n.Must("access", "set", "role", "packer", "-verbs", "lease,see-counts")
	assert.Contains(t, out, "ines gains lease on coldchain")
	assert.Contains(t, out, "ines loses publish on coldchain")
	assert.Contains(t, out, "nothing is changed yet")
	assert.Regexp(t, `packer +publish see-counts`, n.Must("access", "roles"))
	n.Must("access", "set", "role", "packer", "-verbs", "lease,see-counts", "-yes")
	assert.Regexp(t, `packer +lease see-counts`, n.Must("access", "roles"))

	n.Must("access", "new", "mask", "boxes", "-on", "coldchain/*", "-fields", "key", "-for-roles", "packer", "-yes")
	n.Must("access", "set", "mask", "boxes", "-fields", "key,/box", "-show", "hashed", "-yes")
	assert.Regexp(t, `boxes +coldchain/\* +key /box +hashed +packer`, n.Must("access", "masks"))
	n.Must("access", "set", "ines", "-teams", "desk", "-yes")
	assert.Regexp(t, `ines +person +desk`, n.Must("access", "principals"))

	for says, args := range map[string][]string{
		"the role viewer is built in":                 {"set", "role", "viewer", "-verbs", "publish"},
		"there is no role paker; did you mean packer": {"set", "role", "paker", "-verbs", "publish"},
		"there is no mask":                            {"set", "mask", "nothing", "-fields", "key"},
		"a role that lets do nothing":                 {"set", "role", "packer", "-verbs", ""},
		"nothing is set":                              {"set", "role", "packer"},
		"is not something that ferry access sets":     {"set", "grant", "x"},
		"takes a name":                                {"set"},
	} {
		_, said, code := n.Ferry("", append([]string{"access"}, args...)...)
		assert.NotZero(t, code, "%v", args)
		assert.Contains(t, said, says, "%v", args)
	}
	log := n.Must("logbook", "-json")
	assert.Contains(t, log, `"set role"`)
	assert.Contains(t, log, `"set mask"`)
}
