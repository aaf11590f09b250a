package declare

import (
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"strings"
	"testing"

	"github.com/goccy/go-yaml"
	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Each thing that is wrong is said with its file, line and column, and what is
// allowed or to be done.
func TestWhatIsWrongIsSaidWhereItStands(t *testing.T) {
	const head = "declaration: nl\nspace: s\n"
	for name, one := range map[string]struct {
		files inMemory
		want  []string
	}{
		"no YAML":              {inMemory{"a.yaml": "space: [s\n"}, []string{"a.yaml:1:8: this is not YAML: sequence end token ']' not found"}},
		"no mapping":           {inMemory{"a.yaml": "- s\n"}, []string{"a.yaml:1:1: a file is a mapping; allowed: declaration, include, blocks"}},
		"two documents":        {inMemory{"a.yaml": "declaration: nl\n---\nspace: s\n"}, []string{"a.yaml:3:6: a second document begins here"}},
		"no name":              {inMemory{"a.yaml": "space: s\n"}, []string{"a.yaml:1:1: the declaration has no name; begin a file with declaration: NAME"}},
		"two names":            {inMemory{"a.yaml": head, "b.yaml": "declaration: other\n"}, []string{"b.yaml:1:14: the declaration is other here and nl at a.yaml:1:14; allowed: one name"}},
		"a name that is none":  {inMemory{"a.yaml": "declaration: N L\n"}, []string{`a.yaml:1:14: declaration is "N L"; allowed: a name of 1 to 100`}},
		"an unknown section":   {inMemory{"a.yaml": head + "topcis: {}\n"}, []string{`a.yaml:3:1: "topcis" is nothing that a file has; allowed: declaration`, "did you mean topics?"}},
		"no space":             {inMemory{"a.yaml": "declaration: nl\ntopics: {t: {}}\n"}, []string{"a.yaml:2:1: topics needs a space; say at the top which one it is of: space: NAME"}},
		"an unknown setting":   {inMemory{"a.yaml": head + "topics:\n  t:\n    retian: 3d\n"}, []string{"a.yaml:5:5: a topic has no retian; allowed: use, groups, routes, partitionCount", "did you mean retain?"}},
		"of the other kind":    {inMemory{"a.yaml": head + "queues:\n  q: {retain: 3d}\n"}, []string{"a.yaml:4:7: a queue has no retain; allowed: use, routes, partitionCount"}},
		"a value out of range": {inMemory{"a.yaml": head + "topics:\n  t:\n    partitionCount: 0\n"}, []string{"a.yaml:5:21: s/t: partitionCount is 0; allowed: 1 to 1000"}},
		"a value of no form":   {inMemory{"a.yaml": head + "topics:\n  t: {retain: soon}\n"}, []string{`a.yaml:4:15: s/t: retain is "soon": this is not a duration; allowed: 1m to 36500d; written as numbers with d, h, m, s or ms`}},
		"a list for a text":    {inMemory{"a.yaml": head + "topics:\n  t: {retain: [1d]}\n"}, []string{"a.yaml:4:15: s/t: retain"}},
		"a channel twice":      {inMemory{"a.yaml": head + "topics: {c: {}}\nqueues: {c: {}}\n"}, []string{"a.yaml:4:13: s/c is declared at a.yaml:3:13 too"}},
		"a key twice":          {inMemory{"a.yaml": head + "topics:\n  t: {}\n  t: {}\n"}, []string{"a.yaml:5:3:"}},
		"a space twice":        {inMemory{"a.yaml": head, "b.yaml": "space: s\n"}, []string{"b.yaml:1:8: space s is declared at a.yaml:2:8 too; allowed: one file for each space"}},
		"a bad address":        {inMemory{"a.yaml": head + "topics:\n  T t: {}\n"}, []string{"a.yaml:4:3:"}},
		"a bad position":       {inMemory{"a.yaml": head + "topics:\n  t:\n    groups:\n      g: {from: somewhere}\n"}, []string{`a.yaml:6:17: from is "somewhere"; allowed: `}},
		"one name for two":     {inMemory{"a.yaml": head + "topics:\n  t:\n    groups: {warm: {}}\n    routes:\n      warm: {to: s/q}\n"}, []string{"a.yaml:7:14: s/t@warm is declared at a.yaml:5:20 too"}},
		"a bad condition":      {inMemory{"a.yaml": head + "topics:\n  t:\n    routes:\n      warm: {to: s/q, where: 'body.celsius >'}\n"}, []string{"a.yaml:6:30: s/t@warm: condition, column 15: the condition ends too early"}},
		"a bad edit":           {inMemory{"a.yaml": head + "topics:\n  t:\n    routes:\n      warm: {to: s/q, edits: [turn key]}\n"}, []string{"a.yaml:6:30: s/t@warm: \"turn key\": it begins with \"turn\""}},
		"groups of a queue":    {inMemory{"a.yaml": head + "queues:\n  q: {groups: {g: {}}}\n"}, []string{"a.yaml:4:7: a queue has no groups"}},
		"no such block":        {inMemory{"a.yaml": head + "blocks: {small: {partitionCount: 1}}\ntopics:\n  t: {use: smal}\n"}, []string{`a.yaml:5:12: there is no block "smal"; allowed: small`}},
		"no such file":         {inMemory{"a.yaml": head + "include: [common/_b.yaml]\n"}, []string{"a.yaml:3:11: common/_b.yaml cannot be read: there is no file common/_b.yaml"}},
		"wrong in a block":     {inMemory{"a.yaml": head + "include: _b.yaml\ntopics:\n  t: {use: b}\n", "_b.yaml": "blocks:\n  b: {retain: never}\n"}, []string{`_b.yaml:2:7: s/t: retain is "never": this is not a duration`}},
		"no such variable":     {inMemory{"a.yaml": head + "topics:\n  t: {retain: \"${RETAIN}\"}\n"}, []string{"a.yaml:4:15: the environment has no RETAIN; set it, or write ${RETAIN:-VALUE}"}},
		"no such anchor":       {inMemory{"a.yaml": head + "topics:\n  t: *small\n"}, []string{"a.yaml:4:6: there is no anchor small before this"}},
		"a merge":              {inMemory{"a.yaml": head + "topics:\n  a: &a {retain: 1d}\n  t:\n    <<: *a\n"}, []string{"a.yaml:6:5: << is not read here; name blocks and write use: NAME"}},
	} {
		t.Run(name, func(t *testing.T) {
			_, issues, err := Read(one.files, noEnv)
			require.NoError(t, err)
			require.NotEmpty(t, issues)
			assert.Contains(t, issues[0].Error(), one.want[0])
			for _, more := range one.want[1:] {
				assert.Contains(t, issues[0].Error(), more)
			}
		})
	}
}

func TestAllThatIsWrongIsSaidInTheOrderOfTheFiles(t *testing.T) {
	files := inMemory{"a.yaml": "declaration: nl\nspace: s\ntopics:\n  t: {partitionCount: 0, replicas: 0, retain: x}\n", "b.yaml": "space: r\nqueues:\n  q: {lease: 0s}\n"}
	for range 20 { // settings are looked at in no order of their own
		_, issues, err := Read(files, noEnv)
		require.NoError(t, err)
		var places []string
		for _, i := range issues {
			places = append(places, i.Place.String())
		}
		require.Equal(t, []string{"a.yaml:4:23", "a.yaml:4:36", "a.yaml:4:47", "b.yaml:3:14"}, places)
	}
}

// Blocks, anchors, what is included, and values of the environment.
func TestWhatFilesShareAndWhatDiffersBetweenPlaces(t *testing.T) {
	files := inMemory{
		"a.yaml": `declaration: nl
include: common/_blocks.yaml
space: s
labels: {team: "${TEAM:-vans}", cost: "$${TEAM}"}
topics:
  plain: {use: kept, partitionCount: "${PARTS:-2}"}
  own: {use: [kept, small], retain: 1d}
queues:
  q: &q {use: kept, lease: 20s}
  r: *q
`,
		"common/_blocks.yaml": "blocks:\n  kept: {retain: \"${RETAIN:-72h}\", labels: {kept: \"yes\"}, lease: 1m}\n  small: {partitionCount: 1, retain: 2d}\n",
	}
	read := func(env map[string]string) map[string]map[string]any {
		d, issues, err := Read(files, func(name string) (string, bool) { v, ok := env[name]; return v, ok })
		require.NoError(t, err)
		require.Empty(t, issues)
		out := map[string]map[string]any{}
		for _, t := range d.Things {
			out[t.Address] = t.Settings
		}
		return out
	}
	kept := map[string]string{"kept": "yes"}
	assert.Equal(t, map[string]map[string]any{
		"s":       {"labels": map[string]string{"team": "vans", "cost": "${TEAM}"}},
		"s/plain": {"retain": "3d", "partitionCount": 2, "labels": kept},
		"s/own":   {"retain": "1d", "partitionCount": 1, "labels": kept},
		"s/q":     {"lease": "20s", "labels": kept},
		"s/r":     {"lease": "20s", "labels": kept},
	}, read(nil))
	elsewhere := read(map[string]string{"RETAIN": "6h", "PARTS": "8", "TEAM": "boats: 5"})
	assert.Equal(t, "6h", elsewhere["s/plain"]["retain"])
	assert.Equal(t, 8, elsewhere["s/plain"]["partitionCount"])
	assert.Equal(t, map[string]string{"team": "boats: 5", "cost": "${TEAM}"}, elsewhere["s"]["labels"], "a value of the environment is no YAML")
}

// What a few bytes stand for may not grow without end.
func TestAnchorsOfAnchorsAreBounded(t *testing.T) {
	var b strings.Builder
	b.WriteString("declaration: nl\nspace: s\nblocks:\n  k0: &k0 {x: 1}\n")
	for i := 1; i < 40; i++ {
		fmt.Fprintf(&b, "  k%d: &k%d {l: *k%d, r: *k%d}\n", i, i, i-1, i-1)
	}
	_, issues, err := Read(inMemory{"a.yaml": b.String()}, noEnv)
	require.NoError(t, err)
	require.NotEmpty(t, issues)
	assert.Contains(t, issues[0].Problem, "more than")
}

// schemaOf compiles a JSON Schema.
func schemaOf(t testing.TB, b []byte) *jsonschema.Schema {
	t.Helper()
	document, err := jsonschema.UnmarshalJSON(strings.NewReader(string(b)))
	require.NoError(t, err)
	c := jsonschema.NewCompiler()
	require.NoError(t, c.AddResource("schema.json", document))
	s, err := c.Compile("schema.json")
	require.NoError(t, err)
	return s
}

func fits(t testing.TB, s *jsonschema.Schema, content string) error {
	t.Helper()
	b, err := yaml.YAMLToJSON([]byte(content))
	require.NoError(t, err)
	value, err := jsonschema.UnmarshalJSON(strings.NewReader(string(b)))
	require.NoError(t, err)
	return s.Validate(value)
}

// The schema for editors accepts what is read, and complains of names and forms
// that are not.
func TestTheSchemaFits(t *testing.T) {
	s := schemaOf(t, Schema())
	for _, right := range []string{
		"declaration: nl\nspace: s\ndescription: some\nlabels: {team: vans}\ntopics:\n  t: {partitionCount: 3, retain: 3d, retainBytes: 8MiB, hold: [audit], paused: true, groups: {g: {from: end, expire: 7d}, h: }}\nqueues: {q: {order: key, backoff: 1s..5m, routes: {dead@archive: {to: s/t}, warm/dead@archive: {to: s/t, from: first}}}, r: }\n",
		"declaration: nl\ninclude: [_b.yaml]\nblocks: {b: {retain: 1d}}\nnodes: {spreadLeaders: false}\n",
		"declaration: nl\nspace: s\ntopics: {t: {use: b, partitionCount: \"${N:-3}\", retain: \"${R:-1h}\"}}\nblocks: {b: {}}\n",
	} {
		assert.NoError(t, fits(t, s, right), right)
		if !strings.Contains(right, "_b.yaml") {
			readAll(t, inMemory{"a.yaml": right})
		}
	}
	for _, wrong := range []string{"topcis: {}\n", "space: S\n", "topics: {t: {retian: 3d}}\n", "queues: {q: {retain: 3d}}\n", "queues: {q: {order: sideways}}\n", "topics: {t: {partitionCount: many}}\n", "topics: {\"T t\": {}}\n", "queues: {q: {routes: {dead@: {to: s/t}}}}\n", "topics: {t: {routes: {warm/dead: {to: s/t}}}}\n"} {
		assert.Error(t, fits(t, s, wrong), wrong)
	}
}

// What is written fits the schema.
func TestWhatIsWrittenFitsTheSchema(t *testing.T) {
	s := schemaOf(t, Schema())
	var addresses []string
	for _, content := range Write("nl", []Thing{{Kind: "nodes", Address: Nodes, Settings: settingsOfNew("nodes")}, {Kind: "space", Address: "s", Settings: settingsOfNew("space")},
		{Kind: "topic", Address: "s/t", Settings: settingsOfNew("topic")}, {Kind: "group", Address: "s/t@g", Settings: settingsOfNew("group")}, {Kind: "route", Address: "s/t@r", Settings: settingsOfNew("route")}, {Kind: "queue", Address: "s/q", Settings: settingsOfNew("queue")}, {Kind: "route", Address: "s/q@r", Settings: settingsOfNew("route")},
		{Kind: "route", Address: "s/q/dead@archive", Settings: settingsOfNew("route")}, {Kind: "route", Address: "s/t@g/dead@archive", Settings: settingsOfNew("route")}}, true) {
		assert.NoError(t, fits(t, s, content), content)
		read := readAll(t, inMemory{"a.yaml": strings.ReplaceAll(content, `to: ""`, "to: s/t")})
		for _, t := range read.Things {
			addresses = append(addresses, t.Address)
		}
	}
	assert.Subset(t, addresses, []string{"s/q@r", "s/q/dead@archive", "s/t@g/dead@archive"}, "what is written is read back")
}

// The document is one of AsyncAPI 3.0, by the specification's own schema, which
// comes with the console's packages.
func TestTheAsyncAPIDocumentIsValid(t *testing.T) {
	b, err := os.ReadFile("../../../web/node_modules/@asyncapi/specs/schemas/3.0.0.json")
	require.NoError(t, err, "run npm ci in web first, as make test does")
	s := schemaOf(t, b)
	things := []Thing{{Kind: "nodes", Address: Nodes}, {Kind: "space", Address: "s", Settings: map[string]any{"description": "a space"}},
		{Kind: "topic", Address: "s/t", Settings: map[string]any{"description": "Readings", "labels": map[string]string{"team": "vans"}}},
		{Kind: "group", Address: "s/t@g", Settings: map[string]any{}}, {Kind: "queue", Address: "s/q", Settings: map[string]any{}}, {Kind: "route", Address: "s/q/dead@archive", Settings: map[string]any{}}}
	document, err := AsyncAPI(things, "http://127.0.0.1:8080")
	require.NoError(t, err)
	value, err := jsonschema.UnmarshalJSON(strings.NewReader(string(document)))
	require.NoError(t, err)
	require.NoError(t, s.Validate(value))

	var d struct {
		Channels   map[string]struct{ Address string }
		Operations map[string]struct{ Action string }
	}
	require.NoError(t, json.Unmarshal(document, &d))
	assert.Equal(t, "s/t", d.Channels["s.t"].Address)
	assert.Len(t, d.Channels, 2)
	assert.Equal(t, "receive", d.Operations["receive.s.t.g"].Action)
	assert.Len(t, d.Operations, 5)

	delete(value.(map[string]any), "info")
	var invalid *jsonschema.ValidationError
	assert.True(t, errors.As(s.Validate(value), &invalid), "the schema does refuse something")
}

// Whatever files say, reading ends, and what is right is written and read again the
// same.
func FuzzRead(f *testing.F) {
	f.Add("declaration: nl\nspace: s\ntopics:\n  t: {retain: 3d, groups: {g: {from: end}}}\n")
	f.Add("blocks: {b: &b {lease: 1s}}\nspace: s\nqueues: {q: *b, r: {use: b}}\n")
	f.Add("space: s\ndescription: |\n  of two\n  lines\nlabels: {a: '${X:-y}'}\nnodes: {spreadLeaders: yes}\n")
	f.Add("include: a.yaml\nuse: [a\n---\n")
	f.Fuzz(func(t *testing.T, content string) {
		d, issues, err := Read(inMemory{"a.yaml": "declaration: nl\n" + content}, noEnv)
		if err != nil || len(issues) > 0 || len(d.Things) == 0 {
			for _, i := range issues {
				if i.Line < 1 || i.Column < 1 || i.Problem == "" {
					t.Fatalf("%#v", i)
				}
			}
			return
		}
		again, issues, err := Read(inMemory(Write(d.Name, d.Things, true)), noEnv)
		require.NoError(t, err)
		require.Empty(t, issues)
		require.Empty(t, Compare(again.Things, d.Things, false))
	})
}
