package oncall

import (
	"flag"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"time"

	"steadyferry/client"
	"steadyferry/cmd/ferry/term"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/watch"
	"steadyferry/internal/core/words"
)

// incidentFlags are the flags of ferry incidents.
type incidentFlags struct {
	every       time.Duration
	open        bool
	of          string
	past        string
	limit       int
	failOn      *watch.Level
	acknowledge bool
	silence     string
	say         string
}

// Incidents is the verb that lists incidents, tells one, and what is done about it.
var Incidents = verb{
	Name: "incidents", Args: "[NUMBER]", Summary: "List incidents, tell the story of one, acknowledge or silence it",
	Details: `    ferry incidents -open                       those that go on, the newest first
    ferry incidents -of coldchain/inspections   those of a thing, or of a space
    ferry incidents -open -fail-on alarm        exit 1 when something alarms, for pipelines
    ferry incidents 17                          its story: curve, what was changed before, what was done
    ferry incidents 17 -acknowledge -say 'I look at it'
    ferry incidents 17 -silence 2h -say 'the clinic moves house'`,
	Define: func(fs *flag.FlagSet) func(*call) error {
		var f incidentFlags
		fs.Var(term.DurationValue{D: &f.every}, "every", "show it again and again, after each `DURATION`")
		fs.BoolVar(&f.open, "open", false, "only those that go on")
		fs.StringVar(&f.of, "of", "", "only those of the thing, the space or the watch with this `ADDRESS`")
		fs.StringVar(&f.past, "past", "", "only those of the last `DURATION`")
		fs.IntVar(&f.limit, "limit", 50, "show at most `N`")
		f.failOn = failFlag(fs)
		fs.BoolVar(&f.acknowledge, "acknowledge", false, "say that you have seen it")
		fs.StringVar(&f.silence, "silence", "", "tell nobody of it for this `DURATION`; needs -say, and 0s ends it")
		fs.StringVar(&f.say, "say", "", "`TEXT` that is kept with it")
		return func(c *call) error {
			if len(c.Args) == 0 {
				return c.Repeat(f.every, func(out io.Writer) error { return c.incidents(out, &f) })
			}
			if len(c.Args) > 1 {
				return term.WrongUsage("one number is expected")
			}
			path := "/incidents/" + url.PathEscape(c.Args[0])
			if f.acknowledge || f.silence != "" || f.say != "" {
				return c.say(path, client.IncidentSaying{Acknowledge: f.acknowledge, Silence: f.silence, Text: f.say})
			}
			return c.Repeat(f.every, func(out io.Writer) error { return c.story(out, path) })
		}
	},
}.With(own)

func (c *call) incidents(out io.Writer, f *incidentFlags) error {
	query := url.Values{"limit": {fmt.Sprint(f.limit)}, "open": {fmt.Sprint(f.open)}}
	if f.past != "" {
		query.Set("span", f.past)
	}
	if f.of != "" {
		a, err := address.Parse(f.of)
		if err != nil {
			return term.Usage(err)
		}
		if query.Set("address", f.of); a.Kind() == address.KindSpace {
			query.Del("address")
			query.Set("space", f.of)
		}
	}
	p, err := term.Ask[client.Page[client.Incident]](c.Call, http.MethodGet, "/incidents", query, nil)
	if err != nil {
		return err
	}
	none := "there have been no incidents"
	if f.open {
		none = "no incident goes on: all that is watched is in order"
	}
	now := term.Now()
	warns, alarms := 0, 0
	for _, i := range p.Items {
		switch i.State {
		case watch.Warn.String():
			warns++
		case watch.Alarm.String():
			alarms++
		}
	}
	if _, err := term.List(c.Call, out, p.Items, term.TableOf[client.Incident]{None: none,
		Headings: []string{"number", "state", "of", "value", "worst", "began", "lasted", "source", "seen by"}, Right: []string{"number", "worst", "lasted"},
		Row: func(i client.Incident) []string {
			return []string{fmt.Sprint(i.Number), c.Mark(i.State), i.Address, i.Value, watch.Format(i.Peak, i.Unit), i.BegunAt.Local().Format("01-02 15:04:05"), lasted(&i, now), i.Source, seen(&i)}
		}}); err != nil {
		return err
	}
	return fails(*f.failOn, warns, alarms)
}

func lasted(i *client.Incident, now time.Time) string {
	end := now
	if i.EndedAt != nil {
		end = *i.EndedAt
	}
	return address.FormatDuration(max(end.Sub(i.BegunAt).Round(time.Second), 0))
}

func seen(i *client.Incident) string {
	text := ""
	if i.Acknowledged != nil {
		text = i.Acknowledged.By
	}
	if i.Silenced != nil {
		text += " (silent until " + i.Silenced.Until.Local().Format("15:04") + ")"
	}
	return text
}

func (c *call) say(path string, in client.IncidentSaying) error {
	s, err := term.Ask[client.IncidentStory](c.Call, http.MethodPost, path+"/notes", nil, in)
	if err != nil {
		return err
	}
	if c.JSON {
		return c.PrintJSON(s)
	}
	last := s.Notes[len(s.Notes)-1]
	fmt.Fprintf(c.Out, "incident %d: %s\n", s.Number, noteText(&last))
	return nil
}

func noteText(n *client.IncidentNote) string {
	text := words.Of(n.Event)
	if n.Who != "" {
		text += " by " + n.Who
	}
	if n.Text != "" {
		text += ": " + n.Text
	}
	return text
}

const timeForm = "2006-01-02 15:04:05"

func (c *call) story(out io.Writer, path string) error {
	s, err := term.Ask[client.IncidentStory](c.Call, http.MethodGet, path, nil, nil)
	if err != nil {
		return err
	}
	if c.JSON {
		return c.PrintJSON(s)
	}
	now := term.Now()
	pairs := [][2]string{{"incident", fmt.Sprint(s.Number)}, {"state", c.Mark(s.State)}, {"", s.Says}, {"of", s.Address}, {"watch", s.Watch}, {"levels", levels(s.Warn, s.Alarm, s.Calm, s.Unit)},
		{"began", fmt.Sprintf("%s, and lasted %s", s.BegunAt.Local().Format(timeForm), lasted(&s.Incident, now))}, {"worst", fmt.Sprintf("%s at %s", watch.Format(s.Peak, s.Unit), s.PeakAt.Local().Format("15:04:05"))}, {"seen by", seen(&s.Incident)}}
	if s.EndedAt != nil {
		pairs = append(pairs, [2]string{"ended", s.EndedAt.Local().Format(timeForm) + ": " + s.EndedAs})
	} else {
		pairs = append(pairs, [2]string{"next", s.Next})
	}
	if drawn := term.Curve(s.Curve.Figures); drawn != "" {
		pairs = append(pairs, [2]string{"curve", drawn + "  since " + s.Curve.Begin.Local().Format("15:04")})
	}
	c.To(out).Pairs(pairs)
	section := func(title string, count int, line func(i int) string) {
		if count > 0 {
			fmt.Fprintf(out, "\n%s:\n", title)
		}
		for i := range count {
			fmt.Fprintln(out, "  "+term.OneLine(line(i), 160))
		}
	}
	entry := func(e *client.LogbookEntry) string {
		return fmt.Sprintf("%s  %s: %s %s  %s", e.At.Local().Format(timeForm), e.Who, e.Action, e.Address, e.Change)
	}
	section("what happened", len(s.Notes), func(i int) string {
		return s.Notes[i].At.Local().Format(timeForm) + "  " + noteText(&s.Notes[i])
	})
	section("changed in the half hour before", len(s.Before), func(i int) string { return entry(&s.Before[i]) })
	section("done while it went on", len(s.During), func(i int) string { return entry(&s.During[i]) })
	section("of the same source", len(s.Related), func(i int) string {
		r := &s.Related[i]
		return fmt.Sprintf("%d  %s  %s", r.Number, words.Of(r.State), r.Says)
	})
	return nil
}
