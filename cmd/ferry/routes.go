package main

import (
	"flag"
	"fmt"
	"io"
	"maps"
	"net/http"
	"slices"
	"strings"
	"time"

	"steadyferry/client"
	"steadyferry/cmd/ferry/term"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/words"
)

// tryFlag is the flag that tries a route on the past instead of setting it.
func tryFlag(fs *flag.FlagSet) *string {
	return fs.String("try", "", "make and change nothing; of a route: show what it would have done with what came since this `POSITION`; of a watch: when it would have rung since ago:DURATION; of a chore: what it would do now")
}

// showChain draws the routes through which messages come to a channel and go on from
// it, from where they begin.
func (c *call) showChain(out io.Writer, a address.Address) error {
	p, err := term.Ask[client.Page[client.Group]](c.Call, http.MethodGet, client.ChannelPath(a)+"/chain", nil, nil)
	if err != nil {
		return err
	}
	if c.JSON {
		return term.PrintEach(c.Call, p.Items)
	}
	if len(p.Items) == 0 {
		fmt.Fprintf(out, "no route comes to %s or goes on from it; ferry new route %s@NAME -to ADDRESS makes one\n", a, a)
		return nil
	}
	from, isTarget := map[string][]client.Group{}, map[string]bool{}
	for _, g := range p.Items {
		channel := g.Channel
		if at, err := address.Parse(channel); err == nil {
			channel = at.ChannelPart().String() // of what reads dead letters, too
		}
		from[channel] = append(from[channel], g)
		isTarget[g.To] = true
	}
	var draw func(channel string, depth int)
	draw = func(channel string, depth int) {
		indent := strings.Repeat("    ", depth)
		mark := ""
		if channel == a.String() {
			mark = "  <- this one"
		}
		fmt.Fprintf(out, "%s%s%s\n", indent, channel, mark)
		for _, g := range from[channel] {
			left := ""
			if g.Lag > 0 {
				left = ", " + lagText(g)
			}
			fmt.Fprintf(out, "%s  %s  %s%s\n", indent, readerText(g), c.MarkAs(g.State, g.Verdict), left)
			if g.Where != "" {
				fmt.Fprintf(out, "%s    %s\n", indent, g.Where)
			}
			draw(g.To, depth+1)
		}
	}
	for _, channel := range slices.Sorted(maps.Keys(from)) {
		if !isTarget[channel] {
			draw(channel, 0)
		}
	}
	return nil
}

// readerText is a reader below its channel: @warm, or /dead@archive.
func readerText(g client.Group) string {
	a, err := address.Parse(g.Address)
	if err != nil {
		return g.Address
	}
	return strings.TrimPrefix(g.Address, a.ChannelPart().String())
}

// tryTime is how long a trial may take; the service ends it sooner.
const tryTime = 30 * time.Second

// tryRoute shows what a route would have done; of one that is there, with other settings.
func (c *call) tryRoute(since string, given term.Given) error {
	a, err := c.OneGroup()
	if err != nil {
		return err
	}
	if err := (term.PositionValue{To: &since}).Set(since); err != nil {
		return term.Usage(fmt.Errorf("-try: %w", err))
	}
	in := client.TryRoute{Since: since, Route: a.Group, Settings: client.Settings(given)}
	t, err := term.AskWithin[client.RouteTrial](c.Call, tryTime, http.MethodPost, client.ChannelPath(a)+"/route-trials", nil, in)
	if err != nil {
		return err
	}
	if c.JSON {
		return c.PrintJSON(t)
	}
	c.showTrial(t)
	return nil
}

func (c *call) showTrial(t client.RouteTrial) {
	looked := "all " + words.Many(t.LookedAt, "message")
	if t.LookedAt < t.Total {
		looked = fmt.Sprintf("%s of %s, as far as there was time: figures are of these", term.Count(t.LookedAt), words.Many(t.Total, "message"))
	}
	pairs := [][2]string{
		{"looked at", looked + ", since " + t.Since.Local().Format("2006-01-02 15:04")},
		{"sent", share(t.Sent, t.LookedAt)},
		{"left out", share(t.LeftOut, t.LookedAt)},
		{"dead letters", share(t.Failed, t.LookedAt)},
		{"rate", fmt.Sprintf("%s at most, over %s", term.PerSecond(t.Peak), address.FormatDuration(time.Duration(t.StepSeconds)*time.Second)) + besideText(t)},
	}
	if t.Unlike > 0 {
		pairs = append(pairs, [2]string{"condition", fmt.Sprintf("it does not apply to %s: %s", words.Many(t.Unlike, "message"), t.Why)})
	}
	if w := t.Was; w != nil {
		pairs = append(pairs, [2]string{"as it is set", fmt.Sprintf("%s sent; then %s no longer, %s more, %s with another content", words.Many(w.Sent, "message"), term.Count(w.OnlyWas), term.Count(w.OnlyNow), term.Count(w.Other))})
	}
	c.Pairs(pairs)
	values := make([]float64, len(t.Steps))
	for i, s := range t.Steps {
		values[i] = float64(s.Sent)
	}
	if len(values) > 1 {
		fmt.Fprintf(c.Out, "\nsent, from %s on: %s\n", t.Steps[0].At.Local().Format("15:04"), term.Spark(few(values, 60)))
	}
	for _, f := range t.Failures {
		fmt.Fprintf(c.Out, "\n%s, %s: %s\n  such as %s\n", f.Reason, words.Many(f.Count, "message"), f.Detail, f.Example)
	}
	c.trials("what is sent", t.Samples)
	if t.Was != nil {
		c.trials("what differs", t.Was.Samples)
	}
	if len(t.Others) > 0 {
		fmt.Fprintln(c.Out, "\nwhat is left out:")
		for _, m := range t.Others {
			fmt.Fprintf(c.Out, "  %s  %s\n", m.Address, term.OneLine(string(m.Body), 100))
		}
	}
	fmt.Fprintln(c.Out, "\nnothing was made, changed or sent")
}

// besideText compares with what the target gets, if it is a channel.
func besideText(t client.RouteTrial) string {
	if t.Outside {
		return ""
	}
	return fmt.Sprintf("; the target gets %s now, and its readers take %s", term.PerSecond(t.In), term.PerSecond(t.Readers))
}

// trials prints what a route would have sent: messages, and what edits make of them.
func (c *call) trials(title string, samples []client.TrialSample) {
	if len(samples) == 0 {
		return
	}
	fmt.Fprintf(c.Out, "\n%s:\n", title)
	for _, s := range samples {
		before, after := editable(s.Before.Key, s.Before.Headers, s.Before.Body), ""
		if s.After != nil {
			headers := maps.Clone(s.After.Headers)
			maps.DeleteFunc(headers, func(name, _ string) bool { return s.Before.Headers[name] == "" && strings.HasPrefix(name, "ferry-") })
			after = editable(s.After.Key, headers, s.After.Body)
		}
		switch {
		case s.Failed != "":
			fmt.Fprintf(c.Out, "  %s  %s\n    %s\n", s.Before.Address, term.OneLine(string(s.Before.Body), 100), c.MarkAs("failed", term.OneLine(s.Failed, 100)))
		case s.After == nil:
			fmt.Fprintf(c.Out, "  %s  %s\n    no longer sent\n", s.Before.Address, term.OneLine(string(s.Before.Body), 100))
		case before == after:
			fmt.Fprintf(c.Out, "  %s  %s\n", s.Before.Address, term.OneLine(string(s.Before.Body), 100))
		default:
			fmt.Fprintf(c.Out, "  %s\n    %s\n", s.Before.Address, strings.ReplaceAll(difference(before, after), "\n", "\n    "))
		}
	}
}

// few is values as so many at most: of each stretch the highest.
func few(values []float64, most int) []float64 {
	if len(values) <= most {
		return values
	}
	out := make([]float64, most)
	for i, v := range values {
		at := i * most / len(values)
		out[at] = max(out[at], v)
	}
	return out
}

func share(n, of int64) string {
	text := words.Many(n, "message")
	if of > 0 {
		text += fmt.Sprintf(" (%.1f%%)", 100*float64(n)/float64(of))
	}
	return text
}
