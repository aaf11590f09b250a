package setting

import (
	"fmt"
	"strconv"
	"time"

	"steadyferry/internal/core/address"
)

// Watch is how a watch is set.
type Watch struct {
	Of          string            `json:"of"`
	Value       string            `json:"value"`
	When        string            `json:"when"`
	Warn        string            `json:"warn"`
	Alarm       string            `json:"alarm"`
	Calm        string            `json:"calm"`
	ForMS       int64             `json:"forMS"`
	Keep        map[string]string `json:"keep,omitempty"`
	Tell        []string          `json:"tell,omitempty"`
	RepeatMS    int64             `json:"repeatMS"`
	Hourly      int               `json:"hourly"`
	Quiet       string            `json:"quiet,omitempty"`
	Paused      bool              `json:"paused,omitempty"`
	Description string            `json:"description,omitempty"`
}

// AWatch is the kind of watches, where things of several kinds are told.
const AWatch = "watch"

const maxTell = 10

// When a value is out of order.
const (
	Above = "above"
	Below = "below"
	Usual = "usual" // as the value is meant
)

// Watches is what can be set on watches. What the levels mean core/watch knows.
var Watches = Table[Watch]{
	row(Setting[Watch]{Name: "of", Label: "Watches", Form: Patterned(), Help: "`PATTERN` of what is watched: each thing that it covers is judged alone"}, func(w *Watch) *string { return &w.Of }),
	row(Setting[Watch]{Name: "value", Label: "Value", Form: Sentence(400), Help: "`VALUE` that is measured, or an expression over several"}, func(w *Watch) *string { return &w.Value }),
	row(Setting[Watch]{Name: "warn", Label: "Warns at", Form: Level(), Help: "`LEVEL` at which it warns"}, func(w *Watch) *string { return &w.Warn }),
	row(Setting[Watch]{Name: "alarm", Label: "Alarms at", Form: Level(), Help: "`LEVEL` at which it alarms"}, func(w *Watch) *string { return &w.Alarm }),
	row(Setting[Watch]{Name: "calm", Label: "Ends at", Form: Level(), Help: "`LEVEL` that ends it; unless set, a fifth nearer to good than the first one, counts by whole numbers"}, func(w *Watch) *string { return &w.Calm }),
	row(Setting[Watch]{Name: "when", Label: "Out of order", Default: Usual, Form: Choice(Usual, Above, Below), Help: "`MODE`, the side of the levels that is out of order: above, below, or as the value is usually meant"}, func(w *Watch) *string { return &w.When }),
	timed(Setting[Watch]{Name: "for", Label: "For as long as", Default: "30s", Form: Duration(0, 24*time.Hour, "at once"), Help: "`DURATION` that the value must stay there, and stay better to end it"}, time.Millisecond, func(w *Watch) *int64 { return &w.ForMS }),
	{Name: "keep", Label: "Keeps", Form: Kept(), Help: "`NAME=VALUE` of a setting that what is watched shall have, such as paused=false: the watch sets it so, instead of watching a value; may be given several times",
		Get: func(w *Watch) any { return w.Keep },
		Put: func(w *Watch, value any) { w.Keep = Merge(w.Keep, value.(map[string]string)) }},
	row(Setting[Watch]{Name: "tell", Label: "Tells", Form: Targets(maxTell), Help: "`ADDRESSES` of endpoints that are told of its incidents, with commas"}, func(w *Watch) *[]string { return &w.Tell }),
	timed(Setting[Watch]{Name: "repeat", Label: "Tells again after", Default: "90m", Form: Duration(time.Minute, 30*day, "never"), Help: "tell again after this `DURATION` of an incident that goes on and nobody has seen"}, time.Millisecond, func(w *Watch) *int64 { return &w.RepeatMS }),
	row(Setting[Watch]{Name: "hourly", Label: "Notices an hour", Default: "20", Form: Number(1, 1000, ""), Help: "tell at most `N` times an hour; what is held back comes together later"}, func(w *Watch) *int { return &w.Hourly }),
	row(Setting[Watch]{Name: "quiet", Label: "Quiet hours", Form: Sentence(80), Help: "`TIME`s in which nobody is told of warnings, such as 22:00..06:30 Europe/Lisbon; alarms are told"}, func(w *Watch) *string { return &w.Quiet }),
	row(Setting[Watch]{Name: "paused", Label: "Paused", Form: Switch(), Help: "a watch judges nothing"}, func(w *Watch) *bool { return &w.Paused }),
	row(Setting[Watch]{Name: "description", Label: "Description", Form: Sentence(MaxDescription), Help: "`TEXT` that says what it is for"}, func(w *Watch) *string { return &w.Description }),
}

// maxLevel bounds the text of a level.
const maxLevel = 40

// Level is a figure of whatever is watched: a number, a duration or a size, or none. Values
// are string; what they mean the value decides.
func Level() Form {
	f := Form{Name: "level", Allowed: "a number, a duration or a size, as the value has, or none", Show: same}
	f.Parse = func(name, text string) (any, error) {
		if text == "none" {
			return "", nil
		}
		if len(text) > maxLevel {
			return nil, wrong(name, f.Allowed, "%s has %d characters", name, len(text))
		}
		return text, nil
	}
	f.Read = func(name string, value any) (any, error) {
		switch x := value.(type) {
		case float64:
			return strconv.FormatFloat(x, 'f', -1, 64), nil
		case string:
			return f.Parse(name, x)
		}
		return nil, wrong(name, f.Allowed, "%s is %s", name, shown(value))
	}
	return f
}

// Patterned is a pattern that covers several things. Values are string.
func Patterned() Form {
	f := Form{Name: "pattern", Allowed: "an address, or one with * for any characters", Show: same}
	f.Parse = func(name, text string) (any, error) {
		if _, err := address.ParsePattern(text); err != nil {
			return nil, unreadable(name, f.Allowed, err)
		}
		return text, nil
	}
	f.Read = fromText(&f)
	return f
}

// Targets is up to so many addresses of endpoints, with commas between them as text. Values
// are []string.
func Targets(most int) Form {
	return listed("addresses", "addresses of endpoints", most, func(one string) error {
		_, err := address.ParseChannel(one)
		return err
	})
}

// maxKept bounds the settings that a watch keeps.
const maxKept = 20

// Kept is settings with the values that they shall have; a change says only what changes, and
// an empty value takes a setting away. Values are map[string]string.
func Kept() Form {
	return pairs("keeps", fmt.Sprintf("SETTING=VALUE of up to %d settings", maxKept), maxKept, func(name, key, value string) error {
		if len(key) > 100 || len(value) > MaxDescription {
			return wrong(name, fmt.Sprintf("up to %d characters", MaxDescription), "%s has a text that is too long", name)
		}
		return nil
	})
}
