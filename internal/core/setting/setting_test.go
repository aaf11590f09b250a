package setting

import (
	"encoding/json"
	"errors"
	"fmt"
	"reflect"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/problem"
)

func raw(t *testing.T, text string) map[string]json.RawMessage {
	t.Helper()
	var values map[string]json.RawMessage
	require.NoError(t, json.Unmarshal([]byte(text), &values))
	return values
}

func TestValuesAreCheckedByTheirRows(t *testing.T) {
	for text, wanted := range map[string]string{
		`{"partitionCount":0}`:         "partitionCount is 0; allowed: 1 to 1000",
		`{"partitionCount":1.5}`:       "partitionCount is 1.5; allowed: 1 to 1000",
		`{"partitionCount":1e300}`:     "partitionCount is 1",
		`{"partitionCount":"3"}`:       `partitionCount is "3"; allowed: 1 to 1000`,
		`{"partitionCount":null}`:      "partitionCount is null",
		`{"replicas":8}`:               "allowed: 1 to 7; an odd number is best",
		`{"retain":"30s"}`:             "retain is 30s; allowed: 1m to 36500d",
		`{"retain":"soon"}`:            `retain is "soon": this is not a duration; allowed: 1m to 36500d; written as numbers with d`,
		`{"retain":7}`:                 "retain is 7; allowed: 1m to 36500d",
		`{"retainBytes":1024}`:         "retainBytes is 1KiB; allowed: 1MiB to 1024TiB",
		`{"maxBody":67108865}`:         "allowed: 1B to 64MiB",
		`{"maxBody":1.5}`:              "maxBody is 1.5",
		`{"idWindow":"2h"}`:            "idWindow is 2h; allowed: 0s (off) to 1h",
		`{"idWindow":"-1s"}`:           "idWindow",
		`{"lease":"50ms"}`:             "lease is 50ms; allowed: 100ms to 1d",
		`{"attemptLimit":1001}`:        "attemptLimit is 1001; allowed: 1 to 1000",
		`{"backoff":"5m..1s"}`:         "backoff is 5m..1s; allowed: the shortest first",
		`{"backoff":"1s..x"}`:          `backoff is "x": this is not a duration; allowed: 0s to 365d`,
		`{"order":"random"}`:           `order is "random"; allowed: none, key`,
		`{"paused":"yes"}`:             `paused is "yes"; allowed: true, false`,
		`{"hold":"compliance"}`:        `hold is "compliance"`,
		`{"hold":[1]}`:                 "hold is [1]",
		`{"hold":["NO"]}`:              "hold: ",
		`{"description":"a\u0000b"}`:   "the description has the character U+0000",
		`{"labels":{"a":1}}`:           "labels is map[a:1]",
		`{"labels":{"a":"1","a":"2"}}`: "labels",
		`{"labels":{"Über":"1"}}`:      `label "Über"="1"`,
		`{"celsius":1}`:                `unknown field "celsius"; allowed: partitionCount, replicas`,
		`{"description":"` + strings.Repeat("x", 501) + `"}`: "the description has 501 characters; allowed: up to 500 characters",
	} {
		_, err := Channels.Read(raw(t, text))
		var p *problem.Problem
		if assert.ErrorAs(t, err, &p, text) {
			assert.Contains(t, p.Error(), wanted, text)
			assert.NotEmpty(t, p.Of, text)
			assert.Equal(t, problem.Invalid, p.Kind)
		}
	}
	many := map[string]string{}
	for i := range 21 {
		many[fmt.Sprint("n", i)] = "x"
	}
	assert.ErrorContains(t, CheckLabels(many), "21 labels; allowed: up to 20")
}

func TestSettingsOfAnotherKindAreRefused(t *testing.T) {
	for kind, name := range map[string]string{Topic: "attemptLimit", Queue: "retain"} {
		err := Channels.Fits(Change{name: nil, "paused": true}, kind, "coldchain/x")
		assert.ErrorContains(t, err, fmt.Sprintf("coldchain/x is a %s, which has no %s; allowed: partitionCount, ", kind, name))
		var p *problem.Problem
		require.True(t, errors.As(err, &p))
		assert.NotContains(t, strings.Split(p.Range, ", "), name)
	}
	assert.NoError(t, Channels.Fits(Change{"attemptLimit": 3, "paused": true}, Queue, "x"))
}

// What a row shows it takes back, as JSON and as text of a flag, and its
// default is one that it allows.
func TestEveryRowTakesBackWhatItShows(t *testing.T) {
	for _, kind := range []string{Topic, Queue} {
		var c Channel
		Channels.SetDefaults(&c, kind)
		c.Replicas = 3
		if kind == Topic {
			c.Hold, c.HoldBytes = []string{"compliance"}, 1<<30
		}
		c.Labels = map[string]string{"team": "logistics"}
		shown, err := json.Marshal(Channels.Show(&c, kind))
		require.NoError(t, err)
		change, err := Channels.Read(raw(t, string(shown)))
		require.NoError(t, err)
		require.NoError(t, Channels.Fits(change, kind, "x"))
		var again Channel
		Channels.Apply(&again, change)
		assert.Equal(t, c, again, kind)
	}
	flags := map[string]bool{}
	for _, r := range Channels.Rows() {
		assert.NotEmpty(t, r.Label, r.Name)
		assert.NotEmpty(t, r.Allowed, r.Name)
		assert.Regexp(t, "^[a-z]+(-[a-z]+)*$", r.Flag)
		assert.False(t, flags[r.Flag], r.Flag)
		flags[r.Flag] = true
		s := Channels.Named(r.Name)
		assert.Equal(t, 0, strings.Count(s.Help, "`")%2, "%s: its value is named in backquotes", r.Name)
		if r.Default != "" {
			value, err := s.Form.Parse(r.Name, r.Default)
			require.NoError(t, err, r.Name)
			assert.NotNil(t, s.Form.Show(value))
		}
	}
	assert.Equal(t, "id-window", Flag("idWindow"))
}

func TestTextOfFlagsIsRead(t *testing.T) {
	for name, texts := range map[string]map[string]any{
		"partitionCount": {"6": 6},
		"retainBytes":    {"10GiB": int64(10 << 30)},
		"retain":         {"7d": 168 * time.Hour},
		"backoff":        {"1s..5m": Span{time.Second, 5 * time.Minute}, "2s": Span{2 * time.Second, 2 * time.Second}},
		"paused":         {"true": true, "false": false},
		"hold":           {"a, b": []string{"a", "b"}, "none": []string{}},
		"labels":         {"team=x": map[string]string{"team": "x"}},
		"order":          {"key": "key"},
	} {
		for text, wanted := range texts {
			value, err := Channels.Named(name).Form.Parse(name, text)
			require.NoError(t, err, name)
			assert.Equal(t, wanted, value, name)
		}
		if name != "hold" {
			_, err := Channels.Named(name).Form.Parse(name, "?")
			assert.Error(t, err, name)
		}
	}
}

// A change says in words what it means, and nothing of what stays.
func TestWhatAChangeMeans(t *testing.T) {
	for _, c := range []struct {
		kind, change string
		wanted       []string // of each effect
	}{
		{Topic, `{"paused":true}`, []string{"publishing is refused until the pause ends"}},
		{Topic, `{"paused":false}`, nil},
		{Topic, `{"maxBody":1024}`, []string{"bodies over 1KiB are refused from now on"}},
		{Topic, `{"maxBody":16777216,"description":"x"}`, nil},
		{Topic, `{"partitionCount":6}`, []string{"partitions 4 to 5 are added, empty."}},
		{Topic, `{"replicas":4}`, []string{"4 partitions are each copied to 1 more node", "4 replicas go on after the loss of 1 node, as 3 do"}},
		{Topic, `{"replicas":1}`, []string{"2 replicas of each partition go; no node may be lost"}},
		{Topic, `{"retain":"1h"}`, []string{"messages are deleted when they are 1h old, instead of 7d"}},
		{Topic, `{"retain":"30d","retainBytes":1048576}`, []string{"each partition keeps 1MiB, instead of 10GiB"}},
		{Topic, `{"hold":["compliance","alarms"]}`, []string{"retention leaves what alarms, compliance has not read, up to 20GiB a partition"}},
		{Queue, `{"attemptLimit":3}`, []string{"messages become dead letters after 3 attempts instead of 6"}},
		{Queue, `{"attemptLimit":7}`, nil},
		{Queue, `{"retainDead":"1d"}`, []string{"dead letters older than 1d go at once"}},
		{Queue, `{"expire":"1h","dropExpired":true}`, []string{"messages that have waited longer than 1h are dropped"}},
		{Queue, `{"expire":"1h"}`, []string{"messages that have waited longer than 1h become dead letters"}},
		{Queue, `{"retainDiscarded":"1h"}`, []string{"what was discarded more than 1h ago goes at once"}},
	} {
		was := Channel{}
		Channels.SetDefaults(&was, c.kind)
		was.Partitions, was.Replicas = 4, 3
		change, err := Channels.Read(raw(t, c.change))
		require.NoError(t, err)
		is := was
		Channels.Apply(&is, change)
		before, after, effects := Channels.Diff(&was, &is, c.kind)
		require.Len(t, effects, len(c.wanted), c.change)
		for i, wanted := range c.wanted {
			assert.Contains(t, effects[i], wanted, c.change)
		}
		for name := range after {
			assert.False(t, reflect.DeepEqual(before[name], after[name]), name)
			assert.Contains(t, c.change+"holdBytes", name)
		}
	}
}

func TestWhatCannotBeChanged(t *testing.T) {
	was := Channel{Partitions: 4}
	assert.ErrorContains(t, Channels.Refuse(&was, &Channel{Partitions: 3}, Topic, "coldchain/x"), "coldchain/x has 4 partitions, and they cannot become fewer; allowed: 4 to 1000")
	is := was
	is.Queue.ByKey = true
	assert.ErrorContains(t, Channels.Refuse(&was, &is, Queue, "coldchain/x"), "messages are under way")
	assert.NoError(t, Channels.Refuse(&was, &was, Queue, "x"))
}

// What loses something, brings a loss nearer, or moves replicas or keys is asked
// for first.
func TestWhatIsPreviewedFirst(t *testing.T) {
	for change, careful := range map[string]bool{
		`{"retain":"6d"}`: true, `{"retain":"8d"}`: false, `{"retainBytes":1048576}`: true, `{"hold":["compliance"]}`: false, `{"hold":[]}`: true, `{"holdBytes":1048576}`: true,
		`{"partitionCount":5}`: true, `{"partitionCount":4}`: false, `{"replicas":1}`: true, `{"retainDead":"1d"}`: true, `{"retainDead":"30d"}`: false,
		`{"retainDiscarded":"1h"}`: true, `{"expire":"1h"}`: false, `{"expire":"1h","dropExpired":true}`: true, `{"description":"x","paused":true}`: false,
	} {
		was := Channel{}
		kind := Queue
		if strings.Contains(change, "retain\"") || strings.Contains(change, "retainB") || strings.Contains(change, "hold") {
			kind = Topic
		}
		Channels.SetDefaults(&was, kind)
		was.Partitions, was.Replicas, was.Hold, was.HoldBytes = 4, 3, []string{"compliance"}, 1<<30
		is := was
		read, err := Channels.Read(raw(t, change))
		require.NoError(t, err)
		Channels.Apply(&is, read)
		assert.Equal(t, careful, Channels.Careful(&was, &is, kind), change)
	}
}

func TestLabelsAreMerged(t *testing.T) {
	have := map[string]string{"team": "logistics", "tier": "1"}
	assert.Equal(t, map[string]string{"team": "cold", "site": "depot"}, Merge(have, map[string]string{"team": "cold", "tier": "", "site": "depot"}))
	assert.Equal(t, "logistics", have["team"], "what is merged stays as it was")
}

// No value of JSON, however wrong, is taken or brings a row down.
func FuzzRead(f *testing.F) {
	for _, seed := range []string{`{"partitionCount":3}`, `{"labels":{"a":"b"}}`, `{"backoff":"1s..2s"}`, `{"hold":[]}`, `{"retain":"1h"}`, `{"retainBytes":1e400}`} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		var values map[string]json.RawMessage
		if json.Unmarshal([]byte(text), &values) != nil {
			return
		}
		change, err := Channels.Read(values)
		if err != nil {
			return
		}
		var c Channel
		Channels.Apply(&c, change)
		shown, err := json.Marshal(Channels.Show(&c, Queue))
		require.NoError(t, err)
		require.NotEmpty(t, shown)
	})
}
