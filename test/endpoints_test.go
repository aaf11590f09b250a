package test

import (
	"encoding/json"
	"fmt"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/cmd/ferryd/clinic"
	"steadyferry/internal/core/form"
	"steadyferry/test/harness"
)

// toLoopback are the flags of a node whose endpoints are on this machine.
var toLoopback = []string{"-outside-networks", "loopback", "-outside-schemes", "http,ferry+http,postgresql"}

// clinicSecret is what the stand-in of tests knows, and its file.
func clinicSecret(t *testing.T) (secret, file string) {
	t.Helper()
	secret, file = "northlight-clinics-know-this", filepath.Join(t.TempDir(), "secret")
	require.NoError(t, os.WriteFile(file, []byte(secret+"\n"), 0o600))
	return secret, file
}

// An endpoint is made, tried, fails, is mended, and gets each message once, with ferry
// alone.
func TestAnEndpointFromTheCommandLine(t *testing.T) {
	n := harness.Start(t, toLoopback...)
	secret, file := clinicSecret(t)
	hook := clinic.New(secret)
	server := httptest.NewServer(hook)
	defer server.Close()
	recalls := n.Topic("coldchain/recalls", 2)
	const to, route = "coldchain/clinic-hook", "coldchain/recalls@hook"
	n.Must("new", "endpoint", to, "-url", server.URL+"/", "-secret-from", file, "-backoff", "50ms..300ms")
	assert.Contains(t, n.Must("endpoint", "try", to), "200 OK")
	n.Must("new", "route", route, "-to", to, "-from", "first")
	_, errOut, code := n.Ferry("", "new", "topic", to)
	assert.Equal(t, 1, code, "one name is for one thing")
	assert.Contains(t, errOut, "exists already")
	_, errOut, code = n.Ferry("", "remove", to, "-yes")
	assert.Equal(t, 1, code)
	assert.Contains(t, errOut, route)

	send := func(from, count int, clinic string) {
		for i := from; i < from+count; i++ {
			n.Must("send", recalls.String(), "-key", fmt.Sprint("box-", i%5), "-body", fmt.Sprintf(`{"n":%d,"clinic":%q}`, i, clinic))
		}
	}
	counts := func() (c struct{ Counts map[string]int }) {
		b := httptest.NewRecorder()
		hook.ServeHTTP(b, httptest.NewRequest("GET", "/got", nil))
		require.NoError(t, json.Unmarshal(b.Body.Bytes(), &c))
		return c
	}
	taken := func(want int, why string) {
		t.Helper()
		require.Eventually(t, func() bool { return counts().Counts["taken"] == want }, 20*time.Second, 20*time.Millisecond, why)
	}
	send(0, 10, "old-mill")
	taken(11, "a trial and ten recalls")

	hook.Switch(clinic.Down)
	send(10, 12, "old-mill")
	require.Eventually(t, func() bool {
		return strings.Contains(n.Must("show", to), "the clinics' office is closed")
	}, 20*time.Second, 50*time.Millisecond)
	require.Eventually(t, func() bool { return strings.Contains(n.Must("show", route), "endpoint failing") }, 20*time.Second, 50*time.Millisecond)
	require.Eventually(t, func() bool { return strings.Contains(n.Must("lag", route), "waits") }, 20*time.Second, 50*time.Millisecond)
	hook.Switch(clinic.Well)
	taken(23, "what waited has come")
	assert.Zero(t, counts().Counts["again"])

	hook.Switch(clinic.Refuses)
	send(22, 4, clinic.Refused)
	require.Eventually(t, func() bool {
		out, _, _ := n.Ferry("", "dead", route) // there is no such place before the first
		return strings.Contains(out, "4 dead letters")
	}, 20*time.Second, 50*time.Millisecond)
	assert.Contains(t, n.Must("dead", route, "-json"), "not on our list any more")
	hook.Switch(clinic.Well)
	n.Must("dead", route, "-return", "-yes")
	taken(27, "what was refused has come")

	traced := n.Must("trace", "coldchain/recalls#0:0")
	assert.Contains(t, traced, "delivered")
	assert.Contains(t, traced, route)
	shown := n.Must("show", to) + n.Must("show", to, "-events")
	for _, wanted := range []string{"failing:", "back:", "trial:", "created:", "signing"} {
		assert.Contains(t, shown, wanted)
	}
	assert.NotContains(t, shown, secret)
	assert.NotContains(t, n.Must("logbook"), secret)
	b, err := os.ReadFile(file)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(file, append(b, "-anew"...), 0o600))
	assert.Contains(t, n.Must("set", to, "-secret-from", file, "-yes"), "by the new and by the old secret")
	assert.Contains(t, n.Must("endpoint", "try", to), "200 OK", "the old one is still good")
	n.Must("set", to, "-forget", "oldSigning", "-yes")
	_, errOut, code = n.Ferry("", "endpoint", "try", to)
	assert.Equal(t, 1, code, errOut)
	assert.Contains(t, n.Must("list"), to)
	n.Must("remove", route, "-yes")
	n.Must("remove", to, "-yes")
}

// A route to another Steady Ferry copies each message once, over an end of either side.
func TestARouteToAnotherSteadyFerry(t *testing.T) {
	here, there := harness.Start(t, toLoopback...), harness.Start(t)
	readings, copies := here.Topic("coldchain/readings", 2), there.Topic("coldchain/copies", 3)
	token := filepath.Join(t.TempDir(), "token")
	require.NoError(t, os.WriteFile(token, []byte(there.Token), 0o600))
	here.Must("new", "endpoint", "coldchain/north", "-url", "ferry+"+there.URL+"/coldchain/copies", "-backoff", "50ms..200ms")
	wrong := filepath.Join(t.TempDir(), "wrong")
	require.NoError(t, os.WriteFile(wrong, []byte("t-no-such-token"), 0o600))
	_, errOut, code := here.Ferry("", "set", "coldchain/north", "-token-from", wrong)
	assert.Equal(t, 1, code)
	assert.Contains(t, errOut, "-token-from FILE")
	here.Must("set", "coldchain/north", "-token-from", token)
	here.Must("new", "route", "coldchain/readings@north", "-to", "coldchain/north", "-from", "first")
	const messages = 600
	var lines strings.Builder
	for i := range messages {
		fmt.Fprintf(&lines, `{"key":"box-%d","body":{"n":%d}}`+"\n", i%7, i)
	}
	copied := func() (all []form.Message) {
		out := there.Must("browse", copies.String(), "-from", "first", "-limit", "10000", "-json")
		for line := range strings.Lines(out) {
			var m form.Message
			require.NoError(t, json.Unmarshal([]byte(line), &m))
			all = append(all, m)
		}
		return all
	}
	for round := range 3 {
		_, _, code := here.Ferry(lines.String(), "send", readings.String(), "-ndjson")
		require.Zero(t, code)
		switch round {
		case 0:
			there.Kill()
			there.Run()
		case 1:
			here.Kill()
			here.Run()
		}
		if !assert.Eventually(t, func() bool { return len(copied()) >= (round+1)*messages }, 30*time.Second, 100*time.Millisecond, "round %d", round) {
			t.Log(len(copied()), here.Must("show", "coldchain/north"), here.Must("show", "coldchain/readings@north"))
			return
		}
	}
	time.Sleep(time.Second)
	all := copied()
	assert.Len(t, all, 3*messages, "each once")
	last := map[string]int{}
	for _, m := range all {
		var body struct{ N int }
		require.NoError(t, json.Unmarshal(m.Body, &body))
		assert.True(t, last[m.Key] <= body.N || body.N < 7, "in order of the key")
		last[m.Key] = body.N
		assert.Equal(t, "coldchain/readings@north", m.Headers["ferry-route"])
	}
}

// Secrets of endpoints survive a change of the key by which they are kept.
func TestTheKeyOfSecretsIsChanged(t *testing.T) {
	keys := filepath.Join(t.TempDir(), "seal.keys")
	write := func(all ...string) {
		require.NoError(t, os.WriteFile(keys, []byte(strings.Join(all, "\n")+"\n"), 0o600))
	}
	first := "AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA="
	write(first)
	n := harness.Start(t, append([]string{"-seal-keys", keys}, toLoopback...)...)
	second := strings.TrimSpace(n.MustTool("ferryd", "rekey", "-new"))
	secret, file := clinicSecret(t)
	server := httptest.NewServer(clinic.New(secret))
	defer server.Close()
	n.Topic("coldchain/recalls", 1)
	n.Must("new", "endpoint", "coldchain/clinic-hook", "-url", server.URL+"/", "-secret-from", file)
	rekey := func() string {
		return n.MustTool("ferryd", "rekey", "-database", n.Database(), "-seal-keys", keys)
	}
	assert.Contains(t, rekey(), "1 endpoint with secrets; 0 sealed anew")
	again := func(all ...string) {
		write(all...)
		require.Zero(t, n.Stop())
		n.Run()
	}
	again(second, first)
	assert.Contains(t, n.Must("endpoint", "try", "coldchain/clinic-hook"), "200 OK")
	assert.Contains(t, rekey(), "1 endpoint with secrets; 1 sealed anew")
	again(second)
	assert.Contains(t, n.Must("endpoint", "try", "coldchain/clinic-hook"), "200 OK")
	again(first)
	assert.Contains(t, n.Must("show", "coldchain/clinic-hook"), "sealed with a key that this node does not have")

	require.NoError(t, os.Chmod(keys, 0o644))
	out, err := n.Tool("ferryd", "rekey", "-database", n.Database(), "-seal-keys", keys)
	assert.Error(t, err)
	assert.Contains(t, out, "others than its owner can read it")
}
