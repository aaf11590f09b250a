package main

import (
	"bytes"
	"context"
	"encoding/json"
	"flag"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"steadyferry/cmd/ferry/term"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var (
	update = flag.Bool("update", false, "write what the verbs print now")
	record = flag.String("record", "", "address of a demo whose answers are recorded; its token is in FERRY_TOKEN")
)

// Times are printed as they are in UTC, from the start of the tests on.
func init() { time.Local = time.UTC }

// recorded is when the answers were recorded, and what they were by method and
// path. Where one was asked for again, the first one counts.
type recorded struct {
	At      time.Time         `json:"at"`
	Answers map[string]answer `json:"answers"`
}

type answer struct {
	Status int    `json:"status"`
	Type   string `json:"type"`
	Body   string `json:"body"`
}

const answersFile = "testdata/answers.json"

// printed are the lines whose output is compared.
var printed = map[string]string{
	"list":            "list",
	"list-space":      "list coldchain",
	"show-space":      "show coldchain",
	"show-topic":      "show coldchain/readings",
	"show-queue":      "show coldchain/inspections",
	"show-group":      "show coldchain/readings@compliance",
	"show-endpoint":   "show coldchain/clinic-hook",
	"show-route":      "show coldchain/recalls@hook",
	"endpoint-table":  "endpoint table coldchain/clinic-table",
	"show-history":    "show coldchain/readings@compliance -history",
	"show-message":    "show coldchain/readings#0:0",
	"show-item":       "show coldchain/inspections#0:3",
	"lag":             "lag",
	"lag-group":       "lag coldchain/readings@dashboards",
	"dead":            "dead coldchain/inspections",
	"status":          "status",
	"nodes":           "nodes",
	"nodes-without":   "nodes what-if -without node-a",
	"nodes-jobs":      "nodes jobs",
	"logbook":         "logbook -limit 8",
	"access":          "access",
	"replays":         "replay list",
	"trace":           "trace coldchain/inspections#0:3",
	"browse":          "browse coldchain/readings -limit 3 -json",
	"set-preview":     "set coldchain/inspections -attempt-limit 2 -retain-dead 1d",
	"remove-preview":  "remove coldchain/journeys",
	"seek-preview":    "seek coldchain/readings@dashboards -to first",
	"replay-preview":  "replay coldchain/inspections/dead -to coldchain/inspections -where body.box!=null",
	"discard-preview": "discard coldchain/inspections -why drill",
	"drain-preview":   "nodes drain node-a",
	"wrong-address":   "show coldchain/reading",
	"wrong-setting":   "set coldchain/readings -attempt-limit 2",
	"list-json":       "list coldchain -json",
	"watches":         "watches coldchain",
	"show-watch":      "show coldchain/dead-inspections",
	"incidents":       "incidents",
	"incident":        "incidents 1",
	"timetable":       "timetable coldchain",
	"timetable-runs":  "timetable coldchain/return-unanswered",
	"show-chore":      "show coldchain/return-unanswered",
	"chart":           "show coldchain -chart",
}

func (r *recorded) serve(w http.ResponseWriter, q *http.Request) {
	a, ok := r.Answers[q.Method+" "+q.URL.RequestURI()]
	if !ok {
		http.Error(w, "not recorded: "+q.Method+" "+q.URL.RequestURI(), http.StatusNotImplemented)
		return
	}
	w.Header().Set("Content-Type", a.Type)
	w.WriteHeader(a.Status)
	io.WriteString(w, a.Body)
}

// pass asks the demo, and keeps what it answers.
func (r *recorded) pass(w http.ResponseWriter, q *http.Request) {
	body, _ := io.ReadAll(q.Body)
	ask, err := http.NewRequest(q.Method, *record+q.URL.RequestURI(), bytes.NewReader(body))
	if err != nil {
		http.Error(w, err.Error(), http.StatusBadGateway)
		return
	}
	ask.Header = q.Header.Clone()
	ask.Header.Set("Authorization", "Bearer "+os.Getenv("FERRY_TOKEN"))
	response, err := http.DefaultClient.Do(ask)
	if err != nil {
		http.Error(w, err.Error(), http.StatusBadGateway)
		return
	}
	defer response.Body.Close()
	said, _ := io.ReadAll(response.Body)
	key := q.Method + " " + q.URL.RequestURI()
	if _, known := r.Answers[key]; !known {
		r.Answers[key] = answer{response.StatusCode, response.Header.Get("Content-Type"), string(said)}
	}
	r.serve(w, q)
}

// What each verb prints of recorded answers stays as it is, unless that is
// wanted: go test ./cmd/ferry -update, and -record for other answers.
func TestWhatVerbsPrint(t *testing.T) {
	clock := term.Now
	defer func() { term.Now = clock }()
	r := &recorded{At: time.Now().UTC().Truncate(time.Second), Answers: map[string]answer{}}
	handler := r.serve
	if *record != "" {
		handler = r.pass
	} else {
		b, err := os.ReadFile(answersFile)
		require.NoError(t, err)
		require.NoError(t, json.Unmarshal(b, r))
	}
	term.Now = func() time.Time { return r.At }
	server := httptest.NewServer(http.HandlerFunc(handler))
	defer server.Close()
	for name, line := range printed {
		t.Run(name, func(t *testing.T) {
			ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
			defer cancel()
			var out, errOut bytes.Buffer
			code := term.Run(ctx, verbs, append(strings.Fields(line), "-server", server.URL, "-token", "recorded"), strings.NewReader(""), &out, &errOut)
			have := "$ ferry " + line + "\n" + out.String()
			if errOut.Len() > 0 {
				have += "--- said besides\n" + errOut.String()
			}
			if code != 0 {
				have += "--- status " + string(rune('0'+code)) + "\n"
			}
			have = strings.ReplaceAll(have, strings.TrimPrefix(server.URL, "http://"), "SERVER")
			path := filepath.Join("testdata", name+".txt")
			if *update || *record != "" {
				require.NoError(t, os.WriteFile(path, []byte(have), 0o644))
				return
			}
			wanted, err := os.ReadFile(path)
			require.NoError(t, err)
			assert.Equal(t, string(wanted), have)
		})
	}
	if *record != "" {
		b, err := json.MarshalIndent(r, "", " ")
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(answersFile, b, 0o644))
	}
}

// With -every a verb draws again and again, each time the whole.
func TestWhatIsShownAgainIsShownWhole(t *testing.T) {
	r := &recorded{}
	b, err := os.ReadFile(answersFile)
	require.NoError(t, err)
	require.NoError(t, json.Unmarshal(b, r))
	server := httptest.NewServer(http.HandlerFunc(r.serve))
	defer server.Close()
	for _, line := range []string{"show coldchain/readings", "show coldchain/inspections", "show coldchain/readings@compliance", "nodes"} {
		ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
		out := threeTimes{enough: cancel}
		var errOut bytes.Buffer
		term.Run(ctx, verbs, append(strings.Fields(line), "-every", "10ms", "-server", server.URL, "-token", "recorded"), strings.NewReader(""), &out, &errOut)
		cancel()
		assert.True(t, out.done(), "%s: %s%s", line, out.String(), errOut.String())
	}
}

// threeTimes is what was written until its first line has come three times.
type threeTimes struct {
	bytes.Buffer
	enough func()
}

func (w *threeTimes) done() bool {
	first, _, whole := strings.Cut(w.String(), "\n")
	return whole && strings.Count(w.String(), first+"\n") >= 3
}

func (w *threeTimes) Write(b []byte) (int, error) {
	defer func() {
		if w.done() {
			w.enough()
		}
	}()
	return w.Buffer.Write(b)
}
