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
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/words"
)

var replayVerb = verb{
	name: "replay", args: "FROM -to ADDRESS | list | show N | pause N | resume N | stop N", summary: "Send messages again, at a rate that their consumer can bear",
	details: "FROM is a topic, a queue's dead letters (QUEUE/dead) or those of a group (TOPIC@GROUP/dead). -to is a queue, a topic, or TOPIC@GROUP: that group alone gets them. A replay is a job of the service: it goes on when this command ends. -dry-run tells what it would do.\n\n" +
		"    ferry replay coldchain/readings -to coldchain/inspections -from ago:1h -where 'body.celsius > 8' -rate 200/s -dry-run\n    ferry replay coldchain/inspections/dead -to coldchain/inspections -cause 5f1c02aa -edit 'rename /temp=/celsius' -rate 50/s\n    ferry replay show 3 -every 1s\n    ferry replay resume 3 -rate 20/s",
	define: func(fs *flag.FlagSet) func(*call) error {
		var r client.NewReplay
		var edits editsValue
		var stopAbove string
		fs.StringVar(&r.To, "to", "", "the `address` to which they are sent")
		fs.StringVar(&r.FromPosition, "from", "", "of a topic: from this `position` (first)")
		fs.StringVar(&r.ToPosition, "to-position", "", "of a topic: up to this `position` (last)")
		fs.StringVar(&r.Where, "where", "", "only those that fulfil this `condition`")
		fs.StringVar(&r.Cause, "cause", "", "of dead letters: only those of this cause, by its `id`")
		fs.Int64Var(&r.Limit, "limit", 0, "at most this `many`")
		fs.Var(rateValue{&r.Rate}, "rate", "so `many` a second, such as 200/s (200/s)")
		fs.Var(&edits, "edit", editHelp)
		fs.StringVar(&stopAbove, "stop-above", "20%", "stop when more than this `share` of those sent fail again; 100% never stops")
		fs.BoolVar(&r.Keep, "keep", false, "dead letters that are sent elsewhere stay dead letters too")
		fs.BoolVar(&r.DryRun, "dry-run", false, "only tell what it would do")
		every := everyFlag(fs)
		return func(c *call) error {
			if len(c.args) == 0 {
				return wrongUsage("what to replay is expected, or list, show N, pause N, resume N, stop N")
			}
			switch c.args[0] {
			case "list":
				return c.repeat(*every, c.listReplays)
			case "show", "pause", "resume", "stop":
				return c.oneReplay(*every, r.Rate)
			}
			if _, err := c.oneAddress(); err != nil {
				return err
			}
			if r.To == "" {
				return wrongUsage("-to is missing: where to send them")
			}
			share, err := strconv.ParseFloat(strings.TrimSuffix(stopAbove, "%"), 64)
			if err != nil || share < 0 || share > 100 {
				return wrongUsage("-stop-above %q: a share such as 20%% is expected", stopAbove)
			}
			share /= 100
			r.StopAbove, r.From, r.Edits = &share, c.args[0], edits
			if r.Rate == 0 {
				r.Rate = 200
			}
			return c.beginReplay(r)
		}
	},
}

// beginReplay begins a replay, or tells what it would do.
func (c *call) beginReplay(r client.NewReplay) error {
	out, err := askWithin[client.Replay](c, 5*time.Minute, http.MethodPost, "/replays", nil, r)
	if err != nil {
		return err
	}
	if c.json {
		return c.printJSON(out)
	}
	if out.Plan == nil {
		fmt.Fprintf(c.out, "replay %d has begun: %s from %s to %s at %s, until about %s\nnext: ferry replay show %d -every 1s\n", out.Replay, words.Many(out.Total, "message"), out.From, out.To, perSecond(out.Rate), clock(out.EndsAt), out.Replay)
		return nil
	}
	p := out.Plan
	if p.Messages == 0 {
		fmt.Fprintf(c.out, "nothing in %s fits: there is nothing to replay\n", r.From)
		return nil
	}
	var parts []string
	for _, part := range p.Partitions {
		parts = append(parts, fmt.Sprintf("#%d: %s", part.Partition, count(part.Messages)))
	}
	c.pairs([][2]string{
		{"would send", fmt.Sprintf("%s from %s to %s", words.Many(p.Messages, "message"), out.From, out.To)}, {"partitions", joinList(parts)},
		{"stored", fmt.Sprintf("%s to %s", p.Oldest.Local().Format(time.DateTime), p.Newest.Local().Format(time.DateTime))},
		{"takes", fmt.Sprintf("%s at %s", address.FormatDuration(time.Duration(p.Seconds*float64(time.Second)).Round(time.Second)), perSecond(out.Rate))},
	})
	for _, e := range p.Effects {
		fmt.Fprintln(c.out, "-", e)
	}
	c.samples(p.Samples)
	fmt.Fprintln(c.out, "nothing is sent yet")
	return nil
}

func clock(t *time.Time) string {
	if t == nil {
		return "–"
	}
	return t.Local().Format("15:04:05")
}

func (c *call) listReplays(out io.Writer) error {
	p, err := ask[client.Page[client.Replay]](c, http.MethodGet, "/replays", nil, nil)
	if err != nil {
		return err
	}
	_, err = list(c, out, p.Items, tableOf[client.Replay]{none: "there were no replays yet; ferry help replay tells how to begin one",
		headings: []string{"replay", "state", "from", "to", "sent", "rate", "failed again", "ends", "by", "detail"}, right: []string{"replay", "sent", "rate", "failed again", "ends"},
		row: func(r client.Replay) []string {
			return []string{fmt.Sprint(r.Replay), c.mark(r.State), r.From, r.To, count(r.Sent) + " of " + count(r.Total), perSecond(r.Rate), count(r.Failed), clock(first2(r.EndedAt, r.EndsAt)), r.Who, oneLine(r.Detail, 50)}
		}})
	return err
}

func first2(a, b *time.Time) *time.Time {
	if a != nil {
		return a
	}
	return b
}

// oneReplay shows a replay, or pauses, resumes or stops it.
func (c *call) oneReplay(every time.Duration, rate float64) error {
	if len(c.args) != 2 {
		return wrongUsage("the number of a replay is expected: ferry replay %s N", c.args[0])
	}
	if _, err := strconv.ParseInt(c.args[1], 10, 64); err != nil {
		return wrongUsage("%q is not the number of a replay; ferry replay list shows them", c.args[1])
	}
	path := "/replays/" + c.args[1]
	if c.args[0] == "show" {
		return c.repeat(every, func(out io.Writer) error {
			r, err := ask[client.Replay](c, http.MethodGet, path, nil, nil)
			if err != nil {
				return err
			}
			return c.printReplay(out, r)
		})
	}
	change := client.ReplayChange{State: map[string]string{"pause": "paused", "resume": "running", "stop": "cancelled"}[c.args[0]]}
	if rate > 0 {
		change.Rate = &rate
	}
	r, err := ask[client.Replay](c, http.MethodPatch, path, nil, change)
	if err != nil {
		return err
	}
	return c.printReplay(c.out, r)
}

func (c *call) printReplay(out io.Writer, r client.Replay) error {
	if c.json {
		return c.printJSON(r)
	}
	to := *c
	to.out = out
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
		skipped = count(r.Skipped) + ": the edits do not apply to them, or they were settled meanwhile"
	}
	to.pairs([][2]string{
		{"replay", fmt.Sprint(r.Replay)}, {"state", c.mark(r.State)}, {"detail", r.Detail}, {"from", r.From}, {"to", r.To}, {"those with", chosen}, {"edits", joinList(edits)},
		{"sent", fmt.Sprintf("%s of %s (%.0f%%)", count(r.Sent), count(r.Total), done)}, {"skipped", skipped}, {"failed again", count(r.Failed)}, {"rate", perSecond(r.Rate)},
		{"begun", r.MadeAt.Local().Format(time.DateTime) + " by " + r.Who}, {"ends", clock(first2(r.EndedAt, r.EndsAt))},
	})
	return nil
}

var traceVerb = verb{
	name: "trace", args: "ID|ADDRESS", summary: "Tell the story of one message: attempts, failures, edits, returns, replays",
	details: "    ferry trace coldchain/inspections#0:1203\n    ferry trace 0192f0c1-77aa-7c3e-9d41-0a4f2a7d9c11",
	define: func(*flag.FlagSet) func(*call) error {
		return func(c *call) error {
			if len(c.args) != 1 {
				return wrongUsage("an id or an address is expected")
			}
			a, err := address.Parse(c.args[0])
			if err == nil && a.Kind() == address.KindMessage {
				t, err := ask[client.Trace](c, http.MethodGet, fmt.Sprintf("%s/trace/%d/%d", client.QueuePath(a), a.Partition, a.Offset), nil, nil)
				if err != nil {
					return err
				}
				return c.printTrace(t)
			}
			if strings.ContainsAny(c.args[0], "/#") {
				return wrongUsage("%q is not the address of a message, such as coldchain/inspections#0:1203", c.args[0])
			}
			p, err := ask[client.Page[client.Trace]](c, http.MethodGet, "/trace", map[string][]string{"id": {c.args[0]}}, nil)
			if err != nil {
				return err
			}
			for i, t := range p.Items {
				if i > 0 && !c.json {
					fmt.Fprintln(c.out)
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
	if c.json {
		return c.printJSON(t)
	}
	c.pairs([][2]string{{"address", t.Address}, {"id", t.ID}, {"state", t.State}, {"copies", joinList(t.Copies)}})
	fmt.Fprintln(c.out)
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
		rows = append(rows, []string{when, s.What, s.Who, took, oneLine(why, 80)})
	}
	c.table(c.out, []string{"when", "what", "who", "after", "why"}, rows, "after")
	return nil
}
