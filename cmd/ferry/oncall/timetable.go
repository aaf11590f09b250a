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
	"steadyferry/internal/core/words"
)

// ChorePath is that of a chore.
func ChorePath(a address.Address) string {
	return "/chores/" + url.PathEscape(a.Space) + "/" + url.PathEscape(a.Channel)
}

// Timetable is the verb that lists chores, and starts and cancels their runs.
var Timetable = verb{
	Name: "timetable", Args: "[SPACE|ADDRESS]", Summary: "List chores: what is done by itself, when next, and what came of it; or the runs of one",
	Details: `    ferry timetable coldchain
    ferry timetable coldchain/nightly-return           its runs, the newest first
    ferry timetable -start coldchain/nightly-return    run it now
    ferry timetable -run 12                            what a run did, line by line
    ferry timetable -cancel 12                         end a run, and what it has begun`,
	Define: func(fs *flag.FlagSet) func(*call) error {
		every := term.EveryFlag(fs)
		start := fs.Bool("start", false, "run the chore now, also one that is paused")
		run := fs.Int64("run", 0, "tell of run `N`")
		cancel := fs.Int64("cancel", 0, "end run `N`, and what it has begun")
		limit := fs.Int("limit", 20, "of one chore: show at most `N` runs")
		return func(c *call) error {
			switch {
			case *cancel != 0:
				r, err := term.Ask[client.Run](c.Call, http.MethodPatch, runPath(*cancel), nil, map[string]string{"state": "cancelled"})
				return c.toldRun(c.Out, r, err)
			case *run != 0:
				return c.Repeat(*every, func(out io.Writer) error {
					r, err := term.Ask[client.Run](c.Call, http.MethodGet, runPath(*run), nil, nil)
					return c.toldRun(out, r, err)
				})
			case len(c.Args) > 0 && (strings.Contains(c.Args[0], "/") || *start):
				a, err := c.OneChannel()
				if err != nil {
					return err
				}
				if *start {
					r, err := term.Ask[client.Run](c.Call, http.MethodPost, ChorePath(a)+"/runs", nil, nil)
					return c.toldRun(c.Out, r, err)
				}
				return c.Repeat(*every, func(out io.Writer) error { return c.runs(out, a, *limit) })
			}
			space, err := c.oneSpace()
			if err != nil {
				return err
			}
			return c.Repeat(*every, func(out io.Writer) error { return c.timetable(out, space) })
		}
	},
}.With(own)

func runPath(n int64) string { return fmt.Sprintf("/runs/%d", n) }

func (c *call) timetable(out io.Writer, space string) error {
	query := url.Values{}
	if space != "" {
		query.Set("space", space)
	}
	p, err := term.Ask[client.Page[client.Chore]](c.Call, http.MethodGet, "/chores", query, nil)
	if err != nil {
		return err
	}
	now := term.Now()
	_, err = term.List(c.Call, out, p.Items, term.TableOf[client.Chore]{None: "nothing is done by itself here; ferry new chore coldchain/nightly-return -at '0 3 * * *' -zone Europe/Lisbon -do return -of coldchain/inspections would be",
		Headings: []string{"chore", "state", "does", "of", "when", "next", "last run", "outcome"}, Right: []string{"next", "last run"},
		Row: func(ch client.Chore) []string {
			last, outcome := "never", ""
			if ch.Last != nil {
				last, outcome = term.Age(&ch.Last.CreatedAt, now)+" ago", c.Mark(ch.Last.State)+": "+term.OneLine(ch.Last.Says, 60)
			}
			return []string{ch.Address, c.Mark(ch.State), ch.Do, ch.Of, ch.Runs, until(ch.Next, now), last, outcome}
		}})
	return err
}

// until tells how long it is to a time.
func until(at *time.Time, now time.Time) string {
	if at == nil {
		return "-"
	}
	if at.Sub(now) < time.Second {
		return "now"
	}
	return "in " + term.Age(&now, *at)
}

func (c *call) runs(out io.Writer, a address.Address, limit int) error {
	p, err := term.Ask[client.Page[client.Run]](c.Call, http.MethodGet, ChorePath(a)+"/runs", url.Values{"limit": {fmt.Sprint(limit)}}, nil)
	if err != nil {
		return err
	}
	_, err = term.List(c.Call, out, p.Items, term.TableOf[client.Run]{None: fmt.Sprintf("%s has not run yet; ferry timetable -start %s runs it now", a, a), Headings: []string{"run", "state", "began", "by", "took", "messages", "failed again", "outcome"}, Right: []string{"run", "took", "messages", "failed again"}, Row: c.runRow})
	return err
}

func (c *call) runRow(r client.Run) []string {
	return []string{fmt.Sprint(r.Run), c.Mark(r.State), r.CreatedAt.Local().Format("01-02 15:04:05"), r.By, took(&r), term.Count(r.Messages), term.Count(r.Failed), term.OneLine(r.Says, 70)}
}

// took is how long a run has taken, or goes on.
func took(r *client.Run) string {
	end := term.Now()
	if r.EndedAt != nil {
		end = *r.EndedAt
	}
	return address.FormatDuration(max(end.Sub(r.CreatedAt).Round(time.Second), 0))
}

func (c *call) toldRun(out io.Writer, r client.Run, err error) error {
	if err != nil {
		return err
	}
	if c.JSON {
		return c.PrintJSON(r)
	}
	pairs := [][2]string{{"run", fmt.Sprintf("%d of %s", r.Run, r.Chore)}, {"state", c.Mark(r.State)}, {"does", r.Do + " " + r.Of}, {"begun by", r.By}, {"for", r.PlannedAt.Local().Format("2006-01-02 15:04:05")},
		{"took", took(&r)}, {"outcome", r.Says}}
	if r.Missed > 0 {
		pairs = append(pairs, [2]string{"missed before", words.Many(r.Missed, "time")})
	}
	if r.Job > 0 {
		pairs = append(pairs, [2]string{"its job", fmt.Sprintf("%s %d: ferry %s show %d", r.Kind, r.Job, r.Kind, r.Job)})
	}
	c.To(out).Pairs(pairs)
	if len(r.Log) == 0 {
		return nil
	}
	fmt.Fprintln(out)
	for _, line := range r.Log {
		fmt.Fprintf(out, "%s  %s\n", line.At.Local().Format("15:04:05"), line.Text)
	}
	return nil
}

// NewChore makes a chore of settings; with try, or without yes one that loses something, only
// shows it.
func NewChore(to *term.Call, settings map[string]any, try string, yes bool) error {
	c := own(to)
	a, err := c.OneChannel()
	if err != nil {
		return err
	}
	if try != "" && try != "now" {
		return term.WrongUsage("-try is %q; of a chore it is now", try)
	}
	settings["address"] = a.String()
	ch, err := term.Ask[client.Chore](c.Call, http.MethodPost, "/chores", term.Preview(true), settings)
	if err != nil {
		return err
	}
	make := try == "" && (yes || !ch.Careful)
	if make {
		if ch, err = term.Ask[client.Chore](c.Call, http.MethodPost, "/chores", nil, settings); err != nil {
			return err
		}
	}
	if c.JSON {
		return c.PrintJSON(ch)
	}
	if make {
		fmt.Fprintf(c.Out, "created chore %s: %s %s, %s\n", ch.Address, ch.Do, ch.Of, ch.Runs)
	}
	c.foreseen(c.Out, &ch)
	switch {
	case make:
		fmt.Fprintf(c.Out, "next: ferry timetable -start %s runs it now\n", ch.Address)
	case try == "":
		fmt.Fprintln(c.Out, "nothing was made: it loses something or moves offsets; -yes makes it")
	default:
		fmt.Fprintln(c.Out, "nothing was made")
	}
	return nil
}

// foreseen tells when a chore runs next, and what it would do now.
func (c *call) foreseen(out io.Writer, ch *client.Chore) {
	times := make([]string, len(ch.Coming))
	zone, err := time.LoadLocation(ch.Zone)
	if err != nil {
		zone = time.Local
	}
	for i, at := range ch.Coming {
		times[i] = at.In(zone).Format("Mon 2 Jan 15:04 MST")
	}
	switch {
	case ch.Paused:
		times = []string{"never: it is paused"}
	case len(times) == 0:
		times = []string{"not by time"}
	}
	fmt.Fprintf(out, "runs next:     %s\n", strings.Join(times, "\n               "))
	fmt.Fprintf(out, "now it does:   %s\n", strings.Join(ch.Effects, "\n               "))
}

// ShowChore shows a chore and its last runs.
func ShowChore(to *term.Call, out io.Writer, a address.Address) error {
	c := own(to)
	ch, err := term.Ask[client.Chore](c.Call, http.MethodGet, ChorePath(a), nil, nil)
	if err != nil {
		return err
	}
	if c.JSON {
		return c.PrintJSON(ch)
	}
	told := "nobody"
	if tell := term.SettingText(ch.Settings["tell"]); tell != "" && tell != "none" {
		told = fmt.Sprintf("%s, of %s", tell, map[string]string{"failure": "runs that fail", "always": "each run"}[term.SettingText(ch.Settings["tellOf"])])
	}
	c.To(out).Pairs([][2]string{{"chore", ch.Address}, {"state", c.Mark(ch.State)}, {"does", ch.Do + " " + ch.Of}, {"when", ch.Runs}, {"tells", told}, {"description", ch.Description}})
	c.foreseen(out, &ch)
	fmt.Fprintln(out)
	return c.runs(out, a, 5)
}
