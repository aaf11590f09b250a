package address

import (
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"
)

// PositionKind is the way in which a Position is given.
type PositionKind string

// The ways to give a position.
const (
	First    PositionKind = "first"
	End      PositionKind = "end"
	AtOffset PositionKind = "offset"
	AtTime   PositionKind = "time"
	Ago      PositionKind = "ago"
	OfGroup  PositionKind = "group"
)

// Position is a place in a partition: its first kept message, its end, an
// offset, a time, a time before now, or where a group is.
type Position struct {
	Kind   PositionKind
	Offset int64
	Time   time.Time
	Ago    time.Duration
	Group  string
}

const positionForms = "first, end, offset:1200, time:2026-11-23T08:00:00Z, ago:90m, group:NAME"

// ParsePosition reads a position. The error is an *Error.
func ParsePosition(text string) (Position, error) {
	bad := func(problem string) (Position, error) {
		return Position{}, &Error{Text: text, Problem: problem, Allowed: positionForms}
	}
	kind, value, _ := strings.Cut(text, ":")
	switch PositionKind(kind) {
	case First, End:
		if text != kind {
			return bad(kind + " takes no value")
		}
		return Position{Kind: PositionKind(kind)}, nil
	case AtOffset:
		n, err := parseNumber(value, 1<<62)
		if err != nil {
			return bad(err.Error())
		}
		return Position{Kind: AtOffset, Offset: n}, nil
	case AtTime:
		t, err := time.Parse(time.RFC3339Nano, value)
		if err != nil {
			return bad("the time is not written as RFC 3339 has it")
		}
		return Position{Kind: AtTime, Time: t}, nil
	case Ago:
		d, err := ParseDuration(value)
		if err != nil || d < 0 {
			return bad(fmt.Sprintf("%q is not a duration", value))
		}
		return Position{Kind: Ago, Ago: d}, nil
	case OfGroup:
		if err := CheckName(value); err != nil {
			return bad(err.Error())
		}
		return Position{Kind: OfGroup, Group: value}, nil
	}
	return bad("this is not a position")
}

// What people type besides, in the order in which it is tried.
var typedTimes = []string{"2006-01-02", "2006-01-02 15:04", "2006-01-02 15:04:05", "2006-01-02T15:04", "2006-01-02T15:04:05", time.RFC3339Nano}

const typedForms = positionForms + "; today, yesterday, 2026-11-26, \"2026-11-26 10:00\" (in your time zone), or 1h for an hour ago"

// ParseTyped reads a position as people type it: each that ParsePosition reads,
// and days, dates and times in the zone of now, and a duration before now. The
// error is an *Error.
func ParseTyped(text string, now time.Time) (Position, error) {
	p, err := ParsePosition(text)
	if err == nil {
		return p, nil
	}
	midnight := time.Date(now.Year(), now.Month(), now.Day(), 0, 0, 0, 0, now.Location())
	switch text {
	case "today":
		return Position{Kind: AtTime, Time: midnight.UTC()}, nil
	case "yesterday":
		return Position{Kind: AtTime, Time: midnight.AddDate(0, 0, -1).UTC()}, nil
	}
	for _, layout := range typedTimes {
		if at, err := time.ParseInLocation(layout, text, now.Location()); err == nil {
			return Position{Kind: AtTime, Time: at.UTC()}, nil
		}
	}
	if d, err := ParseDuration(text); err == nil {
		return Position{Kind: Ago, Ago: d}, nil
	}
	problem := "this is not a position"
	if known := (*Error)(nil); errors.As(err, &known) {
		problem = known.Problem
	}
	return Position{}, &Error{Text: text, Problem: problem, Allowed: typedForms}
}

// String prints the position so that ParsePosition reads it back.
func (p Position) String() string {
	switch p.Kind {
	case AtOffset:
		return "offset:" + strconv.FormatInt(p.Offset, 10)
	case AtTime:
		return "time:" + p.Time.Format(time.RFC3339Nano)
	case Ago:
		return "ago:" + FormatDuration(p.Ago)
	case OfGroup:
		return "group:" + p.Group
	}
	return string(p.Kind)
}

// TimeAt returns the time that the position stands for and whether it stands
// for one; now is what "ago" counts from.
func (p Position) TimeAt(now time.Time) (time.Time, bool) {
	switch p.Kind {
	case AtTime:
		return p.Time, true
	case Ago:
		return now.Add(-p.Ago), true
	}
	return time.Time{}, false
}

// ParseDuration reads a duration as Go writes it, with d for days: 7d, 1d12h.
func ParseDuration(text string) (time.Duration, error) {
	bad := &Error{Text: text, Problem: "this is not a duration", Allowed: "numbers with d, h, m, s or ms, such as 7d, 72h, 1d12h, 500ms"}
	var days time.Duration
	rest := text
	if before, after, ok := strings.Cut(text, "d"); ok {
		n, err := strconv.ParseFloat(before, 64)
		if err != nil || n < 0 || n > 36500 {
			return 0, bad
		}
		days, rest = time.Duration(n*float64(24*time.Hour)), after
		if rest == "" {
			return days, nil
		}
	}
	d, err := time.ParseDuration(rest)
	if err != nil || d < 0 || d > 36500*24*time.Hour {
		return 0, bad
	}
	return days + d, nil
}

// FormatDuration prints a duration with days, without parts that are zero.
func FormatDuration(d time.Duration) string {
	const day = 24 * time.Hour
	days := d / day
	rest := (d % day).String()
	if strings.HasSuffix(rest, "m0s") {
		rest = strings.TrimSuffix(rest, "0s")
	}
	if strings.HasSuffix(rest, "h0m") {
		rest = strings.TrimSuffix(rest, "0m")
	}
	switch {
	case days == 0:
		return rest
	case d%day == 0:
		return fmt.Sprintf("%dd", days)
	}
	return fmt.Sprintf("%dd%s", days, rest)
}

var sizeUnits = []struct {
	name  string
	bytes int64
}{
	{"TiB", 1 << 40}, {"GiB", 1 << 30}, {"MiB", 1 << 20}, {"KiB", 1 << 10},
	{"TB", 1e12}, {"GB", 1e9}, {"MB", 1e6}, {"kB", 1e3}, {"KB", 1e3}, {"B", 1},
}

// ParseSize reads a number of bytes: 10GiB, 500MB, 1048576.
func ParseSize(text string) (int64, error) {
	bad := &Error{Text: text, Problem: "this is not a size", Allowed: "a number with B, kB, MB, GB, TB, KiB, MiB, GiB or TiB, such as 10GiB or 500MB"}
	unit, number := int64(1), text
	for _, u := range sizeUnits {
		if before, ok := strings.CutSuffix(text, u.name); ok {
			unit, number = u.bytes, before
			break
		}
	}
	n, err := strconv.ParseFloat(number, 64)
	if err != nil || !(n >= 0) || n*float64(unit) > 1<<60 {
		return 0, bad
	}
	return int64(n * float64(unit)), nil
}

// FormatSize prints a number of bytes with the binary unit that keeps it
// short, to one decimal: 10GiB, 1.5MiB, 0B.
func FormatSize(n int64) string {
	for _, u := range sizeUnits[:4] {
		if n >= u.bytes {
			return strings.TrimSuffix(strconv.FormatFloat(float64(n)/float64(u.bytes), 'f', 1, 64), ".0") + u.name
		}
	}
	return strconv.FormatInt(n, 10) + "B"
}
