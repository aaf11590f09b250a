package main

import (
	"bytes"
	"flag"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"steadyferry/cmd/ferry/term"
)

// Wrong usage ends with status 2 and says what is wrong; the service is not
// asked.
func TestWrongUsageIsSaid(t *testing.T) {
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		t.Errorf("%s %s is asked", r.Method, r.URL)
	}))
	defer server.Close()
	for line, says := range map[string]string{
		"shout":               `there is no verb "shout"`,
		"new":                 "expected",
		"new topic":           "are expected, such as: ferry new topic",
		"new topic coldchain": "is the address of a space",
		"new topic coldchain/readings -partition":       "flag",
		"new topic coldchain//x":                        "coldchain//x",
		"new group coldchain/readings":                  "group",
		"list a b":                                      "",
		"show":                                          "one address is expected",
		"show coldchain/readings -every soon":           "soon",
		"set coldchain/readings -retain soon":           "soon",
		"set coldchain/readings -replicas none":         "none",
		"remove":                                        "one address is expected",
		"send":                                          "one address is expected",
		"send coldchain/readings -lines -ndjson":        "",
		"send coldchain/readings -header x":             "NAME=VALUE",
		"browse coldchain/readings -partition x":        "not a partition's number",
		"tail coldchain/readings -to first":             "a tail ends at offset:N or time:T",
		"read coldchain/readings":                       "group",
		"lease coldchain/inspections/dead":              "are dead letters, which are not leased",
		"lease coldchain":                               "a queue is expected",
		"settle coldchain/inspections":                  "leases are expected",
		"work coldchain/inspections":                    "",
		"dead coldchain/inspections -return -discard":   "do not go together",
		"dead coldchain/inspections -discard -rate 5/s": "-rate goes with -return",
		"replay":                    "what to replay is expected",
		"replay coldchain/readings": "-to is missing",
		"replay show":               "the number of a replay is expected",
		"replay show many":          "not the number of a replay",
		"replay coldchain/readings -to coldchain/x -rate fast":        "not a rate such as 200/s",
		"replay coldchain/readings -to coldchain/x -stop-above often": "a share such as 20%",
		"replay coldchain/readings -to coldchain/x -edit shout":       "allowed: set, compute, remove, rename",
		"seek coldchain/readings@compliance":                          "",
		"seek coldchain/readings -to first":                           "group",
		"export":                                                      "one address is expected",
		"lag coldchain//x":                                            "coldchain//x",
		"load coldchain/readings -rate none":                          "",
		"nodes drain":                                                 "takes one name or number",
		"nodes spread maybe":                                          "allowed: on, off",
		"nodes explode node-a":                                        "is not something that ferry nodes does",
		"nodes adopt 7":                                               "-as is missing",
		"nodes force-recover coldchain":                               "a topic or a partition is expected",
		"move coldchain/readings#0":                                   "",
		"logbook -limit many":                                         "many",
	} {
		var out, errOut bytes.Buffer
		code := term.Run(t.Context(), verbs, append(strings.Fields(line), "-server", server.URL, "-token", "x"), strings.NewReader(""), &out, &errOut)
		assert.Equal(t, 2, code, "%s: %s%s", line, out.String(), errOut.String())
		assert.Contains(t, errOut.String(), says, line)
		assert.Contains(t, errOut.String(), "ferry help", line)
	}
}

// Every verb has a help that names its flags, each with what it is for.
func TestEveryVerbTellsHowToUseIt(t *testing.T) {
	for _, v := range verbs {
		var out, errOut bytes.Buffer
		assert.Zero(t, term.Run(t.Context(), verbs, []string{"help", v.Name}, nil, &out, &errOut), v.Name)
		assert.Contains(t, out.String(), "ferry "+v.Name+" "+v.Args)
		fs := flag.NewFlagSet(v.Name, flag.ContinueOnError)
		v.Define(fs)
		fs.VisitAll(func(f *flag.Flag) {
			assert.Contains(t, out.String(), "-"+f.Name)
			assert.NotEmpty(t, f.Usage, "-%s of %s", f.Name, v.Name)
		})
		var same bytes.Buffer
		assert.Zero(t, term.Run(t.Context(), verbs, []string{v.Name, "-h"}, nil, &same, &errOut), v.Name)
		assert.Equal(t, out.String(), same.String())
	}
	var out, errOut bytes.Buffer
	assert.Zero(t, term.Run(t.Context(), verbs, nil, nil, &out, &errOut))
	for _, v := range verbs {
		assert.Contains(t, out.String(), v.Summary)
	}
	assert.Equal(t, 2, term.Run(t.Context(), verbs, []string{"help", "shout"}, nil, &out, &errOut))
	assert.Equal(t, 2, term.Run(t.Context(), verbs, []string{"list", "-server", "://"}, nil, &out, &errOut), "no address of a service")
	assert.Equal(t, 1, term.Run(t.Context(), verbs, []string{"list", "-server", "127.0.0.1:1", "-token", "x"}, nil, &out, &errOut))
	assert.Contains(t, errOut.String(), "is ferryd running")
}
