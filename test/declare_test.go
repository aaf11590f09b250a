package test

import (
	"encoding/json"
	"fmt"
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

// edit replaces a text in a file of a declaration.
func edit(t *testing.T, file, old, new string) {
	t.Helper()
	b, err := os.ReadFile(file)
	require.NoError(t, err)
	require.Contains(t, string(b), old)
	require.NoError(t, os.WriteFile(file, []byte(strings.Replace(string(b), old, new, 1)), 0o644))
}

// From what is there to files, and from changed files back: with the client, and
// drift on the page of the console.
func TestConfigurationIsDeclaredAndDriftIsSetBack(t *testing.T) {
	t.Parallel()
	n := harness.Start(t)
	n.Must("new", "space", "coldchain")
	n.Must("new", "topic", "coldchain/readings", "-partitions", "3", "-retain", "3d", "-label", "team=vans")
	n.Must("new", "queue", "coldchain/inspections")
	n.Must("new", "group", "coldchain/readings@forecast")
	dir := filepath.Join(t.TempDir(), "northlight")
	says := func(status int, wanted string, args ...string) {
		t.Helper()
		out, errOut, code := n.Ferry("", args...)
		require.Equal(t, status, code, "%s%s", out, errOut)
		assert.Contains(t, out+errOut, wanted, "ferry %s", strings.Join(args, " "))
	}
	says(0, "as declaration northlight\nnext: ferry diff "+dir, "declare", "-to", dir)
	schema, err := os.ReadFile(filepath.Join(dir, "declaration.schema.json"))
	require.NoError(t, err)
	assert.JSONEq(t, n.Ask("GET", "/api/v1/declaration-schema", "").Body, string(schema), "the client's schema is the service's")
	says(0, "declaration northlight is right: 5 things", "check", dir)
	says(0, "nothing differs from declaration northlight", "diff", dir)

	says(1, "nothing matches nothing/here; ferry list shows what there is", "declare", "nothing/here")
	says(2, "there is no directory "+dir+"-2; ferry declare -to "+dir+"-2 writes one", "check", dir+"-2")

	file := filepath.Join(dir, "coldchain.yaml")
	edit(t, file, "retain: 3d ", "retain: 1h ")
	edit(t, file, "queues:\n", "queues:\n  alarms:\n    lease: 20s\n")
	says(1, "is there and says something else; nothing was written", "declare", "-to", dir)
	plan := "~ topic coldchain/readings\n    retain: 3d -> 1h\n    - messages are deleted when they are 1h old, instead of 3d\n    - nothing is deleted at once\n+ queue coldchain/alarms\n    lease: 20s\n"
	says(3, plan+"\n1 to create, 1 to set, 0 to remove\n", "diff", dir)
	says(0, "nothing is changed yet: add -yes to do it", "apply", dir)
	assert.NotContains(t, n.Must("list"), "alarms")
	out, _, code := n.Ferry("", "diff", dir, "-json")
	require.Equal(t, 3, code)
	var change struct{ Op, Kind, Address, State string }
	require.NoError(t, json.NewDecoder(strings.NewReader(out)).Decode(&change))
	assert.Equal(t, "set topic coldchain/readings planned", strings.Join([]string{change.Op, change.Kind, change.Address, change.State}, " "))
	says(0, plan+"\ndone: 2 changes\n", "apply", dir, "-yes", "-revision", "7f3a")
	assert.Contains(t, n.Must("logbook"), "northlight 7f3a")
	assert.Regexp(t, `declared +by northlight 7f3a: .*retain`, n.Must("show", "coldchain/readings"))
	says(0, "nothing has drifted", "diff", "-drift")

	says(0, "retain: declared by northlight, so this is drift", "set", "coldchain/readings", "-retain", "2d", "-yes")
	says(3, "coldchain/readings  retain   1h        2d  northlight   7f3a      owner", "diff", "-drift")
	p := openConsole(t, n)
	p.open("/channels/coldchain/readings?tab=settings")
	p.says("Declaration northlight 7f3a has set")
	p.accessible("settings that are declared")
	p.open("/groups/coldchain/readings/forecast")
	p.says("Declaration northlight 7f3a has it, with no setting")
	p.everywhere("coldchain/readings", "/drift")
	p.click("Take into the file")
	p.says("retain: 2d  # 1m to 36500d")
	p.accessible("what to put into a file")
	p.click("Close")
	p.click("Set back")
	p.says("messages are deleted when they are 1h old, instead of 2d")
	p.accessible("what setting back does")
	p.click("Set it back")
	p.says("Nothing has drifted from what is declared.")
	p.accessible("no drift")
	says(0, "nothing has drifted", "diff", "-drift")

	// What is not declared stays, unless asked; what cannot be is said, and nothing
	// is done.
	edit(t, file, "  alarms:\n    lease: 20s\n", "")
	says(0, "nothing differs", "diff", dir)
	says(3, "- queue coldchain/alarms\n", "diff", dir, "-remove")
	says(0, "done: 1 change\n", "apply", dir, "-remove", "-yes")
	edit(t, file, "partitionCount: 3", "partitionCount: 2")
	edit(t, file, "retain: 1h ", "retain: 5d ")
	says(3, "cannot become fewer", "diff", dir)
	says(1, "nothing was changed", "apply", dir, "-yes")
	edit(t, file, "retain: 5d ", "retian: 5d ")
	edit(t, file, "partitionCount: 2", "partitionCount: none")
	out, errOut, code := n.Ferry("", "apply", dir, "-yes")
	assert.Equal(t, 1, code)
	assert.Empty(t, out)
	for _, wanted := range []string{"coldchain.yaml:8:21: coldchain/readings: partitionCount", "allowed: 1 to 1000", "coldchain.yaml:10:5: a topic has no retian; allowed: ", "did you mean retain?", "2 things are wrong in "} {
		assert.Contains(t, errOut, wanted)
	}
}

// A node or a client that is killed while it applies: applied again, all is there,
// each once.
func TestAnApplyIsKilledInTheMiddle(t *testing.T) {
	t.Parallel()
	const channels = 400
	n := harness.StartIn(t, harness.Dir(t)) // with a database of its own, which goes on
	dir := t.TempDir()
	var file strings.Builder
	file.WriteString("declaration: many\nspace: coldchain\ntopics:\n")
	for c := range channels {
		fmt.Fprintf(&file, "  topic-%03d: {retain: 2d, groups: {audit: {}}}\n", c)
	}
	require.NoError(t, os.WriteFile(filepath.Join(dir, "coldchain.yaml"), []byte(file.String()), 0o644))
	begin := func() (*exec.Cmd, chan error) {
		cmd := exec.Command(harness.Binary(t, "ferry"), "apply", dir, "-yes")
		cmd.Env = append(os.Environ(), "FERRY_SERVER="+n.URL, "FERRY_TOKEN="+n.Token)
		require.NoError(t, cmd.Start())
		done := make(chan error, 1)
		go func() { done <- cmd.Wait() }()
		return cmd, done
	}
	made := func() int { return strings.Count(n.Must("list", "-json"), `"kind":"topic"`) }
	enough := func(count int) {
		require.Eventually(t, func() bool { return made() > count }, 20*time.Second, 5*time.Millisecond)
	}

	cmd, done := begin()
	enough(20)
	require.NoError(t, cmd.Process.Kill())
	<-done
	time.Sleep(300 * time.Millisecond) // the service ends what was begun
	first := made()
	t.Logf("%d topics when the client was killed", first)
	assert.Less(t, first, channels, "it does not go on for nobody")

	_, done = begin()
	enough(first + 20)
	n.Kill()
	require.Error(t, <-done, "the client says that it ended")
	n.Run()
	t.Logf("%d topics when the node was killed", made())
	out := n.Must("apply", dir, "-yes")
	assert.Contains(t, out, "done: ")
	assert.Equal(t, channels, made())
	assert.Contains(t, n.Must("diff", dir), "nothing differs")
	entries := map[string]int{}
	for _, line := range strings.Split(n.Must("logbook", "-limit", "1000", "-json"), "\n") {
		var e struct{ Action, Address string }
		if json.Unmarshal([]byte(line), &e) == nil && strings.HasPrefix(e.Action, "new topic") {
			entries[e.Address]++
		}
	}
	assert.Len(t, entries, channels)
	for address, times := range entries {
		assert.Equal(t, 1, times, address)
	}
}
