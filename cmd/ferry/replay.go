package main

import (
	"flag"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"strings"
	"time"

	"steadyferry/client"
	"steadyferry/cmd/ferry/term"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/words"
)

var replayVerb = verb{
	Name: "replay", Args: "FROM -to ADDRESS | list | show N | pause N | resume N | cancel N", Summary: "Send messages again, at a rate that their consumer can bear",
	Details: "FROM is a topic, a queue's dead letters (QUEUE/dead) or those of a group (TOPIC@GROUP/dead). -to is a queue, a topic, or TOPIC@GROUP: that group alone gets them. A replay is a job of the service: it goes on when this command ends. Without -yes it only tells what it would do.\n\n" +
		"    ferry replay coldchain/readings -to coldchain/inspections -from ago:1h -where 'body.celsius > 8' -rate 200/s\n    ferry replay coldchain/inspections/dead -to coldchain/inspections -cause 5f1c02aa -edit 'rename /temp=/celsius' -rate 50/s -yes\n    ferry replay show 3 -every 1s\n    ferry replay resume 3 -rate 20/s",
	Define: func(fs *flag.FlagSet) func(*call) error {
		var r client.NewReplay
		var edits editsValue
		var stopAbove string
		fs.StringVar(&r.To, "to", "", "`ADDRESS` to which they are sent")
		term.PositionFlag(fs, &r.FromPosition, "from", "first", "of a topic: from this `POSITION` on")
		term.PositionFlag(fs, &r.ToPosition, "to-position", "end", "of a topic: up to this `POSITION`")
		fs.StringVar(&r.Where, "where", "", "only those that fulfil this `CONDITION`")
		fs.StringVar(&r.Cause, "cause", "", "of dead letters: only those of the cause with this `ID`")
		fs.Int64Var(&r.Limit, "limit", 0, "at most `N`; without it, all")
		r.Rate = 200
		fs.Var(term.RateValue{PerSecond: &r.Rate}, "rate", "`RATE` at which they are sent, such as 200/s")
		fs.Var(&edits, "edit", editHelp)
		fs.StringVar(&stopAbove, "stop-above", "20%", "halt when more than this `SHARE` of those sent fail again; 100% never halts")
		fs.BoolVar(&r.Keep, "keep", false, "dead letters that are sent elsewhere stay dead letters too")
		yes := fs.Bool("yes", false, "do it")
		every := term.EveryFlag(fs)
		return func(c *call) error {
			if len(c.Args) == 0 {
				return term.WrongUsage("what to replay is expected, or list, show N, pause N, resume N, cancel N")
			}
			switch c.Args[0] {
			case "list":
				return c.Repeat(*every, c.listReplays)
			case "show", "pause", "resume", "cancel":
				rate := r.Rate
				if !c.Set["rate"] {
					rate = 0
				}
				return c.oneReplay(*every, rate)
			}
			if _, err := c.OneAddress(); err != nil {
				return err
			}
			if r.To == "" {
				return term.WrongUsage("-to is missing: where to send them")
			}
			share, err := strconv.ParseFloat(strings.TrimSuffix(stopAbove, "%"), 64)
			if err != nil || share < 0 || share > 100 {
				return term.WrongUsage("-stop-above %q: a share such as 20%% is expected", stopAbove)
			}
			share /= 100
			r.StopAbove, r.From, r.Edits = &share, c.Args[0], edits
			return c.beginReplay(r, *yes)
		}
	},
}

// beginReplay begins a replay, or tells what it would do.
func (c *call) beginReplay(r client.NewReplay, yes bool) error {
	out, err := term.AskWithin[client.Replay](c.Call, 5*time.Minute, http.MethodPost, "/replays", term.Preview(!yes), r)
	if err != nil {
		return err
	}
	if c.JSON {
		return c.PrintJSON(out)
	}
	if out.Plan == nil {
		fmt.Fprintf(c.Out, "replay %d has begun: %s from %s to %s at %s, until about %s\nnext: ferry replay show %d -every 1s\n", out.Replay, words.Many(out.Total, "message"), out.From, out.To, term.PerSecond(out.Rate), clock(out.EndsAt), out.Replay)
		return nil
	}
	p := out.Plan
	if p.Messages == 0 {
		fmt.Fprintf(c.Out, "nothing in %s matches: there is nothing to replay\n", r.From)
		return nil
	}
	var parts []string
	for _, part := range p.Partitions {
		parts = append(parts, fmt.Sprintf("#%d: %s", part.Partition, term.Count(part.Messages)))
	}
	c.Pairs([][2]string{
		{"would send", fmt.Sprintf("%s from %s to %s", words.Many(p.Messages, "message"), out.From, out.To)}, {"partitions", joinList(parts)},
		{"stored", fmt.Sprintf("%s to %s", p.Oldest.Local().Format(time.DateTime), p.Newest.Local().Format(time.DateTime))},
		{"takes", fmt.Sprintf("%s at %s", address.FormatDuration(time.Duration(p.Seconds*float64(time.Second)).Round(time.Second)), term.PerSecond(out.Rate))},
	})
	for _, e := range p.Effects {
		fmt.Fprintln(c.Out, "-", e)
	}
	c.samples(p.Samples)
	fmt.Fprintln(c.Out, "nothing is sent yet: add -yes to begin it")
	return nil
}

func clock(t *time.Time) string {
	if t == nil {
		return "–"
	}
	return t.Local().Format("15:04:05")
}

func (c *call) listReplays(out io.Writer) error {
	p, err := term.Ask[client.Page[client.Replay]](c.Call, http.MethodGet, "/replays", nil, nil)
	if err != nil {
		return err
	}
	_, err = term.List(c.Call, out, p.Items, term.TableOf[client.Replay]{None: "there were no replays yet; ferry help replay tells how to begin one",
		Headings: []string{"replay", "state", "from", "to", "sent", "rate", "failed again", "ends", "by", "detail"}, Right: []string{"replay", "sent", "rate", "failed again", "ends"},
		Row: func(r client.Replay) []string {
			return []string{fmt.Sprint(r.Replay), c.Mark(r.State), r.From, r.To, term.Count(r.Sent) + " of " + term.Count(r.Total), term.PerSecond(r.Rate), term.Count(r.Failed), clock(first2(r.EndedAt, r.EndsAt)), r.Who, term.OneLine(r.Detail, 50)}
		}})
	return err
}

func first2(a, b *time.Time) *time.Time {
	if a != nil {
		return a
	}
	return b
}

// oneReplay shows a replay, or pauses, resumes or cancels it.
func (c *call) oneReplay(every time.Duration, rate float64) error {
	if len(c.Args) != 2 {
		return term.WrongUsage("the number of a replay is expected: ferry replay %s N", c.Args[0])
	}
	if _, err := strconv.ParseInt(c.Args[1], 10, 64); err != nil {
		return term.WrongUsage("%q is not the number of a replay; ferry replay list shows them", c.Args[1])
	}
	path := "/replays/" + c.Args[1]
	if c.Args[0] == "show" {
		return c.Repeat(every, func(out io.Writer) error {
			r, err := term.Ask[client.Replay](c.Call, http.MethodGet, path, nil, nil)
			if err != nil {
				return err
			}
			return c.printReplay(out, r)
		})
	}
	change := client.ReplayChange{State: map[string]string{"pause": "paused", "resume": "running", "cancel": "cancelled"}[c.Args[0]]}
	if rate > 0 {
		change.Rate = &rate
	}
	r, err := term.Ask[client.Replay](c.Call, http.MethodPatch, path, nil, change)
	if err != nil {
		return err
	}
	return c.printReplay(c.Out, r)
}

func (c *call) printReplay(out io.Writer, r client.Replay) error {
	if c.JSON {
		return c.PrintJSON(r)
	}
	to := own(c.To(out))
	done := 0.0
	if r.Total > 0 {
		done = 100 * float64(r.Sent+r.Skipped) / float64(r.Total)
	}
	var edits []string
	for _, e := range r.Edits {
		edits = append(edits, e.String())
	}
	chosen := strings.TrimSpace(r.Choice.Where)
	if r.Choice.Cause != "" {
		chosen = strings.TrimSpace("cause " + r.Choice.Cause + " " + chosen)
	}
	skipped := ""
	if r.Skipped > 0 {
		skipped = term.Count(r.Skipped) + ": the edits do not apply to them, or they were settled meanwhile"
	}
	to.Pairs([][2]string{
		{"replay", fmt.Sprint(r.Replay)}, {"state", c.Mark(r.State)}, {"detail", r.Detail}, {"from", r.From}, {"to", r.To}, {"those with", chosen}, {"edits", joinList(edits)},
		{"sent", fmt.Sprintf("%s of %s (%.0f%%)", term.Count(r.Sent), term.Count(r.Total), done)}, {"skipped", skipped}, {"failed again", term.Count(r.Failed)}, {"rate", term.PerSecond(r.Rate)},
		{"begun", r.CreatedAt.Local().Format(time.DateTime) + " by " + r.Who}, {"ends", clock(first2(r.EndedAt, r.EndsAt))},
	})
	return nil
}

var traceVerb = verb{
	Name: "trace", Args: "ID|ADDRESS", Summary: "Tell the story of one message: attempts, failures, edits, returns, replays",
	Details: "    ferry trace coldchain/inspections#0:1203\n    ferry trace 0192f0c1-77aa-7c3e-9d41-0a4f2a7d9c11",
	Define: func(*flag.FlagSet) func(*call) error {
		return func(c *call) error {
			if len(c.Args) != 1 {
				return term.WrongUsage("an id or an address is expected")
			}
			a, err := address.Parse(c.Args[0])
			if err == nil && a.Kind() == address.KindMessage {
				t, err := term.Ask[client.Trace](c.Call, http.MethodGet, fmt.Sprintf("%s/trace/%d/%d", client.QueuePath(a), a.Partition, a.Offset), nil, nil)
				if err != nil {
					return err
				}
				return c.printTrace(t)
			}
			if strings.ContainsAny(c.Args[0], "/#") {
				return term.WrongUsage("%q is not the address of a message, such as coldchain/inspections#0:1203", c.Args[0])
			}
			p, err := term.Ask[client.Page[client.Trace]](c.Call, http.MethodGet, "/trace", map[string][]string{"id": {c.Args[0]}}, nil)
			if err != nil {
				return err
			}
			for i, t := range p.Items {
				if i > 0 && !c.JSON {
					fmt.Fprintln(c.Out)
				}
				if err := c.printTrace(t); err != nil {
					return err
				}
			}
			return nil
		}
	},
}

func (c *call) printTrace(t client.Trace) error {
	if c.JSON {
		return c.PrintJSON(t)
	}
	c.Pairs([][2]string{{"address", t.Address}, {"id", t.ID}, {"state", words.Of(t.State)}, {"copies", joinList(t.Copies)}})
	fmt.Fprintln(c.Out)
	var rows [][]string
	for _, s := range t.Steps {
		when, took := "", ""
		if s.At != nil {
			when = s.At.Local().Format("01-02 15:04:05.000")
		}
		if s.At != nil && s.Began != nil {
			took = s.At.Sub(*s.Began).Round(time.Millisecond).String()
		}
		why := s.Reason
		if s.Detail != "" {
			why = strings.TrimPrefix(why+": "+s.Detail, ": ")
		}
		rows = append(rows, []string{when, words.Of(s.Event), s.Who, took, term.OneLine(why, 80)})
	}
	c.Table(c.Out, []string{"when", "event", "who", "after", "why"}, rows, "after")
	return nil
}
