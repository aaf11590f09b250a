package oncall

import (
	"context"
	"flag"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"slices"
	"time"

	"steadyferry/client"
	"steadyferry/cmd/ferry/term"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/words"
)

// Report is the verb that fetches the report of a space.
var Report = verb{
	Name: "report", Args: "SPACE", Summary: "Write what happened in a space: what came, who was behind, why messages failed, incidents, who did what",
	Details: `    ferry report coldchain
    ferry report coldchain -past 7d -format html -out coldchain.html
    ferry new chore coldchain/daily-report -at '0 6 * * *' -zone Europe/Lisbon -do report -of coldchain -tell coldchain/duty-desk`,
	Define: func(fs *flag.FlagSet) func(*call) error {
		past := 24 * time.Hour
		fs.Var(term.DurationValue{D: &past}, "past", "of the last `DURATION`, 10m to 31d")
		format := fs.String("format", "markdown", "`FORMAT` of what is written: markdown, html, or json")
		out := fs.String("out", "", "write it into this `FILE`")
		return func(c *call) error {
			a, err := c.OneAddress()
			if err != nil {
				return err
			}
			if a.Kind() != address.KindSpace {
				return term.WrongUsage("%s is the address of a %s; a space is expected", a, a.Kind())
			}
			if c.JSON {
				*format = "json"
			}
			ctx, cancel := context.WithTimeout(context.Background(), tryTime)
			defer cancel()
			response, err := c.API.Do(ctx, client.Request{Method: http.MethodGet, Path: "/reports/" + url.PathEscape(a.Space), Query: url.Values{"format": {*format}, "span": {address.FormatDuration(past)}}})
			if err != nil {
				return err
			}
			defer response.Body.Close()
			to := c.Out
			if *out != "" {
				f, err := os.Create(*out)
				if err != nil {
					return err
				}
				defer f.Close()
				to = f
			}
			if _, err := io.Copy(to, response.Body); err != nil {
				return err
			}
			if *out != "" {
				fmt.Fprintf(c.Out, "wrote the report of %s into %s\n", a, *out)
			}
			return nil
		}
	},
}.With(own)

// Outlook says in words what is wrong, what will go wrong, what was changed and what is being
// done; or that it is not known, as while the records are away.
func Outlook(to *term.Call, out io.Writer) {
	c := own(to)
	o, err := term.Ask[client.Outlook](c.Call, http.MethodGet, "/outlook", nil, nil)
	if err != nil {
		fmt.Fprintln(out, c.MarkAs("no-data", "what is wrong is not known: "+err.Error()))
		return
	}
	now := term.Now()
	if len(o.Wrong) == 0 {
		since := "nothing was out of order so far"
		if o.WellSince != nil {
			since = fmt.Sprintf("nothing is out of order since %s ago", term.Age(o.WellSince, now))
		}
		fmt.Fprintln(out, c.MarkAs("calm", since))
	}
	for _, s := range o.Wrong {
		i := s.Incidents[0]
		more := ""
		if n := len(s.Incidents) - 1; n > 0 {
			more = fmt.Sprintf(" (and %s of %s)", words.Many(n, "more incident"), s.Source)
		}
		fmt.Fprintf(out, "%s: %s%s\n    next: %s\n", c.Mark(i.State), i.Says, more, i.Next)
	}
	section(out, "will go wrong", o.Foreseen, func(f client.Foreseen) string { return fmt.Sprintf("%s\n    next: %s", f.Says, f.Next) })
	section(out, "being done", o.Doing, func(g client.Going) string {
		return fmt.Sprintf("%s %d of %s by %s, %s: %s", g.Kind, g.Job, g.Address, g.Who, words.Of(g.State), term.OneLine(g.Says, 90))
	})
	slices.Reverse(o.Changed)
	section(out, "changed in the last hour", o.Changed, func(e client.LogbookEntry) string {
		return fmt.Sprintf("%s  %s: %s %s", e.At.Local().Format("15:04:05"), e.Who, e.Action, e.Address)
	})
}

// section prints lines under a heading, if there are any.
func section[T any](out io.Writer, heading string, all []T, line func(T) string) {
	if len(all) == 0 {
		return
	}
	fmt.Fprintf(out, "%s:\n", heading)
	for _, one := range all {
		fmt.Fprintf(out, "  %s\n", line(one))
	}
}
