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
)

// Logbook is the verb that tells who did what, and takes it back.
var Logbook = verb{
	Name: "logbook", Args: "[ADDRESS]", Summary: "Show who did what, newest first; with an address, to that and what belongs to it",
	Details: `    ferry logbook coldchain/inspections -since 1d
    ferry logbook -refused                 what was refused, and to whom
    ferry logbook -undo 412                what taking entry 412 back would do; with -yes it is done
    ferry logbook -all > logbook.ndjson    all of it, an entry a line
    ferry logbook -to audit/logbook        have each entry from now on be a message of a topic too; -to none ends that

What is set, and what is removed, can be taken back, with the rights for the act itself, unless it is another
thing by now.`,
	Define: func(fs *flag.FlagSet) func(*call) error {
		limit := fs.Int("limit", 50, "show at most `N` entries")
		who := fs.String("who", "", "only what the principal with this `NAME` did")
		action := fs.String("action", "", "only actions with this `TEXT` in them, such as discard")
		all := fs.Bool("all", false, "all of them, as JSON, an entry a line, for a file or a pipe")
		refused := fs.Bool("refused", false, "only what was refused")
		undo := fs.Int64("undo", 0, "take back what entry `N` tells, or without -yes say what that would do")
		to := fs.String("to", "", "have each entry from now on go to the topic with this `ADDRESS` too, or to none")
		yes := fs.Bool("yes", false, "of -undo and -to: do it")
		var since time.Duration
		fs.Var(term.DurationValue{D: &since}, "since", "only what was done in the last `DURATION`")
		return func(c *call) error {
			if *undo != 0 {
				return c.Previewed(term.Ask[client.Preview](c.Call, http.MethodPost, fmt.Sprintf("/logbook/entries/%d/undo", *undo), term.Preview(!*yes), nil))
			}
			if *to != "" {
				return c.Previewed(term.Ask[client.Preview](c.Call, http.MethodPatch, "/nodes", term.Preview(!*yes), client.Settings{"logbookTo": *to}))
			}
			query := url.Values{"limit": {fmt.Sprint(*limit)}}
			if len(c.Args) > 0 {
				query.Set("address", c.Args[0])
			}
			if *refused {
				query.Set("outcome", "refused")
			}
			if since > 0 {
				query.Set("since", term.Now().Add(-since).UTC().Format(time.RFC3339))
			}
			for name, text := range map[string]string{"who": *who, "action": *action} {
				if text != "" {
					query.Set(name, text)
				}
			}
			if *all {
				query.Del("limit")
				response, err := c.API.Do(c.Ctx, client.Request{Method: http.MethodGet, Path: "/logbook/lines", Query: query})
				if err != nil {
					return err
				}
				defer response.Body.Close()
				_, err = io.Copy(c.Out, response.Body)
				return err
			}
			p, err := term.Ask[client.Page[client.LogbookEntry]](c.Call, http.MethodGet, "/logbook", query, nil)
			if err != nil {
				return err
			}
			_, err = term.List(c.Call, c.Out, p.Items, term.TableOf[client.LogbookEntry]{None: "there is no such entry", Headings: []string{"entry", "time", "who", "from", "action", "address", "what changed"},
				Row: func(e client.LogbookEntry) []string {
					if e.Times > 1 {
						e.Action += fmt.Sprintf(", %d times", e.Times)
					}
					switch e.Outcome {
					case "refused", "failed":
						e.Action = e.Outcome + ": " + e.Action
					case "unknown":
						e.Action = "not known whether done: " + e.Action
					}
					return []string{fmt.Sprint(e.ID), e.At.Local().Format("2006-01-02 15:04:05"), e.Who, e.From, e.Action, e.Address, term.OneLine(e.Change, 100)}
				}})
			return err
		}
	},
}.With(own)
