package messages

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/client"
	"steadyferry/cmd/ferry/term"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/engine/postgres/testdb"
	"steadyferry/test/doortest"
)

func TestMain(m *testing.M) { testdb.Main(m) }

var verbs = []term.Verb{Send, Browse, Tail, Read, Lease, Settle, Work, Export, Load}

// desk is a node and who types at it.
type desk struct {
	*doortest.Door
	t *testing.T
}

// atDesk makes a topic coldchain/readings of two partitions and a queue
// coldchain/inspections.
func atDesk(t *testing.T) *desk {
	d := &desk{doortest.Open(t), t}
	d.Channel(setting.Topic, "coldchain/readings", setting.Change{"partitionCount": 2})
	d.Channel(setting.Queue, "coldchain/inspections", nil)
	return d
}

// said is what a run printed, and its exit status.
type said struct {
	out, err string
	status   int
}

// types runs a line; what is between quotes of a kind is one argument.
func (d *desk) types(input, line string) said {
	d.t.Helper()
	var args []string
	for _, part := range regexp.MustCompile(`'[^']*'|\S+`).FindAllString(line, -1) {
		args = append(args, strings.Trim(part, "'"))
	}
	at := len(args)
	for i, arg := range args {
		if arg == "--" {
			at = i
			break
		}
	}
	args = append(args[:at:at], append([]string{"-server", d.URL, "-token", d.Token}, args[at:]...)...)
	var out, errOut bytes.Buffer
	status := term.Run(d.t.Context(), verbs, args, strings.NewReader(input), &out, &errOut)
	return said{out.String(), errOut.String(), status}
}

// must runs a line that does what it shall, and returns what it printed.
func (d *desk) must(input, line string) string {
	d.t.Helper()
	s := d.types(input, line)
	require.Zero(d.t, s.status, "%s\n%s%s", line, s.out, s.err)
	return s.out
}

// objects are the lines of an output, each a JSON object.
func objects[T any](t *testing.T, out string) (all []T) {
	t.Helper()
	for line := range strings.Lines(out) {
		var one T
		require.NoError(t, json.Unmarshal([]byte(line), &one), line)
		all = append(all, one)
	}
	return all
}

func TestSendTakesEachForm(t *testing.T) {
	d := atDesk(t)
	file := filepath.Join(t.TempDir(), "body.json")
	require.NoError(t, os.WriteFile(file, []byte(`{"box":"box-9"}`), 0o600))
	event := `{"specversion":"1.0","type":"reading","source":"/depot","id":"e-%d","data":{"n":%d}}`
	for _, c := range []struct {
		name, line, input, out string
		want                   []client.Message // of what browse finds: body, key, type, id and headers
	}{
		{"a body", `-body '{"celsius":8.5}' -key box-7 -id m-1 -header source=depot`, "", "sent 1 message to coldchain/readings\n",
			[]client.Message{{Body: json.RawMessage(`{"celsius":8.5}`), Key: "box-7", ID: "m-1", ContentType: "application/json", Headers: map[string]string{"source": "depot"}}}},
		{"text of the input", "", "not JSON", "sent 1 message to coldchain/readings\n", []client.Message{{Body: json.RawMessage(`"not JSON"`), ContentType: "text/plain"}}},
		{"a file", "-file " + file, "", "sent 1 message to coldchain/readings\n", []client.Message{{Body: json.RawMessage(`{"box":"box-9"}`), ContentType: "application/json"}}},
		{"lines", "-lines -key-from body.box", "{\"box\":\"a\"}\n\n{\"box\":7}\n", "sent 2 messages to coldchain/readings\n",
			[]client.Message{{Body: json.RawMessage(`{"box":"a"}`), Key: "a", ContentType: "application/json"}, {Body: json.RawMessage(`{"box":7}`), Key: "7", ContentType: "application/json"}}},
		{"messages as browse prints them", "-ndjson -compress -header lane=2", `{"key":"k","body":"plain","headers":{"lane":"1","a":"b"}}` + "\n", "sent 1 message to coldchain/readings\n",
			[]client.Message{{Body: json.RawMessage(`"plain"`), Key: "k", ContentType: "text/plain", Headers: map[string]string{"lane": "2", "a": "b"}}}},
		{"an array of events", "-cloudevents", "[" + fmt.Sprintf(event, 1, 1) + ",\n" + fmt.Sprintf(event, 2, 2) + "]", "sent 2 messages to coldchain/readings\n",
			[]client.Message{{Body: json.RawMessage(`{"n":1}`), ID: "e-1", ContentType: "application/json"}, {Body: json.RawMessage(`{"n":2}`), ID: "e-2", ContentType: "application/json"}}},
		{"events one behind the other", "-cloudevents", fmt.Sprintf(event, 3, 3) + " " + fmt.Sprintf(event, 4, 4), "sent 2 messages to coldchain/readings\n",
			[]client.Message{{Body: json.RawMessage(`{"n":3}`), ID: "e-3", ContentType: "application/json"}, {Body: json.RawMessage(`{"n":4}`), ID: "e-4", ContentType: "application/json"}}},
		{"one often", "-body x -repeat 3", "", "sent 3 messages to coldchain/readings\n", []client.Message{{Body: json.RawMessage(`"x"`), ContentType: "text/plain"}, {Body: json.RawMessage(`"x"`), ContentType: "text/plain"}, {Body: json.RawMessage(`"x"`), ContentType: "text/plain"}}},
	} {
		t.Run(c.name, func(t *testing.T) {
			since := time.Now().UTC().Format(time.RFC3339Nano)
			assert.Equal(t, c.out, d.must(c.input, "send coldchain/readings#1 "+c.line))
			found := objects[client.Message](t, d.must("", "browse coldchain/readings#1 -json -from time:"+since))
			require.Len(t, found, len(c.want))
			for i, m := range found {
				want := c.want[i]
				if c.want[i].ID == "" {
					want.ID = m.ID
				}
				if strings.Contains(c.line, "cloudevents") {
					want.Headers = m.Headers
				}
				assert.JSONEq(t, string(want.Body), string(m.Body))
				if want.Headers == nil {
					want.Headers = map[string]string{}
				}
				assert.Equal(t, []any{want.Key, want.ID, want.ContentType, want.Headers}, []any{m.Key, m.ID, m.ContentType, m.Headers})
				assert.Equal(t, 1, m.Partition)
			}
		})
	}
	assert.Equal(t, "sent 1 message to coldchain/readings\n", d.must("", "send coldchain/readings -body x -key box-1"))
	sent := objects[map[string]any](t, d.must("a\nb\n", "send coldchain/readings -lines -json"))
	assert.EqualValues(t, 2, sent[0]["accepted"])
}

// What is wrong with a line of the input is said with its number, and how many
// were kept before it.
func TestSendSaysWhichLineIsWrong(t *testing.T) {
	d := atDesk(t)
	for _, c := range []struct {
		line, input, says string
		status            int
	}{
		{"-ndjson", "{\"body\":\"a\"}\nnot JSON\n", "line 2: ", 1},
		{"-ndjson", "not JSON\n", "with -lines instead of -ndjson, each line is a body", 1},
		{"-lines -key-from body.box", "{\"box\":\"a\"}\n{\"crate\":1}\n", "line 2: -key-from: body.box is not text or a number (1 message before it was kept)", 1},
		{"-lines -key-from body.a.b", "{\"a\":1}\n", "the body has no body.a.b", 1},
		{"-lines -key-from body.a", "x\n", "the body is not JSON", 1},
		{"-body x -key-from box", "", "such as body.box", 2},
		{"-cloudevents", "[{\"id\":\"1\"}]", "event 1: ", 1},
		{"-cloudevents", "[{\"id\":", "event 1: ", 1},
		{"-body x -repeat 0", "", "1 or more is allowed", 2},
		{"-file nowhere.json", "", "nowhere.json", 2},
		{"-body x -at noon", "", "a time such as", 2},
		{"-body x -partition 7", "", "", 1},
		{"-body x -after 5s", "", "queue", 1},
	} {
		s := d.types(c.input, "send coldchain/readings "+c.line)
		assert.Equal(t, c.status, s.status, "%s: %s%s", c.line, s.out, s.err)
		assert.Contains(t, s.err, c.says, c.line)
	}
	s := d.types("", "send coldchain/reading -body x")
	assert.Equal(t, 1, s.status)
	assert.Contains(t, s.err, "coldchain/reading")
}

func TestBrowseAndTailPrintALineAMessage(t *testing.T) {
	d := atDesk(t)
	for i := range 12 {
		d.must("", fmt.Sprintf(`send coldchain/readings#%d -key box-%d -body '{"n":%d,"note":"line one\nline two"}'`, i%2, i, i))
	}
	s := d.types("", "browse coldchain/readings -where 'body.n >= 10'")
	assert.Regexp(t, `^#0:5 +\d\d:\d\d:\d\d\.\d{3}  box-10 +\{"n":10,"note":"line one\\nline two"\}\n#1:5 +.*box-11 .*\n$`, s.out)
	assert.Regexp(t, `^found 2, looked at 12 of 12 messages in `, s.err)
	assert.Regexp(t, `^#1:5 .*\n#0:5 .*\n$`, d.must("", "browse coldchain/readings -newest -limit 2"))
	assert.Regexp(t, `^#1:3 .*\n#1:4 .*\n$`, d.must("", "browse coldchain/readings#1:3 -limit 2"))
	assert.Regexp(t, `^#0:1 .*\n$`, d.must("", "browse coldchain/readings -partition 0 -from offset:1 -to offset:2"))
	assert.Regexp(t, `^(#\d:\d .*\n){4}$`, d.must("", "tail coldchain/readings -from first -limit 4"))
	assert.Regexp(t, `^(#\d:[01] .*\n){4}$`, d.must("", "tail coldchain/readings -from first -to offset:2"))
	assert.Regexp(t, `^(#\d:\d .*\n){10}$`, d.must("", "tail coldchain/readings -newest -limit 10"))
	d.must("", "send coldchain/readings#0 -content-type application/octet-stream -file "+binary(t))
	assert.Contains(t, d.must("", "browse coldchain/readings#0 -newest -limit 1"), "(3 bytes)")
	s = d.types("", "browse coldchain/readings -where 'body.n >'")
	assert.Equal(t, 1, s.status)
	assert.Contains(t, s.err, "condition, column 9")
	for line, says := range map[string]string{"browse coldchain/readings -from soon": "soon", "browse coldchain": "a channel is expected", "browse coldchain/readings@x": "a channel is expected"} {
		s := d.types("", line)
		assert.Equal(t, 2, s.status, line)
		assert.Contains(t, s.err, says, line)
	}
}

func binary(t *testing.T) string {
	name := filepath.Join(t.TempDir(), "binary")
	require.NoError(t, os.WriteFile(name, []byte{0xff, 0, 0xfe}, 0o600))
	return name
}

// A reader that ends at its limit has committed what it printed, and the next one
// goes on behind it.
func TestReadGoesOnWhereItEnded(t *testing.T) {
	d := atDesk(t)
	d.must("a\nb\nc\nd\ne\n", "send coldchain/readings#0 -lines")
	s := d.types("", "read coldchain/readings@compliance -limit 2 -from first")
	assert.Regexp(t, `^#0:0 .*a\n#0:1 .*b\n$`, s.out)
	assert.Contains(t, s.err, "created group coldchain/readings@compliance starting at first")
	assert.Contains(t, s.err, "ferry: reading #0 #1\n")
	again := objects[client.Message](t, d.must("", "read coldchain/readings@compliance -limit 2 -json"))
	assert.Equal(t, `"c"`, string(again[0].Body))
	assert.Empty(t, d.must("", "read coldchain/readings@compliance -limit 1 -quiet -rate 1000/s"))
	assert.Regexp(t, `^#0:0 .*a\n$`, d.must("", "read coldchain/readings@nobody -limit 1 -commit never"))
	assert.Regexp(t, `^#0:0 .*a\n$`, d.must("", "read coldchain/readings@nobody -limit 1 -commit never"), "what is never committed comes again")
	assert.Equal(t, 2, d.types("", "read coldchain/readings@compliance -commit now").status)
	assert.Equal(t, 2, d.types("", "read coldchain/readings@compliance -from now").status)
}

func TestLeasesAreSettled(t *testing.T) {
	d := atDesk(t)
	assert.Equal(t, "nothing waits in coldchain/inspections now; -wait 15s waits for it\n", d.must("", "lease coldchain/inspections"))
	d.must("a\nb\nc\nd\n", "send coldchain/inspections -lines -key box-1")
	table := d.must("", "lease coldchain/inspections -member m-1")
	assert.Regexp(t, `lease +runs out in +attempt +key +body`, table)
	assert.Regexp(t, `0-0-\d+-[0-9a-z]+ +\d+s +1 +box-1 +a`, table)
	leased := objects[client.Delivery](t, d.must("", "lease coldchain/inspections -max 3 -for 5m -json"))
	require.Len(t, leased, 3)
	settle := func(args string) said { return d.types("", "settle coldchain/inspections "+args) }
	b, c, e := leased[0].Lease.String(), leased[1].Lease.String(), leased[2].Lease.String()
	assert.Equal(t, b+"  accept: done\n", settle("-accept "+b).out)
	assert.Regexp(t, c+`  extend: now until \d\d:\d\d:\d\d\n`, settle("-extend "+c+" -after 10m").out)
	detail := filepath.Join(t.TempDir(), "detail.txt")
	require.NoError(t, os.WriteFile(detail, []byte("celsius is text"), 0o600))
	assert.Equal(t, c+"  reject: dead\n", settle("-reject "+c+" -reason bad-celsius -detail @"+detail).out)
	assert.Equal(t, e+"  release: waiting\n", settle("-release "+e+" -untouched").out)
	s := settle("-accept " + b + ",0-77-88-99")
	assert.Equal(t, 1, s.status)
	assert.Contains(t, s.err, "lease "+b+" ran out or was settled before; nothing is changed")
	assert.Contains(t, s.err, "there never was a lease 0-77-88-99 here")
	assert.Contains(t, s.err, "2 of 2 leases were refused")
	for args, says := range map[string]string{"": "leases are expected", "-accept x": "x", "-reject " + b + " -detail @nowhere": "nowhere"} {
		s := settle(args)
		assert.Equal(t, 2, s.status, args)
		assert.Contains(t, s.err, says, args)
	}
	dead := d.must("", "export coldchain/inspections/dead")
	assert.Contains(t, dead, "celsius is text")
	s = d.types("", "lease coldchain/inspections -accept-at-once -json")
	assert.Contains(t, s.err, "accepted on delivery")
	assert.Contains(t, s.out, `"lease":"`+e[:len("0-3-")])
}

// A command that works on messages decides by its exit status what becomes of
// them.
func TestWorkRunsACommandForEach(t *testing.T) {
	d := atDesk(t)
	d.must("good\nlater\nbad\n", "send coldchain/inspections -lines -key box-1 -header source.of=depot")
	script := filepath.Join(t.TempDir(), "inspect.sh")
	require.NoError(t, os.WriteFile(script, []byte(`read body
echo "$body $FERRY_KEY $FERRY_ATTEMPT $FERRY_HEADER_SOURCE_OF $FERRY_ADDRESS" >> "$1"
case $body in later) echo not yet >&2; exit 75;; bad) echo one >&2; echo two >&2; exit 3;; esac
`), 0o700))
	told := filepath.Join(t.TempDir(), "told")
	assert.Equal(t, "1 accepted, 1 given back, 1 rejected\n", d.must("", "work coldchain/inspections -limit 3 -- sh "+script+" "+told))
	lines, err := os.ReadFile(told)
	require.NoError(t, err)
	assert.Equal(t, "good box-1 1 depot coldchain/inspections#0:0\nlater box-1 1 depot coldchain/inspections#0:1\nbad box-1 1 depot coldchain/inspections#0:2\n", string(lines))
	dead := d.must("", "export coldchain/inspections/dead")
	assert.Contains(t, dead, `"one\ntwo"`)
	assert.Contains(t, dead, `exit 3`)
	assert.Equal(t, "0 accepted, 0 given back, 0 rejected\n", d.must("", "work coldchain/inspections -once -parallel 3 -- true"), "what was given back comes later")
	sum := objects[map[string]any](t, d.must("", "work coldchain/inspections -once -json -- nowhere-command"))
	assert.EqualValues(t, 0, sum[0]["rejected"])
	assert.Equal(t, 2, d.types("", "work coldchain/inspections -parallel 0 -- true").status)
}

// What is exported can be sent again.
func TestExportsComeBack(t *testing.T) {
	d := atDesk(t)
	d.must(`{"key":"k-1","body":{"n":1},"headers":{"a":"b"}}`+"\n"+`{"key":"k-2","body":"two"}`+"\n", "send coldchain/readings#0 -ndjson")
	for _, form := range []string{"-ndjson", "-cloudevents"} {
		file := filepath.Join(t.TempDir(), "out")
		line := "export coldchain/readings#0 -to offset:2 -out " + file
		if form == "-cloudevents" {
			line += " -format cloudevents"
		}
		s := d.types("", line)
		assert.Equal(t, fmt.Sprintf("2 messages are in %s; to be sent again with: ferry send ADDRESS %s -file %s\n", file, form, file), s.err)
		_, err := os.Stat(file + ".part")
		assert.ErrorIs(t, err, os.ErrNotExist)
		since := time.Now().UTC().Format(time.RFC3339Nano)
		d.must("", "send coldchain/readings#1 "+form+" -file "+file)
		back := objects[client.Message](t, d.must("", "browse coldchain/readings#1 -json -from time:"+since))
		require.Len(t, back, 2, form)
		assert.Equal(t, "k-1", back[0].Key)
		assert.JSONEq(t, `{"n":1}`, string(back[0].Body))
		assert.Equal(t, "b", back[0].Headers["a"])
		assert.Equal(t, `"two"`, string(back[1].Body))
	}
	assert.Contains(t, d.must("", "export coldchain/readings -where 'body.n == 1' -limit 1"), `"k-1"`)
	for line, status := range map[string]int{
		"export coldchain/readings -json -format ndjson":      2,
		"export coldchain/readings -out /nowhere/at/all":      2,
		"export coldchain/readings -format text":              1,
		"export coldchain/inspections/dead -cause 0123456789": 1,
	} {
		s := d.types("", line)
		assert.Equal(t, status, s.status, "%s: %s%s", line, s.out, s.err)
	}
}

func TestLoadCountsWhatItDoes(t *testing.T) {
	d := atDesk(t)
	table := d.must("", "load coldchain/readings -count 2000 -body-size 50 -batch 100 -publishers 2 -readers 1 -keys")
	assert.Regexp(t, `published +2,000 `, table)
	assert.Regexp(t, `read +2,000 `, table)
	var sum struct {
		Published, Read direction
		Retries         int
	}
	require.NoError(t, json.Unmarshal([]byte(d.must("", "load coldchain/readings -publishers 0 -readers 2 -count 2000 -json")), &sum))
	assert.EqualValues(t, 4000, sum.Read.Messages, "each reads all")
	assert.Zero(t, sum.Published.Messages)
	require.NoError(t, json.Unmarshal([]byte(d.must("", "load coldchain/readings -for 300ms -rate 1000/s -batch 50 -compress -json")), &sum))
	assert.InDelta(t, 300, sum.Published.Messages, 200, "the rate is kept")
	assert.Equal(t, 2, d.types("", "load coldchain/readings -batch 0").status)
	assert.Equal(t, 2, d.types("", "load coldchain/readings -publishers 0").status)
}

// The end of what a command says is kept, in whole characters.
func TestTheEndOfWhatACommandSays(t *testing.T) {
	var b tailBuffer
	for i := range 5000 {
		fmt.Fprintf(&b, "line %d\n", i)
	}
	lines := strings.Split(b.end(), "\n")
	assert.Len(t, lines, detailLines)
	assert.Equal(t, "line 4999", lines[detailLines-1])
	b = tailBuffer{}
	io.WriteString(&b, strings.Repeat("é", 3*detailBytes))
	assert.LessOrEqual(t, len(b.end()), detailBytes+3)
	assert.Empty(t, new(tailBuffer).end())
}
