package declare

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/setting"
)

// world is a model of what is there: things by their keys, each with all settings
// of its kind.
type world map[string]Thing

func settingsOfNew(kind string) map[string]any {
	var shown map[string]any
	switch kind {
	case "nodes":
		shown = setting.Clusters.Show(&setting.Cluster{SpreadLeaders: true}, "")
	case "space":
		shown = setting.Spaces.Show(&setting.Space{Labels: map[string]string{}}, "")
	case "endpoint":
		e := setting.Endpoint{URL: "https://clinics.example/"}
		setting.Endpoints.SetDefaults(&e, setting.HTTP)
		shown = setting.Endpoints.Show(&e, setting.HTTP)
	case setting.AWatch:
		w := setting.Watch{Of: "space-0/*"}
		setting.Watches.SetDefaults(&w, "")
		shown = setting.Watches.Show(&w, "")
	case setting.AChore:
		c := setting.Chore{Of: "space-0/*", Do: setting.DoVerify, EveryMS: 3_600_000}
		setting.Chores.SetDefaults(&c, "")
		shown = setting.Chores.Show(&c, "")
	case "group", "route":
		shown = setting.Groups.Show(&setting.Group{Routing: setting.Routing{To: "space-0/channel-0"}}, kind)
	default:
		var ch setting.Channel
		setting.Channels.SetDefaults(&ch, kind)
		ch.Replicas = 1
		shown = setting.Channels.Show(&ch, kind)
	}
	return Named(kind).Declarable(shown)
}

// made makes the changes, one by one, and fails when one comes before what it
// needs, or takes away what another still needs.
func (w world) made(t *testing.T, changes []Change) {
	for _, c := range changes {
		one := Thing{Kind: c.Kind, Address: c.Address, Settings: map[string]any{}}
		is, known := w[one.key()]
		require.Equal(t, c.Op == Create, !known, "%s %s", c.Op, c.Address)
		switch c.Op {
		case Create:
			require.True(t, w.hasParent(one), "%s is created before what it is in", c.Address)
			one.Settings = settingsOfNew(c.Kind)
			maps.Copy(one.Settings, c.After)
			w[one.key()] = one
		case Set:
			require.NotEmpty(t, c.After)
			for name, value := range c.After {
				require.Equal(t, is.Settings[name], c.Before[name])
				require.NotEqual(t, is.Settings[name], value)
			}
			one.Settings = maps.Clone(is.Settings)
			maps.Copy(one.Settings, c.After)
			w[one.key()] = one
		case Remove:
			for _, other := range w {
				require.False(t, other.Address != c.Address && (strings.HasPrefix(other.Address, c.Address+"/") || strings.HasPrefix(other.Address, c.Address+"@")), "%s goes before %s", c.Address, other.Address)
			}
			delete(w, one.key())
		}
	}
}

func (w world) hasParent(t Thing) bool {
	channel, _, isGroup := strings.Cut(t.Address, "@")
	space, _, isChannel := strings.Cut(channel, "/")
	switch {
	case isGroup:
		_, ok := w["topic "+channel]
		if t.Kind == "route" && !ok {
			_, ok = w["queue "+channel]
		}
		return ok
	case isChannel:
		_, ok := w["space "+space]
		return ok
	}
	return true
}

func (w world) things() []Thing {
	var all []Thing
	for _, t := range w {
		all = append(all, t)
	}
	Sort(all)
	return all
}

// hard are texts that a file must not take for something else.
var hard = []string{"", "plain", "true", "null", "~", "12", "1.5", "0x1f", "2026-11-27", "a: b", "- a", "# no comment", "a # b", "{a}", "[a]", "&a", "*a", "!t", "|", ">", "%", "@at", "`", "'one'", `"two"`,
	`back\slash`, "trailing ", " leading", "two\nlines", "tab\there", "ünïcode ✓", "${HOME}", "$${HOME}", "$", "yes", "no", "on", "?", ": ", "a:", "<<", "=", "\u0085", "\u2028", "-", "---", "..."}

// some returns a value for the row, or nil when none comes to mind.
func some(rnd *rand.Rand, row setting.Row) any {
	pick := func(all ...any) any { return all[rnd.IntN(len(all))] }
	switch row.Form {
	case "number":
		return float64(1 + rnd.IntN(5))
	case "size":
		return float64((1+rnd.Int64N(60))<<20 + rnd.Int64N(2))
	case "duration":
		if strings.HasSuffix(row.Allowed, "to 5m") {
			return pick("1s", "90s")
		}
		return pick("1h", "30m", "90s", "61s", "1500s")
	case "durations":
		return pick("1s..1m", "2s..2s", "500ms..1h")
	case "switch":
		return rnd.IntN(2) == 0
	case "choice":
		return row.Choices[rnd.IntN(len(row.Choices))]
	case "names":
		return pick([]any{}, []any{"audit"}, []any{"audit", "billing"})
	case "labels":
		labels := map[string]any{}
		for range rnd.IntN(3) {
			labels[fmt.Sprintf("l%d", rnd.IntN(4))] = hard[rnd.IntN(len(hard))]
		}
		return labels
	case "addresses":
		return pick([]any{}, []any{"space-0/endpoint-0", "space-1/endpoint-1"})
	case "level":
		return pick("none", "5", 12.5, "10m")
	case "pattern":
		return pick("space-0/*", "space-1/in*@*")
	case "sentence":
		return hard[rnd.IntN(len(hard))]
	case "condition":
		return pick("", "body.celsius > 8.0", `key == "a: b" && text.contains("#\"")`)
	case "edits":
		return pick([]any{}, []any{"set header.source=warm", "remove /x"}, []any{`compute key="x" + key`})
	case "url":
		return pick("https://clinics.example/hook?of=north", "postgresql://ferry@clinics.example/rows")
	case "table":
		return pick("clinic.readings", "")
	case "headers":
		return pick(map[string]any{}, map[string]any{"x-depot": "north: 1", "x-more": "#2"})
	case "columns":
		return pick(map[string]any{}, map[string]any{"box": "key", "celsius": "/celsius"})
	case "address":
		return pick("space-0/channel-0", "space-1/channel-1")
	case "position":
		return pick("first", "ago:1h30m", "group:audit")
	case "mailbox":
		return pick("ferry@northlight.example", "none")
	case "mailboxes":
		return pick([]any{}, []any{"duty@northlight.example", "depot@northlight.example"})
	case "keeps":
		return pick(map[string]any{}, map[string]any{"paused": "false", "description": "a: #b"})
	case "cause":
		return pick("f05f472b", "none")
	case "rate":
		return pick(12.5, 40.0, "7/s")
	}
	return nil
}

// someThings are random things, with some settings each; of few names, so that two
// of them have much in common.
func someThings(t *testing.T, rnd *rand.Rand) []Thing {
	var all []Thing
	add := func(kind, at string) {
		k := Named(kind)
		one := Thing{Kind: kind, Address: at, Settings: map[string]any{}}
		for _, row := range k.Rows {
			if rnd.IntN(3) > 0 {
				continue
			}
			normal, err := k.Normal(map[string]any{row.Name: some(rnd, row)})
			require.NoError(t, err, row.Name)
			one.Settings[row.Name] = normal[row.Name]
		}
		all = append(all, one)
	}
	if rnd.IntN(2) == 0 {
		add("nodes", Nodes)
	}
	for s := range 3 {
		if rnd.IntN(4) == 0 {
			continue
		}
		space := fmt.Sprintf("space-%d", s)
		add("space", space)
		for e := range rnd.IntN(3) {
			add("endpoint", fmt.Sprintf("%s/endpoint-%d", space, e))
			add(setting.AWatch, fmt.Sprintf("%s/watch-%d", space, e))
			add(setting.AChore, fmt.Sprintf("%s/chore-%d", space, e))
		}
		for c := range 5 {
			at := fmt.Sprintf("%s/channel-%d", space, c)
			switch {
			case rnd.IntN(3) == 0:
			case c >= 3:
				add("queue", at)
			default:
				add("topic", at)
				for g := range rnd.IntN(3) {
					add("group", fmt.Sprintf("%s@group-%d", at, g))
				}
			}
			if slices.ContainsFunc(all, func(t Thing) bool { return t.Address == at }) {
				for r := range rnd.IntN(3) {
					add("route", fmt.Sprintf("%s@route-%d", at, r))
				}
			}
		}
	}
	Sort(all)
	return all
}
