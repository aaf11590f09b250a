// Package oncall is the verbs of the engineer on call: watches and incidents.
package oncall

import (
	"flag"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"time"

	"steadyferry/client"
	"steadyferry/cmd/ferry/term"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/watch"
	"steadyferry/internal/core/words"
)

type verb = term.VerbOf[*call]

type call struct{ *term.Call }

func own(c *term.Call) *call { return &call{c} }

// WatchPath is that of a watch.
func WatchPath(a address.Address) string {
	return "/watches/" + url.PathEscape(a.Space) + "/" + url.PathEscape(a.Channel)
}

// Watches is the verb that lists watches.
var Watches = verb{
	Name: "watches", Args: "[SPACE]", Summary: "List watches: what is judged by which levels, and how it is",
	Details: `    ferry watches coldchain
    ferry watches -fail-on alarm       exit 1 when something alarms, for pipelines
    ferry watches -values              what can be watched
    ferry watches -try-telling coldchain/dead-inspections   send a trial to those that it tells, and show their answers`,
	Define: func(fs *flag.FlagSet) func(*call) error {
		every := term.EveryFlag(fs)
		failOn := failFlag(fs)
		values := fs.Bool("values", false, "list what can be watched")
		telling := fs.Bool("try-telling", false, "of one watch: send a trial to those that it tells")
		return func(c *call) error {
			if *telling {
				return c.tryTelling()
			}
			if *values {
				return c.values()
			}
			space, err := c.oneSpace()
			if err != nil {
				return err
			}
			return c.Repeat(*every, func(out io.Writer) error { return c.list(out, space, *failOn) })
		}
	},
}.With(own)

// failFlag defines which level makes a verb fail.
func failFlag(fs *flag.FlagSet) *watch.Level {
	level := new(watch.Level)
	fs.TextVar(level, "fail-on", watch.Calm, "exit 1 when something is at this `LEVEL` or worse: warn, alarm")
	return level
}

// fails says that something is as bad as what a verb shall fail on.
func fails(failOn watch.Level, warns, alarms int) error {
	if failOn == watch.Alarm && alarms > 0 || failOn == watch.Warn && warns+alarms > 0 {
		return term.ExitWith(1)
	}
	return nil
}

// oneSpace is the space that is named, empty without one.
func (c *call) oneSpace() (string, error) {
	if len(c.Args) == 0 {
		return "", nil
	}
	a, err := c.OneAddress()
	if err == nil && a.Kind() != address.KindSpace {
		err = term.WrongUsage("%s is the address of a %s; a space is expected", a, a.Kind())
	}
	return a.Space, err
}

func (c *call) values() error {
	all, err := term.Ask[struct {
		Values []client.WatchValue `json:"values"`
	}](c.Call, http.MethodGet, "/watch-values", nil, nil)
	if err != nil {
		return err
	}
	_, err = term.List(c.Call, c.Out, all.Values, term.TableOf[client.WatchValue]{Headings: []string{"value", "of", "bad when", "unit", "what it is"},
		Row: func(v client.WatchValue) []string {
			return []string{v.Name, strings.Join(v.Kinds, ", "), side(v.Below), v.Unit, v.Help}
		}})
	return err
}

func (c *call) tryTelling() error {
	a, err := c.OneChannel()
	if err != nil {
		return err
	}
	all, err := term.AskWithin[struct {
		Answers []client.NoticeAnswer `json:"answers"`
	}](c.Call, tryTime, http.MethodPost, WatchPath(a)+"/notice-trials", nil, nil)
	if err != nil {
		return err
	}
	failed := 0
	for _, one := range all.Answers {
		if !one.Taken {
			failed++
		}
	}
	if _, err := term.List(c.Call, c.Out, all.Answers, term.TableOf[client.NoticeAnswer]{Headings: []string{"endpoint", "taken", "answer"},
		Row: func(a client.NoticeAnswer) []string {
			return []string{a.Endpoint, map[bool]string{true: "yes", false: "no"}[a.Taken], term.OneLine(a.Says, 120)}
		}}); err != nil || failed == 0 {
		return err
	}
	return fmt.Errorf("%s not told", words.Many(failed, "endpoint was", "endpoints were"))
}

func side(below bool) string {
	return map[bool]string{true: "below", false: "above"}[below]
}

func (c *call) list(out io.Writer, space string, failOn watch.Level) error {
	query := url.Values{}
	if space != "" {
		query.Set("space", space)
	}
	p, err := term.Ask[client.Page[client.Watch]](c.Call, http.MethodGet, "/watches", query, nil)
	if err != nil {
		return err
	}
	warns, alarms := 0, 0
	for _, w := range p.Items {
		warns, alarms = warns+w.Warns, alarms+w.Alarms
	}
	if _, err := term.List(c.Call, out, p.Items, term.TableOf[client.Watch]{None: "there are no watches here; ferry watches -values lists what can be watched",
		Headings: []string{"watch", "state", "of", "value", "warns at", "alarms at", "ends at", "things", "warn", "alarm"}, Right: []string{"warns at", "alarms at", "ends at", "things", "warn", "alarm"},
		Row: func(w client.Watch) []string {
			return []string{w.Address, c.Mark(w.State), w.Of, w.Value, level(w.Warn, w.Unit), level(w.Alarm, w.Unit), level(w.Calm, w.Unit), fmt.Sprint(w.Things), fmt.Sprint(w.Warns), fmt.Sprint(w.Alarms)}
		}}); err != nil {
		return err
	}
	return fails(failOn, warns, alarms)
}

// level is a level for people.
func level(x *float64, unit string) string {
	if x == nil {
		return "-"
	}
	return watch.Format(*x, unit)
}

// NewWatch makes a watch of settings, or with a time tries it on the past.
func NewWatch(to *term.Call, settings map[string]any, try string) error {
	c := own(to)
	a, err := c.OneChannel()
	if err != nil {
		return err
	}
	if try != "" {
		return c.try(a, settings, try)
	}
	settings["address"] = a.String()
	w, err := term.Ask[client.Watch](c.Call, http.MethodPost, "/watches", nil, settings)
	if err != nil {
		return err
	}
	if c.JSON {
		return c.PrintJSON(w)
	}
	what := w.Value
	if w.Keeps != "" {
		what = "keeps " + w.Keeps
	}
	fmt.Fprintf(c.Out, "created watch %s: %s of %s, %s now\nnext: ferry show %s\n", w.Address, what, w.Of, words.Many(w.Things, "thing"), w.Address)
	return nil
}

// TryWatch shows what a watch, with changed settings, would have said of the past.
func TryWatch(to *term.Call, settings map[string]any, try string) error {
	c := own(to)
	a, err := c.OneChannel()
	if err != nil {
		return err
	}
	return c.try(a, settings, try)
}

// tryTime is how long a trial may take.
const tryTime = 60 * time.Second

func (c *call) try(a address.Address, settings map[string]any, since string) error {
	if err := (term.PositionValue{To: &since}).Set(since); err != nil {
		return term.Usage(fmt.Errorf("-try: %w", err))
	}
	span, ago := strings.CutPrefix(since, "ago:")
	if !ago {
		return term.WrongUsage("-try is %q; of a watch it is ago:DURATION, up to ago:30d", since)
	}
	settings["address"] = a.String()
	t, err := term.AskWithin[client.WatchTrial](c.Call, tryTime, http.MethodPost, "/watches/trials", url.Values{"span": {span}}, settings)
	if err != nil {
		return err
	}
	if c.JSON {
		return c.PrintJSON(t)
	}
	rang := "it would not have rung"
	if t.Rang > 0 {
		rang = fmt.Sprintf("it would have rung %s, %s, %s in all", words.Many(t.Rang, "time"), words.Many(t.Alarms, "alarm"), address.FormatDuration(time.Duration(t.Seconds)*time.Second))
	}
	things := words.Many(t.Things, "thing")
	if t.Tried < t.Things {
		things = fmt.Sprintf("%d of %s", t.Tried, things)
	}
	c.Pairs([][2]string{{"tried on", things + ", since " + t.From.Local().Format("2006-01-02 15:04")}, {"result", rang}, {"levels", levels(t.Warn, t.Alarm, t.Calm, t.Unit)}, {"the past proposes", proposed(t.Proposed)}})
	if len(t.Each) == 0 {
		return nil
	}
	fmt.Fprintln(c.Out)
	rows := make([][]string, len(t.Each))
	for i, e := range t.Each {
		last := "-"
		if n := len(e.Crossings); n > 0 {
			last = e.Crossings[n-1].BegunAt.Local().Format("01-02 15:04:05")
		}
		rows[i] = []string{e.Address, fmt.Sprint(e.Rang), fmt.Sprint(e.Alarms), address.FormatDuration(time.Duration(e.Seconds) * time.Second), last, term.Curve(e.Curve.Figures)}
	}
	c.Table(c.Out, []string{"thing", "rang", "alarms", "in all", "last", "curve"}, rows, "rang", "alarms", "in all")
	return nil
}

func levels(warn, alarm, calm *float64, unit string) string {
	var parts []string
	for _, one := range []struct {
		word string
		x    *float64
	}{{"warns at", warn}, {"alarms at", alarm}, {"ends at", calm}} {
		if one.x != nil {
			parts = append(parts, one.word+" "+level(one.x, unit))
		}
	}
	return strings.Join(parts, ", ")
}

func proposed(l client.TrialLevels) string {
	switch {
	case l.Warn == "":
		return "nothing: nothing was measured"
	case l.Alarm == "":
		return "-warn " + l.Warn
	}
	return fmt.Sprintf("-warn %s -alarm %s, which 1 %% and 0.1 %% of what was measured went beyond", l.Warn, l.Alarm)
}

// telling is who is told by a watch, and when.
func telling(settings client.Settings) string {
	told := term.SettingText(settings["tell"])
	if told == "" || told == "none" {
		return "nobody"
	}
	text := fmt.Sprintf("%s; again after %s, at most %s an hour", told, term.SettingText(settings["repeat"]), term.SettingText(settings["hourly"]))
	if quiet := term.SettingText(settings["quiet"]); quiet != "" && quiet != "none" {
		text += ", no warnings " + quiet
	}
	return text
}

// ShowWatch shows a watch and what it watches.
func ShowWatch(to *term.Call, out io.Writer, a address.Address) error {
	c := own(to)
	w, err := term.Ask[client.Watch](c.Call, http.MethodGet, WatchPath(a), nil, nil)
	if err != nil {
		return err
	}
	if c.JSON {
		return c.PrintJSON(w)
	}
	lasts, _ := w.Settings["for"].(string)
	watches := fmt.Sprintf("%s of %s, out of order %s its levels", w.Value, w.Of, side(w.Below))
	if w.Keeps != "" {
		watches = fmt.Sprintf("that %s has %s, and sets it so", w.Of, w.Keeps)
	}
	c.To(out).Pairs([][2]string{{"watch", w.Address}, {"state", c.Mark(w.State)}, {"watches", watches}, {"levels", levels(w.Warn, w.Alarm, w.Calm, w.Unit)},
		{"must last", lasts}, {"tells", telling(w.Settings)}, {"description", w.Description}, {"things", fmt.Sprintf("%d: %d alarm, %d warn, %d without data", w.Things, w.Alarms, w.Warns, w.Unknown)}})
	if len(w.Watched) == 0 {
		fmt.Fprintf(out, "\nnothing of %s has %s\n", w.Of, w.Value)
		return nil
	}
	fmt.Fprintln(out)
	now := term.Now()
	rows := make([][]string, len(w.Watched))
	for i, t := range w.Watched {
		since, incident := "-", ""
		if !t.Since.IsZero() {
			since = term.Age(&t.Since, now)
		}
		if t.Incident > 0 {
			incident = fmt.Sprintf("ferry incidents %d", t.Incident)
		}
		rows[i] = []string{t.Address, c.Mark(t.State), t.Text, since, incident}
	}
	c.Table(out, []string{"thing", "state", "figure", "for", "incident"}, rows, "figure", "for")
	return nil
}
