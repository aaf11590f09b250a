package address

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestAddressesAreReadAndPrintedBack(t *testing.T) {
	for text, kind := range map[string]Kind{
		"coldchain":                                  KindSpace,
		"coldchain/readings":                         KindChannel,
		"coldchain/readings#3":                       KindPartition,
		"coldchain/readings#3:1200":                  KindMessage,
		"coldchain/readings#0:0":                     KindMessage,
		"coldchain/readings@g#0:7":                   KindMessage,
		"coldchain/readings@compliance":              KindGroup,
		"coldchain/inspections/dead":                 KindDead,
		"coldchain/readings@forecast/dead":           KindDead,
		"9.a_b-c/x":                                  KindChannel,
		"coldchain/inspections/dead@archive":         KindGroup,
		"coldchain/inspections/dead@archive#0:3":     KindMessage,
		"coldchain/inspections/dead@archive/dead":    KindDead,
		"coldchain/readings@warm/dead@archive":       KindGroup,
		"coldchain/readings@warm/dead@a/dead@b/dead": KindDead,
		"coldchain/readings@dead/dead@dead#1:2":      KindMessage,
	} {
		a, err := Parse(text)
		require.NoError(t, err, text)
		assert.Equal(t, kind, a.Kind(), text)
		assert.Equal(t, text, a.String())
	}
}

func TestAReaderOfDeadLettersIsNamedByWhatItReads(t *testing.T) {
	for text, want := range map[string][2]string{
		"coldchain/readings@compliance":              {"coldchain/readings", "compliance"},
		"coldchain/readings@dead":                    {"coldchain/readings", "dead"},
		"coldchain/inspections/dead@archive":         {"coldchain/inspections", "dead@archive"},
		"coldchain/readings@undead/dead@archive":     {"coldchain/readings@undead", "dead@archive"},
		"coldchain/inspections/dead@a/dead@b":        {"coldchain/inspections/dead@a", "dead@b"},
		"coldchain/readings@warm/dead@a/dead@b/dead": {"coldchain/readings@warm/dead@a", "dead@b"},
	} {
		a, err := Parse(text)
		require.NoError(t, err, text)
		source, name := a.Source()
		assert.Equal(t, want, [2]string{source.String(), name}, text)
		assert.Equal(t, a.QueuePart(), source.Reader(name), text)
		assert.Equal(t, strings.Contains(text, "dead@"), ReadsDead(name), text)
	}
}

func TestNamesOfReaders(t *testing.T) {
	for name, wrong := range map[string]string{
		"compliance": "", "dead@archive": "", "warm/dead@archive": "", "dead": "",
		"": "is empty", "a/dead": "no name of a reader", "dead@": "the name is empty", "a@b": "'@' at character 2", "a/b": "after the channel", "a#1": "no name of a reader",
	} {
		err := CheckReader(name)
		if wrong == "" {
			assert.NoError(t, err, name)
		} else {
			assert.ErrorContains(t, err, wrong, name)
		}
	}
}

func TestWrongAddressesAreRefusedWithWhatIsAllowed(t *testing.T) {
	for text, problem := range map[string]string{
		"":                             "missing",
		"Coldchain":                    `'C' at character 1`,
		"coldchain/":                   "empty",
		"coldchain/read ings":          `' ' at character 5`,
		"coldchain/-x":                 `'-' at character 1`,
		"coldchain/readings#":          "a number is missing",
		"coldchain/readings#1000":      "too large",
		"coldchain/readings#01":        "starts with a 0",
		"coldchain/readings#3:-1":      "not a whole number",
		"coldchain/readings#3@g":       "partition together with a group",
		"coldchain/readings/alive":     "after the channel",
		strings.Repeat("a", 101):       "101 characters",
		"coldchain/readings/dead@":     "the route: the name is empty",
		"coldchain/readings/dead/dead": `"/dead" after the channel`,
		"coldchain/readings/dead#1":    "together with dead letters",
		"coldchain/readings#1/dead":    "together with dead letters",
		"coldchain/readings@g/alive@x": "only /dead there, or /dead@ROUTE",
	} {
		_, err := Parse(text)
		var e *Error
		require.ErrorAs(t, err, &e, text)
		assert.Contains(t, err.Error(), problem)
		assert.NotEmpty(t, e.Allowed)
	}
}

func FuzzParse(f *testing.F) {
	for _, s := range []string{"coldchain/readings#3:1200", "a@b", "a/b@c/dead", "a/b#9:9@c", "é/b", "a//dead", "a/b/dead@c#1:2", "a/b@c/dead@d/dead"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, text string) {
		if a, err := Parse(text); err == nil {
			assert.Equal(t, text, a.String(), "one thing has one address")
		}
	})
}

func FuzzParsePosition(f *testing.F) {
	for _, s := range []string{"first", "end", "offset:1200", "time:2026-11-23T08:00:00Z", "ago:90m", "group:compliance", "ago:1d12h", "time:x"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, text string) {
		p, err := ParsePosition(text)
		if err != nil {
			return
		}
		again, err := ParsePosition(p.String())
		require.NoError(t, err, p.String())
		assert.True(t, p.Time.Equal(again.Time))
		p.Time, again.Time = time.Time{}, time.Time{}
		assert.Equal(t, p, again)
	})
}

func TestPositions(t *testing.T) {
	now := time.Date(2026, 11, 23, 9, 30, 0, 0, time.UTC)
	p, err := ParsePosition("ago:90m")
	require.NoError(t, err)
	at, ok := p.TimeAt(now)
	assert.True(t, ok)
	assert.Equal(t, time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC), at)
	for _, wrong := range []string{"", "first:1", "offset:", "offset:-1", "offset:1.5", "time:yesterday", "ago:-5m", "ago:soon", "group:No", "middle"} {
		_, err := ParsePosition(wrong)
		assert.ErrorContains(t, err, "allowed: first, end", wrong)
	}
}

func TestDurationsAndSizes(t *testing.T) {
	for text, want := range map[string]time.Duration{"7d": 168 * time.Hour, "1d12h": 36 * time.Hour, "72h": 72 * time.Hour, "0.5d": 12 * time.Hour, "500ms": 500 * time.Millisecond, "0s": 0} {
		got, err := ParseDuration(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, got, text)
		again, err := ParseDuration(FormatDuration(got))
		require.NoError(t, err)
		assert.Equal(t, want, again)
	}
	for d, want := range map[time.Duration]string{72 * time.Hour: "3d", 36 * time.Hour: "1d12h", 90 * time.Minute: "1h30m", 2 * time.Hour: "2h", 20 * time.Minute: "20m", 65 * time.Second: "1m5s", 0: "0s", 10 * time.Hour: "10h"} {
		assert.Equal(t, want, FormatDuration(d))
	}
	for text, want := range map[string]int64{"10GiB": 10 << 30, "500MB": 500e6, "1.5KiB": 1536, "42": 42, "42B": 42} {
		got, err := ParseSize(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, got)
	}
	for _, wrong := range []string{"", "GiB", "10 apples", "-1B", "1e40TiB", "NaN"} {
		_, err := ParseSize(wrong)
		assert.Error(t, err, wrong)
	}
	for _, wrong := range []string{"", "d", "1y", "-1d", "99999999d", "1h-2m"} {
		_, err := ParseDuration(wrong)
		assert.Error(t, err, wrong)
	}
}

func TestNearest(t *testing.T) {
	names := []string{"coldchain/journeys", "coldchain/readings", "depot/orders"}
	assert.Equal(t, "coldchain/readings", Nearest("coldchain/reading", names))
	assert.Equal(t, "coldchain/readings", Nearest("coldchian/readings", names))
	assert.Empty(t, Nearest("something/else-entirely", names))
}

// What people type first is a position: days and times in their zone, and a bare
// duration as that long ago.
func TestPositionsAsPeopleTypeThem(t *testing.T) {
	zone := time.FixedZone("depot", 3600)
	now := time.Date(2026, 11, 26, 10, 30, 0, 0, zone)
	for typed, want := range map[string]string{
		"today":                "time:2026-11-25T23:00:00Z",
		"yesterday":            "time:2026-11-24T23:00:00Z",
		"2026-11-26":           "time:2026-11-25T23:00:00Z",
		"2026-11-26 10:00":     "time:2026-11-26T09:00:00Z",
		"2026-11-26 10:00:05":  "time:2026-11-26T09:00:05Z",
		"2026-11-26T10:00":     "time:2026-11-26T09:00:00Z",
		"2026-11-26T08:00:00Z": "time:2026-11-26T08:00:00Z",
		"1h":                   "ago:1h",
		"1d12h":                "ago:1d12h",
		"first":                "first",
		"end":                  "end",
		"offset:1200":          "offset:1200",
		"ago:90m":              "ago:1h30m",
		"group:compliance":     "group:compliance",
	} {
		p, err := ParseTyped(typed, now)
		require.NoError(t, err, typed)
		assert.Equal(t, want, p.String(), typed)
		again, err := ParsePosition(p.String())
		require.NoError(t, err)
		assert.Equal(t, want, again.String())
	}
	for typed, says := range map[string]string{"last": "this is not a position", "2026-13-01": "today, yesterday, 2026-11-26", "tomorrow": "in your time zone", "offset:-1": "is not a whole number", "-1h": "this is not a position", "": "this is not a position"} {
		_, err := ParseTyped(typed, now)
		assert.ErrorContains(t, err, says, typed)
	}
}
