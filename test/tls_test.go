package test

import (
	"bytes"
	"crypto/tls"
	"crypto/x509"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/test/harness"
)

// A node serves TLS with a certificate of its own authority, goes on with another one when its
// files change, and with the one of before while they are broken.
func TestANodeServesTLS(t *testing.T) {
	t.Parallel()
	certs := t.TempDir()
	ferryd := harness.Binary(t, "ferryd")
	renew := func() {
		out, err := exec.Command(ferryd, "certs", "-tls-dir", certs, "-nodes", "node-a", "-hosts", "127.0.0.1,localhost").CombinedOutput()
		require.NoError(t, err, string(out))
	}
	renew()
	free, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	at := free.Addr().String()
	require.NoError(t, free.Close())
	dir := harness.Dir(t)
	cert, key := filepath.Join(certs, "node-a.pem"), filepath.Join(certs, "node-a-key.pem")
	node := exec.Command(ferryd, "serve", "-dir", dir, "-listen", at, "-database", harness.NewDatabase(t, harness.SharedDatabase(t)), "-tls-cert", cert, "-tls-key", key)
	var log bytes.Buffer
	node.Stderr = &log
	require.NoError(t, node.Start())
	t.Cleanup(func() { node.Process.Signal(os.Interrupt); node.Wait() })

	authority, err := os.ReadFile(filepath.Join(certs, "ca.pem"))
	require.NoError(t, err)
	pool := x509.NewCertPool()
	require.True(t, pool.AppendCertsFromPEM(authority))
	get := func(path string) (*http.Response, error) {
		h := &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: pool}, ForceAttemptHTTP2: true, DisableKeepAlives: true}, Timeout: 5 * time.Second}
		r, err := h.Get("https://" + at + path)
		if err == nil {
			r.Body.Close()
		}
		return r, err
	}
	var answer *http.Response
	require.Eventually(t, func() bool { answer, err = get("/healthz"); return err == nil }, 60*time.Second, 50*time.Millisecond)
	assert.Equal(t, "HTTP/2.0", answer.Proto)
	assert.Equal(t, "max-age=17280000", answer.Header.Get("Strict-Transport-Security"))
	require.Eventually(t, func() bool { _, err := os.Stat(filepath.Join(dir, "owner.token")); return err == nil }, 60*time.Second, 50*time.Millisecond)
	ferry := func(server, ca string, args ...string) string {
		token, err := os.ReadFile(filepath.Join(dir, "owner.token"))
		require.NoError(t, err)
		cmd := exec.Command(harness.Binary(t, "ferry"), args...)
		cmd.Env = []string{"FERRY_SERVER=" + server, "FERRY_TOKEN=" + strings.TrimSpace(string(token)), "FERRY_CA=" + ca, "HOME=" + dir}
		out, _ := cmd.CombinedOutput()
		return string(out)
	}
	ca := filepath.Join(certs, "ca.pem")
	assert.Contains(t, ferry("https://"+at, ca, "new", "space", "coldchain"), "created")
	assert.Contains(t, ferry("https://"+at, ca, "nodes"), "https://"+at)
	assert.Contains(t, ferry("https://"+at, "", "list"), "certificate signed by unknown authority")
	assert.Contains(t, ferry("https://"+at, key, "list"), "there is no certificate in it")
	assert.NotContains(t, ferry("http://"+at, ca, "list"), "coldchain", "not in the clear")

	// The cookie of a session is for this host alone, and for TLS.
	token, err := os.ReadFile(filepath.Join(dir, "owner.token"))
	require.NoError(t, err)
	browser := &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: pool}}, Timeout: 20 * time.Second}
	signedIn, err := browser.Post("https://"+at+"/api/v1/session", "application/json", strings.NewReader(`{"token":"`+strings.TrimSpace(string(token))+`"}`))
	require.NoError(t, err)
	signedIn.Body.Close()
	require.Len(t, signedIn.Cookies(), 1)
	cookie := signedIn.Cookies()[0]
	assert.Equal(t, "__Host-ferry_session", cookie.Name)
	assert.True(t, cookie.Secure && cookie.HttpOnly && cookie.Path == "/" && cookie.Domain == "" && cookie.SameSite == http.SameSiteStrictMode, "%v", cookie)
	for name, status := range map[string]int{"__Host-ferry_session": 200, "ferry_session": 401} {
		r, err := http.NewRequest("GET", "https://"+at+"/api/v1/session", nil)
		require.NoError(t, err)
		r.AddCookie(&http.Cookie{Name: name, Value: cookie.Value})
		answer, err := browser.Do(r)
		require.NoError(t, err)
		answer.Body.Close()
		assert.Equal(t, status, answer.StatusCode, name)
	}

	serial := answer.TLS.PeerCertificates[0].SerialNumber.String()
	now := func() string {
		answer, err := get("/healthz")
		if err != nil {
			return err.Error()
		}
		return answer.TLS.PeerCertificates[0].SerialNumber.String()
	}
	require.NoError(t, os.WriteFile(key, []byte("x"), 0o600))
	require.Never(t, func() bool { return now() != serial }, 7*time.Second, 500*time.Millisecond, "the one of before goes on")
	renew()
	require.Eventually(t, func() bool { return now() != serial }, 30*time.Second, 200*time.Millisecond)
}

// Without TLS a node stays on loopback, unless it is said in words that something before it speaks
// TLS.
func TestNothingInTheClearOnANetwork(t *testing.T) {
	t.Parallel()
	refused := func(args ...string) string {
		out, err := exec.Command(harness.Binary(t, "ferryd"), append([]string{"serve", "-dir", t.TempDir()}, args...)...).CombinedOutput()
		var exit *exec.ExitError
		require.ErrorAs(t, err, &exit)
		assert.Equal(t, 2, exit.ExitCode())
		return string(out)
	}
	for _, listen := range []string{"0.0.0.0:0", ":0", "192.0.2.1:14720", "ferry.example:14720"} {
		assert.Contains(t, refused("-listen", listen), "is not on loopback: give -tls-cert and -tls-key", listen)
	}
	assert.Contains(t, refused("-tls-cert", "x"), "both are needed")
	for _, url := range []string{"ferry.example", "ftp://ferry.example", "https://ferry.example/x", "https://a:b@ferry.example"} {
		assert.Contains(t, refused("-public-url", url), "-public-url", url)
	}
}

// A machine gets in with a certificate that an authority has signed and a rule gives a name to: it may
// what its name was given, for as long as that is there. What is signed by others, or fits no rule, is
// nobody.
func TestMachinesComeWithCertificates(t *testing.T) {
	t.Parallel()
	certs, machines, strangers := t.TempDir(), t.TempDir(), t.TempDir()
	ferryd := harness.Binary(t, "ferryd")
	for dir, args := range map[string][]string{certs: {"-nodes", "node-a", "-hosts", "127.0.0.1"}, machines: {"-nodes", "", "-clients", "build-42,relay-1,owner"}, strangers: {"-nodes", "", "-clients", "build-42"}} {
		out, err := exec.Command(ferryd, append([]string{"certs", "-tls-dir", dir}, args...)...).CombinedOutput()
		require.NoError(t, err, string(out))
	}
	out, err := exec.Command(ferryd, "certs", "-tls-dir", machines, "-nodes", "", "-clients", "lost-1").CombinedOutput()
	require.NoError(t, err, string(out))
	out, err = exec.Command(ferryd, "certs", "-tls-dir", machines, "-revoke", "lost-1").CombinedOutput()
	require.NoError(t, err, string(out))
	rules := filepath.Join(machines, "sign-in.yaml")
	require.NoError(t, os.WriteFile(rules, []byte("certificates:\n  authorities: "+filepath.Join(machines, "ca.pem")+"\n  revoked: "+filepath.Join(machines, "revoked.pem")+"\n  rules:\n    - {of: name, fits: \"build-*\"}\n    - {of: name, fits: owner}\n"), 0o600))
	free, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	at := free.Addr().String()
	require.NoError(t, free.Close())
	out, err = exec.Command(ferryd, "serve", "-dir", t.TempDir(), "-listen", at, "-sign-in", rules).CombinedOutput()
	require.Error(t, err)
	assert.Contains(t, string(out), "certificates of clients come over TLS alone")

	dir := harness.Dir(t)
	node := exec.Command(ferryd, "serve", "-dir", dir, "-listen", at, "-database", harness.NewDatabase(t, harness.SharedDatabase(t)), "-tls-cert", filepath.Join(certs, "node-a.pem"), "-tls-key", filepath.Join(certs, "node-a-key.pem"), "-sign-in", rules)
	require.NoError(t, node.Start())
	t.Cleanup(func() { node.Process.Signal(os.Interrupt); node.Wait() })
	ferry := func(cert, token string, args ...string) string {
		cmd := exec.Command(harness.Binary(t, "ferry"), args...)
		cmd.Env = []string{"FERRY_SERVER=https://" + at, "FERRY_TOKEN=" + token, "FERRY_CERT=" + cert, "FERRY_CA=" + filepath.Join(certs, "ca.pem"), "HOME=" + dir}
		out, _ := cmd.CombinedOutput()
		return string(out)
	}
	build, relay, owner, stranger := filepath.Join(machines, "build-42.pem"), filepath.Join(machines, "relay-1.pem"), filepath.Join(machines, "owner.pem"), filepath.Join(strangers, "build-42.pem")
	var token []byte
	require.Eventually(t, func() bool {
		token, err = os.ReadFile(filepath.Join(dir, "owner.token"))
		return err == nil && strings.Contains(ferry("", strings.TrimSpace(string(token)), "new", "space", "coldchain"), "created")
	}, 60*time.Second, 100*time.Millisecond)
	as := strings.TrimSpace(string(token))
	assert.Contains(t, ferry(build, "", "list"), "not let in", "there is no such principal yet")
	ferry("", as, "new", "topic", "coldchain/readings")
	ferry("", as, "access", "new", "machine", "build-42")
	ferry("", as, "access", "new", "machine", "relay-1")
	ferry("", as, "access", "new", "grant", "build-42", "-role", "publisher", "-on", "coldchain/readings", "-yes")
	assert.Contains(t, ferry(build, "", "send", "coldchain/readings", "-body", "{}"), "sent 1 message")
	assert.Contains(t, ferry(build, "", "load", "coldchain/readings", "-count", "2000", "-publishers", "1", "-batch", "100"), "2,000", "streams and fast publishers come with it too")
	assert.Contains(t, ferry(build, "", "browse", "coldchain/readings"), "build-42 may not")
	assert.Contains(t, ferry(build, "t-wrong", "send", "coldchain/readings", "-body", "{}"), "not let in", "a token comes first")
	for who, cert := range map[string]string{"no rule": relay, "the owner": owner} {
		assert.Contains(t, ferry(cert, "", "list"), "not let in", who)
	}
	assert.Contains(t, ferry(stranger, "", "list"), "certificate", "another authority")
	assert.Contains(t, ferry(filepath.Join(machines, "ca.pem"), "", "list"), "-cert ", "it has no key")

	ferry("", as, "access", "new", "grant", "build-42", "-role", "team-owner", "-on", "coldchain/readings", "-yes")
	assert.Contains(t, ferry(build, "", "set", "coldchain/readings", "-description", "boxes", "-yes"), "done")
	assert.Regexp(t, `"credential": *"certificate [0-9a-f]{12}"`, ferry("", as, "logbook", "-who", "build-42", "-json"))
	// What its authority has revoked counts no more, without another start, and nor does the next of its name.
	read := exec.CommandContext(t.Context(), harness.Binary(t, "ferry"), "tail", "coldchain/readings")
	var said strings.Builder
	read.Stdout, read.Stderr, read.Env = &said, &said, []string{"FERRY_SERVER=https://" + at, "FERRY_CERT=" + build, "FERRY_CA=" + filepath.Join(certs, "ca.pem"), "HOME=" + dir}
	require.NoError(t, read.Start())
	ended := make(chan error, 1)
	go func() { ended <- read.Wait() }()
	time.Sleep(500 * time.Millisecond)
	require.Empty(t, ended, "it reads on: %s", said.String())
	out, err = exec.Command(ferryd, "certs", "-tls-dir", machines, "-revoke", "build-42").CombinedOutput()
	require.NoError(t, err, string(out))
	assert.Contains(t, string(out), "2 certificates revoked")
	require.Eventually(t, func() bool {
		return strings.Contains(ferry(build, "", "send", "coldchain/readings", "-body", "{}"), "not let in")
	}, 20*time.Second, 500*time.Millisecond)
	select {
	case <-ended:
		assert.Contains(t, said.String(), "not let in")
	case <-time.After(20 * time.Second):
		assert.Fail(t, "a stream of what was revoked goes on")
		_ = read.Process.Kill()
	}
	out, err = exec.Command(ferryd, "certs", "-tls-dir", machines, "-nodes", "", "-clients", "build-42").CombinedOutput()
	require.NoError(t, err, string(out))
	assert.Contains(t, ferry(build, "", "send", "coldchain/readings", "-body", "{}"), "sent 1 message", "another certificate of the same")

	ferry("", as, "access", "set", "build-42", "-paused", "-yes")
	assert.Contains(t, ferry(build, "", "send", "coldchain/readings", "-body", "{}"), "build-42 is shut out")
	ferry("", as, "access", "remove", "machine", "build-42", "-yes")
	assert.Contains(t, ferry(build, "", "send", "coldchain/readings", "-body", "{}"), "not let in")
}
