package watch

import (
	"math"
	"slices"
	"strings"
	"time"

	"steadyferry/internal/core/address"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/sample"
	"steadyferry/internal/core/setting"
)

// Level is how far a value is out of order.
type Level int

// The levels.
const (
	Calm Level = iota
	Warn
	Alarm
)

// String is the level's word.
func (l Level) String() string { return [...]string{"calm", "warn", "alarm"}[l] }

// MarshalText and UnmarshalText write levels as their words.
func (l Level) MarshalText() ([]byte, error) { return []byte(l.String()), nil }

// UnmarshalText reads a word of String.
func (l *Level) UnmarshalText(text []byte) error {
	for _, one := range []Level{Calm, Warn, Alarm} {
		if one.String() == string(text) {
			*l = one
			return nil
		}
	}
	return problem.New(problem.Invalid, "level is %q", text).Field("level").Allowed("calm, warn, alarm")
}

// Rule is a watch, ready to judge. It may be used at once by many.
type Rule struct {
	Kinds []*sample.Kind // of the things that it judges
	Unit  string
	Below bool // trouble is below the levels
	For   time.Duration

	covers      address.Pattern
	Keep        *Keep       // how what it covers shall be set; nil: it looks at a value
	value       string      // empty: an expression
	expression  *expression // nil: a value
	warn, alarm float64     // sample.Unknown without one
	calm        float64     // at which a warning ends
	calmAlarm   float64     // at which an alarm becomes a warning
}

// nearer is how much better than a level a value must be to end what it began, unless
// that is set: a fifth of it.
const nearer = 0.2

// New reads the settings of a watch.
func New(w *setting.Watch) (*Rule, error) {
	r := &Rule{For: time.Duration(w.ForMS) * time.Millisecond}
	var err error
	if w.Of == "" {
		return nil, problem.New(problem.Invalid, "it watches nothing").Field("of").Allowed("the address of what is watched, or a pattern, such as coldchain/*")
	}
	if r.covers, err = address.ParsePattern(w.Of); err != nil {
		return nil, err
	}
	if len(w.Keep) > 0 {
		return r, r.readKeep(w)
	}
	if err := r.readValue(w.Value); err != nil {
		return nil, err
	}
	switch w.When {
	case setting.Above:
		r.Below = false
	case setting.Below:
		r.Below = true
	}
	return r, r.readLevels(w)
}

// readKeep reads how things shall be set: what cannot be set so alarms.
func (r *Rule) readKeep(w *setting.Watch) (err error) {
	if w.Value != "" && w.Value != Astray {
		return problem.New(problem.Invalid, "it looks at %s, and keeps something", w.Value).Field("keep").Allowed("either a value or keep")
	}
	if r.Keep, err = newKeep(w.Keep); err != nil {
		return err
	}
	r.value, r.Kinds = Astray, r.Keep.kinds()
	r.warn, r.alarm = sample.Unknown, 1
	r.calm, r.calmAlarm = 0, 0
	return nil
}

func (r *Rule) readValue(text string) (err error) {
	if text == "" {
		return problem.New(problem.Invalid, "it has no value").Field("value").Allowed("what is measured, such as dead or lag-age")
	}
	if v := Named(text); v != nil {
		r.value, r.Below, r.Unit, r.Kinds = v.Name, v.Below, v.Unit(), kindsOf([]string{v.Name})
		return nil
	}
	if address.CheckName(text) == nil {
		return unknownValue(text)
	}
	if r.expression, err = compile(text); err != nil {
		return err
	}
	if r.Kinds = kindsOf(r.expression.names); len(r.Kinds) == 0 {
		return problem.New(problem.Invalid, "value is %q: no kind of thing has all that it needs", text).Field("value").Allowed("values of one kind, such as lag and members of groups")
	}
	return nil
}

func (r *Rule) readLevels(w *setting.Watch) error {
	r.warn, r.alarm = sample.Unknown, sample.Unknown
	for _, one := range []struct {
		name, text string
		to         *float64
	}{{"warn", w.Warn, &r.warn}, {"alarm", w.Alarm, &r.alarm}} {
		if one.text == "" {
			continue
		}
		x, err := parseLevel(one.name, one.text, r.Unit)
		if err != nil {
			return err
		}
		*one.to = x
	}
	first := r.first()
	if math.IsNaN(first) {
		return problem.New(problem.Invalid, "it has no level").Field("warn").Allowed("warn, alarm, or both")
	}
	if !math.IsNaN(r.warn) && !math.IsNaN(r.alarm) && !r.Worse(r.alarm, r.warn) {
		return problem.New(problem.Invalid, "alarm is %s, and warn %s", w.Alarm, w.Warn).Field("alarm").Allowed(map[bool]string{true: "less than warn, since what is below is out of order", false: "more than warn, since what is above is out of order"}[r.Below])
	}
	margin := nearer * math.Abs(first)
	if r.Unit == "" && first == math.Trunc(first) {
		margin = math.Ceil(margin) // what is counted has no fractions
	}
	if w.Calm != "" {
		x, err := parseLevel("calm", w.Calm, r.Unit)
		if err != nil {
			return err
		}
		if !r.Worse(first, x) && x != first {
			return problem.New(problem.Invalid, "calm is %s, and the first level %s", w.Calm, Format(first, r.Unit)).Field("calm").Allowed("a level nearer to good than those at which it warns and alarms")
		}
		margin = math.Abs(first - x)
	}
	if r.Below {
		margin = -margin
	}
	r.calm, r.calmAlarm = first-margin, r.alarm-margin
	if !math.IsNaN(r.warn) && r.Worse(r.warn, r.calmAlarm) {
		r.calmAlarm = r.warn // no nearer to good than the warning
	}
	return nil
}

// first is the level that is reached first.
func (r *Rule) first() float64 {
	if math.IsNaN(r.warn) {
		return r.alarm
	}
	return r.warn
}

// Worse reports whether a figure is farther from good than another one.
func (r *Rule) Worse(a, b float64) bool {
	if r.Below {
		return a < b
	}
	return a > b
}

// Levels are those at which it warns, alarms and ends, sample.Unknown for none.
func (r *Rule) Levels() (warn, alarm, calm float64) { return r.warn, r.alarm, r.calm }

// Covers reports whether the watch judges the thing of a kind at an address. Dead letters of a
// group belong to the group.
func (r *Rule) Covers(kind *sample.Kind, at string) bool {
	return slices.Contains(r.Kinds, kind) && r.covers.Covers(strings.TrimSuffix(at, "/dead"))
}

// Figure is what the watch looks at, of the values of a thing in the order of its kind.
func (r *Rule) Figure(kind *sample.Kind, values []float64) float64 {
	get := func(name string) float64 {
		if i := kind.Place(name); i >= 0 && i < len(values) {
			return values[i]
		}
		return sample.Unknown
	}
	if r.expression == nil {
		return get(r.value)
	}
	return r.expression.of(get)
}

// Scan reads a level from a row of the records, as its word.
func (l *Level) Scan(from any) error {
	text, _ := from.(string)
	return l.UnmarshalText([]byte(text))
}
