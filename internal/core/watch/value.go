// Package watch decides when measured values are out of order: what can be watched, what
// a watch says of values that follow each other, what it would have said of the past, and
// which levels that past proposes. It reads no clock.
package watch

import (
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"steadyferry/internal/core/address"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/sample"
	"steadyferry/internal/core/words"
)

// Value is one that can be watched. It has the name of a measured value, and is watched of
// the kinds of things that have it.
type Value struct {
	Name  string
	Below bool // trouble is when there is little of it
	Help  string
}

// Values are all of them.
var Values = []Value{
	{"dead", false, "dead letters of a queue, a group or a route"},
	{"dead-rate", false, "messages that become dead letters"},
	{"waiting", false, "messages of a queue that wait"},
	{"oldest-waiting", false, "age of the oldest that waits"},
	{"leased-long", false, "age of the oldest lease of a queue"},
	{"lag", false, "messages that a group or a route has not come to"},
	{"lag-age", false, "age of the oldest of those"},
	{"loses-data-in", true, "time until retention takes what a group has not read; 30d while none is foreseen"},
	{"route-waiting", false, "for how long a route has waited for its target"},
	{"sent-rate", true, "messages that a route sends on a second, of those that it decides about"},
	{"members", true, "members of a group"},
	{"silent-for", false, "for how long nothing has come into a channel"},
	{"in-rate", true, "messages that come into a channel, or that a group has to read"},
	{"out-rate", true, "messages read from a channel, or committed by a group"},
	{"bytes", false, "bytes that a channel keeps"},
	{"replicas-missing", false, "replicas of a channel that are not in step"},
	{"leaderless", false, "partitions of a channel without a leader"},
	{"endpoint-failing", false, "for how long an endpoint has failed"},
	{"node-away", false, "for how long a node has not been heard of"},
	{"disk-free", true, "free bytes of a node's disk"},
	{"catalog-away", false, "for how long the records have not answered a node"},
	{"certificate-left", true, "time until a certificate of a node ends, or one on which deliveries to an endpoint depend"},
	{"owner-used", false, "1 when the owner's token or a session of the owner was used in the last 10 minutes, the first day of the records aside"},
	{"glass-broken", false, "how many have themselves see what is in messages for a while, with a reason"},
	{"seconds-waiting", false, "things that were asked for and wait for a second person"},
	{"bound-used", false, "how much of what it may have or use a space has and uses, in percent, of the bound that is nearest"},
}

// Named returns the value of the name, nil without one.
func Named(name string) *Value {
	if i := slices.IndexFunc(Values, func(v Value) bool { return v.Name == name }); i >= 0 {
		return &Values[i]
	}
	return nil
}

// Names are those of all values.
func Names() []string {
	names := make([]string, len(Values))
	for i := range Values {
		names[i] = Values[i].Name
	}
	return names
}

// Kinds are the names of the kinds of things that have the value.
func (v *Value) Kinds() (names []string) {
	for _, k := range kindsOf([]string{v.Name}) {
		names = append(names, k.Name)
	}
	return names
}

// Unit is that of a value: "", s, B, /s, B/s or %.
func (v *Value) Unit() string {
	for _, k := range sample.Kinds {
		if i := k.Place(v.Name); i >= 0 {
			return k.Values[i].Unit
		}
	}
	panic("watch: nothing measures " + v.Name) // a test holds that something does
}

// Units of levels.
const (
	seconds = "s"
	bytes   = "B"
)

// parseLevel reads a level of a unit: 10m of seconds, 2GiB of bytes, else a number.
func parseLevel(name, text, unit string) (float64, error) {
	bad := func(allowed string) (float64, error) {
		return 0, problem.New(problem.Invalid, "%s is %q", name, text).Field(name).Allowed(allowed)
	}
	switch unit {
	case seconds:
		if d, err := address.ParseDuration(text); err == nil && d >= 0 {
			return d.Seconds(), nil
		}
		return bad("a duration, such as 90s, 10m or 2d")
	case bytes:
		if n, err := address.ParseSize(text); err == nil {
			return float64(n), nil
		}
		return bad("a size, such as 500MB or 10GiB")
	}
	x, err := strconv.ParseFloat(strings.TrimSuffix(text, unit), 64)
	if err != nil || math.IsNaN(x) || math.IsInf(x, 0) {
		return bad("a number")
	}
	return x, nil
}

// Format is a figure of a unit for people.
func Format(x float64, unit string) string {
	switch {
	case math.IsNaN(x):
		return "not known"
	case unit == "" && x == math.Trunc(x):
		return words.Count(int64(x))
	}
	return FormatLevel(x, unit)
}

// FormatLevel is a level of a unit, as it is given.
func FormatLevel(x float64, unit string) string {
	switch {
	case unit == seconds:
		return address.FormatDuration(time.Duration(math.Round(x*10) / 10 * float64(time.Second)).Round(roundTo(x)))
	case unit == bytes:
		return address.FormatSize(int64(x))
	}
	return strconv.FormatFloat(math.Round(x*100)/100, 'f', -1, 64) + unit
}

// roundTo is how exactly a duration of so many seconds is told.
func roundTo(x float64) time.Duration {
	switch {
	case x < 10:
		return 100 * time.Millisecond
	case x < 3600:
		return time.Second
	}
	return time.Minute
}

// kindsOf are the kinds of things that have all of the measured values.
func kindsOf(names []string) (kinds []*sample.Kind) {
	for _, k := range sample.Kinds {
		if !slices.ContainsFunc(names, func(name string) bool { return k.Place(name) < 0 }) {
			kinds = append(kinds, k)
		}
	}
	return kinds
}

// unknownValue says that there is no such value.
func unknownValue(name string) error {
	p := problem.New(problem.Invalid, "there is no value %q", name).Field("value").Allowed(strings.Join(Names(), ", ") + ", or an expression over those, such as dead > 0.05 * waiting")
	if near := address.Nearest(name, Names()); near != "" {
		return p.Next("did you mean %s?", near)
	}
	return p
}
