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

var seekVerb = verb{
	Name: "seek", Args: "GROUP", Summary: "Set a group's offsets to another position, or undo the last seek",
	Details: "Without -yes it only shows what would happen. All partitions go there, or none. Positions: first, end, offset:N, time:T, ago:D, group:NAME (where another group of the topic is), today, yesterday, a date, a duration.\n\n    ferry seek coldchain/readings@compliance -to 2h\n    ferry seek coldchain/readings@compliance -to 2h -why 'wrong limits were used' -yes\n    ferry seek coldchain/readings@compliance -undo -yes",
	Define: func(fs *flag.FlagSet) func(*call) error {
		to := new(string)
		term.PositionFlag(fs, to, "to", "", "`POSITION` to go to")
		partition := fs.Int("partition", 0, "only partition `N`; without it, all")
		undo := fs.Bool("undo", false, "go back to before the last seek")
		running := fs.Bool("while-running", false, "also while members read: they are told and go on from the new offsets")
		why := fs.String("why", "", "`TEXT` that says why, for the history")
		yes := fs.Bool("yes", false, "do it")
		return func(c *call) error {
			a, err := c.OneGroup()
			if err != nil {
				return err
			}
			if *undo == (*to != "") {
				return term.WrongUsage("either -to POSITION or -undo is expected")
			}
			seek := client.Seek{To: *to, Undo: *undo, WhileRunning: *running, Why: *why}
			if c.Set["partition"] {
				seek.Partition = partition
			}
			m, err := term.Ask[client.SeekResult](c.Call, http.MethodPost, client.GroupPath(a)+"/seeks", term.Preview(true), seek)
			if err == nil && *yes {
				seek.Last = &m.Last
				m, err = term.Ask[client.SeekResult](c.Call, http.MethodPost, client.GroupPath(a)+"/seeks", nil, seek)
			}
			if err != nil {
				return err
			}
			if c.JSON {
				return c.PrintJSON(m)
			}
			c.printSeek(a, m)
			return nil
		}
	},
}

func (c *call) printSeek(a address.Address, m client.SeekResult) {
	var rows [][]string
	notes := map[string][]string{}
	for _, s := range m.Steps {
		rows = append(rows, []string{fmt.Sprintf("#%d", s.Partition), term.Count(s.From), stampText(s.FromTime), term.Count(s.To), stampText(s.ToTime), signed(s.Messages), timeMoved(s), term.Count(s.Again), term.Count(s.Skipped)})
		if s.Note != "" {
			notes[s.Note] = append(notes[s.Note], fmt.Sprintf("#%d", s.Partition))
		}
	}
	c.Table(c.Out, []string{"partition", "old", "its time", "new", "its time ", "messages", "in time", "read again", "skipped"}, rows, "old", "new", "messages", "in time", "read again", "skipped")
	for _, note := range slices.Sorted(maps.Keys(notes)) {
		fmt.Fprintf(c.Out, "- %s: %s\n", strings.Join(notes[note], " "), note)
	}
	fmt.Fprintf(c.Out, "- %s read again, %s skipped\n", words.Many(m.Again, "message is", "messages are"), term.Count(m.Skipped))
	switch {
	case m.Done:
		fmt.Fprintf(c.Out, "%s is at %s now (seek %d); ferry seek %s -undo -yes takes it back\n", a, m.Target, m.Seek, a)
	case m.Members > 0:
		fmt.Fprintf(c.Out, "nothing is changed yet; %s: add -while-running and -yes to do it, or stop them first\n", words.Many(m.Members, "live member"))
	default:
		fmt.Fprintln(c.Out, "nothing is changed yet: add -yes to do it")
	}
}

func signed(n int64) string {
	if n > 0 {
		return "+" + term.Count(n)
	}
	return term.Count(n)
}

func stampText(t *time.Time) string {
	if t == nil {
		return "the end"
	}
	return t.Local().Format("01-02 15:04:05")
}

// timeMoved tells how far a step goes in time.
func timeMoved(s client.SeekStep) string {
	if s.From == s.To {
		return "–"
	}
	from, to := term.Now(), term.Now()
	if s.FromTime != nil {
		from = *s.FromTime
	}
	if s.ToTime != nil {
		to = *s.ToTime
	}
	d := to.Sub(from).Truncate(time.Second)
	if d == 0 {
		return "0s"
	}
	sign := "+"
	if d < 0 {
		sign, d = "-", -d
	}
	return sign + address.FormatDuration(d)
}

// showGroup tells how a group is, or with history what was done to its
// offsets.
func (c *call) showGroup(out io.Writer, a address.Address, history bool) error {
	if history {
		return c.showSeeks(out, a)
	}
	g, err := term.Ask[client.Group](c.Call, http.MethodGet, client.GroupPath(a), nil, nil)
	if err != nil {
		return err
	}
	if c.JSON {
		return c.PrintJSON(g)
	}
	to := own(c.To(out))
	state := g.Verdict
	if g.Paused && g.Kind == "route" {
		state += "; it is paused: it sends nothing"
	} else if g.Paused {
		state += "; it is paused: its members get nothing"
	}
	expire := ""
	if g.Expire != "0s" {
		expire = "after " + g.Expire + " without members"
	}
	loses := ""
	if g.LosesIn != nil {
		loses = "retention passes it in " + shortAge(*g.LosesIn) + " at today's rates"
	}
	dead := ""
	if all, err := c.deadCounts(); err == nil {
		for _, d := range all {
			if d.Address == g.Address+"/dead" {
				dead = deadText(g.Address, d.Dead)
			}
		}
	}
	to.Pairs([][2]string{{g.Kind, g.Address}, {"leads to", g.To}, {"condition", g.Where}, {"edits", strings.Join(g.Edits, "; ")}, {"description", g.Description}, {"declared", declaredText(g.Declared)}, {"state", c.MarkAs(g.State, state)}, {"lag", lagText(g)}, {"dead letters", dead}, {"of an outage", outageText(g)},
		{"forecast", loses}, {"expires", expire}, {"created", g.CreatedAt.Local().Format("2006-01-02 15:04")}, {"round", roundText(g)}})
	var rows [][]string
	for _, p := range g.Partitions {
		rows = append(rows, append(c.lagRow(p), term.Count(p.First)))
	}
	fmt.Fprintln(out)
	c.Table(out, append(slices.Clone(lagHeadings), "first"), rows, append(slices.Clone(lagFigures), "first")...)
	if g.Kind == "route" {
		c.showWork(out, g)
		return c.events(out, a, fewEvents)
	}
	rows = nil
	for _, m := range g.Each {
		rows = append(rows, []string{m.MemberID, m.Member, strings.Trim(fmt.Sprint(m.Partitions), "[]"), strings.Trim(fmt.Sprint(m.Leaving), "[]"), term.Age(&m.Joined, term.Now()), m.Timeout})
	}
	if len(rows) > 0 {
		fmt.Fprintln(out)
		c.Table(out, []string{"member", "name", "partitions", "giving up", "since", "timeout"}, rows, "since", "timeout")
	}
	return nil
}

// outageText says how the dead letters return that have no fault of their own.
func outageText(g client.Group) string {
	if g.Outage == 0 {
		return ""
	}
	return fmt.Sprintf("%s: the endpoint did not take them for too long; ferry dead %s -where 'reason == \"given-up\"' -return -rate 50/s -yes returns them when it is back", words.Many(g.Outage, "dead letter"), g.Address)
}

func roundText(g client.Group) string {
	if g.Kind == "route" {
		return ""
	}
	return fmt.Sprint(g.Round)
}

// showWork tells what a route does on each partition of its source, and what it
// waits for.
func (c *call) showWork(out io.Writer, g client.Group) {
	var rows [][]string
	for _, w := range g.Work {
		waits := "–"
		if w.Waiting != nil {
			waits = c.MarkAs("attention", strings.ReplaceAll(w.Waiting.Reason, "-", " ")) + " for " + term.Age(&w.Waiting.Since, term.Now())
			if w.Waiting.Why != "" {
				waits += ": " + term.OneLine(w.Waiting.Why, 60)
			}
		}
		rows = append(rows, []string{fmt.Sprintf("#%d", w.Partition), term.First(w.Node, "nobody"), term.Count(w.Decided), term.Count(w.Sent), term.Count(w.Dead), waits})
	}
	fmt.Fprintln(out)
	c.Table(out, []string{"partition", "done by", "decided", "sent", "dead", "waits for"}, rows, "decided", "sent", "dead")
}

func lagText(g client.Group) string {
	if g.Lag == 0 {
		return "none: all is read"
	}
	if g.LagSeconds == 0 {
		return words.Many(g.Lag, "message")
	}
	return fmt.Sprintf("%s, the oldest %s old", words.Many(g.Lag, "message"), shortAge(g.LagSeconds))
}

func (c *call) showSeeks(out io.Writer, a address.Address) error {
	p, err := term.Ask[client.Page[client.PastSeek]](c.Call, http.MethodGet, client.GroupPath(a)+"/seeks", nil, nil)
	if err != nil {
		return err
	}
	_, err = term.List(c.Call, out, p.Items, term.TableOf[client.PastSeek]{None: fmt.Sprintf("the offsets of %s were never set by hand", a),
		Headings: []string{"seek", "time", "who", "to", "messages", "read again", "skipped", "", "why"}, Right: []string{"seek", "messages", "read again", "skipped"},
		Row: func(m client.PastSeek) []string {
			var messages, again, skipped int64
			for _, s := range m.Steps {
				messages += s.Messages
				again += s.Again
				skipped += s.Skipped
			}
			state := ""
			switch {
			case m.Undoes != nil:
				state = fmt.Sprintf("undoes %d", *m.Undoes)
			case m.Undone:
				state = "undone"
			}
			return []string{fmt.Sprint(m.Seek), m.At.Local().Format("2006-01-02 15:04:05"), m.Who, m.Target, signed(messages), term.Count(again), term.Count(skipped), state, term.OneLine(m.Why, 50)}
		}})
	return err
}
