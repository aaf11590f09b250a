package main

import (
	"bytes"
	"encoding/hex"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"steadyferry/client"
	"steadyferry/cmd/ferry/oncall"
	"steadyferry/cmd/ferry/term"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/words"
)

var showVerb = verb{
	Name: "show", Args: "ADDRESS", Summary: "Show a space, a channel, a partition, a group, a route, an endpoint, a watch, a chore or one message whole",
	Define: func(fs *flag.FlagSet) func(*call) error {
		every := term.EveryFlag(fs)
		history := fs.Bool("history", false, "of a group: its seeks")
		events := fs.Bool("events", false, "of a route or an endpoint: all that happened to it in 30 days")
		chain := fs.Bool("chain", false, "of a channel: the routes through which messages come to it and go on from it")
		chart := fs.Bool("chart", false, "how it hangs together with others: all of a space, or what is near")
		past := fs.String("past", "", "of a channel, a group, a route or an endpoint: what was measured of it for this `DURATION`, up to 30d")
		return func(c *call) error {
			a, err := c.OneAddress()
			if err != nil {
				return err
			}
			if *past != "" {
				return c.Repeat(*every, func(out io.Writer) error { return c.past(out, a, *past) })
			}
			if *chart {
				return c.Repeat(*every, func(out io.Writer) error { return oncall.Chart(c.Call, out, a) })
			}
			if *history && a.Kind() != address.KindGroup {
				return term.WrongUsage("%s is the address of a %s; -history is of a group", a, a.Kind())
			}
			if *events {
				return c.Repeat(*every, func(out io.Writer) error { return c.events(out, a, mostEvents) })
			}
			if *chain {
				if a, err = c.OneChannel(); err != nil {
					return err
				}
				return c.Repeat(*every, func(out io.Writer) error { return c.showChain(out, a) })
			}
			switch a.Kind() {
			case address.KindGroup:
				return c.Repeat(*every, func(out io.Writer) error { return c.showGroup(out, a, *history) })
			case address.KindSpace:
				return c.Repeat(*every, func(out io.Writer) error { return c.showSpace(out, a) })
			case address.KindChannel, address.KindPartition:
				switch c.kindAt(a) {
				case "endpoint":
					return c.Repeat(*every, func(out io.Writer) error { return c.showEndpoint(out, a) })
				case "watch":
					return c.Repeat(*every, func(out io.Writer) error { return oncall.ShowWatch(c.Call, out, a) })
				case "chore":
					return c.Repeat(*every, func(out io.Writer) error { return oncall.ShowChore(c.Call, out, a) })
				}
				return c.Repeat(*every, func(out io.Writer) error { return c.showTopic(out, a) })
			case address.KindMessage:
				return c.showMessage(a)
			case address.KindDead:
				a.Dead = false
				return c.Repeat(*every, func(out io.Writer) error { return c.causes(out, a, "") })
			}
			return term.WrongUsage("%s is the address of a %s, which cannot be shown", a, a.Kind())
		}
	},
}

func (c *call) showSpace(out io.Writer, a address.Address) error {
	s, err := term.Ask[client.Space](c.Call, http.MethodGet, "/spaces/"+url.PathEscape(a.Space), nil, nil)
	if err != nil {
		return err
	}
	if c.JSON {
		return c.PrintJSON(s)
	}
	to := own(c.To(out))
	rows := [][2]string{{"space", s.Space}, {"description", s.Description}, {"labels", labels(s.Labels)}, {"declared", declaredText(s.Declared)}, {"created", s.CreatedAt.Local().Format("2006-01-02 15:04")},
		{"channels", fmt.Sprint(s.Channels)}, {"kept", term.Count(s.Messages) + " messages, " + term.Size(s.Bytes)}}
	for i, line := range term.Uses(s.Uses) {
		rows = append(rows, [2]string{[]string{"uses", ""}[min(i, 1)], line})
	}
	to.Pairs(rows)
	return nil
}

// holdText says for which groups retention waits.
func holdText(t client.Channel) string {
	if len(t.Hold) == 0 {
		return ""
	}
	return fmt.Sprintf("for %s, up to %s a partition", strings.Join(t.Hold, ", "), term.Size(t.HoldBytes))
}

func labels(l map[string]string) string {
	var parts []string
	for _, name := range slices.Sorted(maps.Keys(l)) {
		parts = append(parts, name+"="+l[name])
	}
	return strings.Join(parts, " ")
}

// declaredText says which declaration has set something, and what of it.
func declaredText(d *client.Declaration) string {
	if d == nil {
		return ""
	}
	text := "by " + strings.TrimSpace(d.Declaration+" "+d.Revision)
	if len(d.Settings) > 0 {
		text += ": " + strings.Join(d.Settings, ", ")
	}
	return text
}

func (c *call) showTopic(out io.Writer, a address.Address) error {
	t, err := term.Ask[client.Channel](c.Call, http.MethodGet, client.ChannelPath(a), nil, nil)
	if err != nil {
		return err
	}
	partitions := t.Each
	if a.Partition >= 0 {
		if a.Partition >= len(partitions) {
			return &client.Problem{Detail: fmt.Sprintf("%s has no partition %d", t.Address, a.Partition), Allowed: fmt.Sprintf("0 to %d", len(partitions)-1)}
		}
		partitions = partitions[a.Partition : a.Partition+1]
		if c.JSON {
			return c.PrintJSON(partitions[0])
		}
	}
	if c.JSON && t.Queue != nil {
		return c.PrintJSON(struct {
			client.Channel
			client.Counts
		}{t, t.Queue.Counts})
	}
	if c.JSON {
		return c.PrintJSON(t)
	}
	now := term.Now()
	to := own(c.To(out))
	if t.Queue != nil {
		if a.Partition >= 0 {
			t.Each = partitions
		}
		c.describeQueue(out, t, now)
		return nil
	}
	if a.Partition < 0 {
		to.describe(t, now)
		fmt.Fprintln(out)
	}
	var rows [][]string
	for _, p := range partitions {
		rows = append(rows, []string{fmt.Sprint(p.Partition), c.Mark(p.State), p.Leader, replicaText(p), term.Count(p.First), term.Count(p.End), term.Count(p.Messages), term.Size(p.Bytes), term.Age(p.Oldest, now),
			term.PerSecond(p.Rates.MessagesIn), term.PerSecond(p.Rates.MessagesOut)})
	}
	c.Table(out, []string{"partition", "state", "leader", "other replicas", "first", "end", "kept", "on disk", "oldest", "in", "out"}, rows, "partition", "first", "end", "kept", "on disk", "oldest", "in", "out")
	return nil
}

// replicaText describes the replicas that do not lead: those in step by their
// names, the others with what they lack.
func replicaText(p client.Partition) string {
	var inStep, others []string
	for _, r := range p.Replicas {
		switch {
		case r.Node == p.Leader:
		case r.InStep && r.State == "in-step":
			inStep = append(inStep, r.Node)
		default:
			others = append(others, r.Node+" "+term.ReplicaState(r))
		}
	}
	if len(inStep) > 0 {
		others = append([]string{"in step: " + strings.Join(inStep, " ")}, others...)
	}
	return strings.Join(others, "; ")
}

func (c *call) describe(t client.Channel, now time.Time) {
	window := "off"
	if t.IDWindow != "0s" {
		window = "within " + t.IDWindow
	}
	f := t.Forecast
	forecast := fmt.Sprintf("%s, %s on disk, reaching back %s (limited by %s)", words.Many(f.Messages, "message"), term.Size(f.Bytes), f.Span, f.LimitedBy)
	if f.MessagesPerSecond == 0 {
		forecast = "nothing came in during the last hour"
	}
	c.Pairs([][2]string{
		{"topic", t.Address}, {"state", c.Mark(t.State)}, {"description", t.Description}, {"labels", labels(t.Labels)}, {"declared", declaredText(t.Declared)},
		{"created", t.CreatedAt.Local().Format("2006-01-02 15:04")},
		{"keeps", fmt.Sprintf("%s, or %s a partition (%s in all)", t.Retain, term.Size(t.RetainBytes), term.Size(t.RetainBytes*int64(t.Partitions)))},
		{"replicas", fmt.Sprintf("%d of each partition", t.Replicas)}, {"largest body", term.Size(t.MaxBody)}, {"retention waits", holdText(t)}, {"repeated ids", window},
		{"kept now", fmt.Sprintf("%s, %s on disk, %.1f%% full", words.Many(t.Messages, "message"), term.Size(t.Bytes), 100*t.Fill)},
		{"oldest", term.Age(t.Oldest, now) + " ago"}, {"newest", term.Age(t.Newest, now) + " ago"},
		{"in", term.PerSecond(t.Rates.MessagesIn) + ", " + term.SizePerSecond(t.Rates.BytesIn)},
		{"out", term.PerSecond(t.Rates.MessagesOut) + ", " + term.SizePerSecond(t.Rates.BytesOut)},
		{"at this rate", forecast},
	})
}

func (c *call) showMessage(a address.Address) error {
	ctx, cancel := c.Short()
	defer cancel()
	var m client.Message
	if err := c.showItem(c.Out, a); a.Group != "" || !isTopic(err) {
		return err
	}
	path := fmt.Sprintf("%s/partitions/%d/messages/%d", client.ChannelPath(a), a.Partition, a.Offset)
	if err := c.API.Call(ctx, http.MethodGet, path, nil, nil, &m); err != nil {
		return err
	}
	if c.JSON {
		return c.PrintJSON(m)
	}
	c.printMessage(m)
	return nil
}

// isTopic reports whether a queue's answer was that the channel is a topic.
func isTopic(err error) bool {
	var p *client.Problem
	return errors.As(err, &p) && p.Status == http.StatusBadRequest && p.Field == "address"
}

// printMessage prints a message whole.
func (c *call) printMessage(m client.Message) {
	published := ""
	if m.PublisherTime != nil {
		published = m.PublisherTime.Local().Format(time.RFC3339Nano)
	}
	rows := [][2]string{{"address", m.Address}, {"time", m.Time.Local().Format(time.RFC3339Nano)}, {"published by", m.By}, {"publisher's", published}, {"key", m.Key}, {"id", m.ID},
		{"content type", m.ContentType}, {"size", fmt.Sprintf("%s bytes", term.Count(int64(m.Size)))}, {"masked", strings.Join(m.Masked, ", ")}}
	for _, name := range slices.Sorted(maps.Keys(m.Headers)) {
		rows = append(rows, [2]string{"header " + name, m.Headers[name]})
	}
	c.Pairs(rows)
	fmt.Fprintln(c.Out)
	body := m.Bytes()
	var pretty bytes.Buffer
	switch {
	case !m.IsText() && json.Indent(&pretty, body, "", "  ") == nil:
		fmt.Fprintln(c.Out, pretty.String())
	case utf8.Valid(body):
		fmt.Fprintln(c.Out, string(body))
	default:
		fmt.Fprint(c.Out, hex.Dump(body))
	}
}

var statusVerb = verb{
	Name: "status", Args: "", Summary: "Say what is wrong, what will go wrong and what is being done, and show the node and every channel, with rates",
	Define: func(fs *flag.FlagSet) func(*call) error {
		every := term.EveryFlag(fs)
		return func(c *call) error {
			if len(c.Args) > 0 {
				return term.WrongUsage("no address is expected; ferry show ADDRESS tells about one thing")
			}
			return c.Repeat(*every, c.status)
		}
	},
}

func (c *call) status(out io.Writer) error {
	l, err := term.Ask[client.Live](c.Call, http.MethodGet, "/status", nil, nil)
	if err != nil {
		return err
	}
	if c.JSON {
		return c.PrintJSON(l)
	}
	s := l.Status
	room := ""
	if s.Disk.Total > 0 { // else it may not be seen
		room = fmt.Sprintf("memory %s, disk %s of %s free", term.Size(s.MemoryBytes), term.Size(s.Disk.Free), term.Size(s.Disk.Total))
		if s.Disk.Full {
			room += "; publishing is refused below " + term.Size(s.Disk.Reserve)
		}
		room += ", "
	}
	fmt.Fprintf(out, "%s  %s  up %s, %scatalog %s\n", s.Node, s.At.Local().Format("15:04:05"), term.Age(&s.StartedAt, s.At), room, s.Catalog)
	if s.SetAside > 0 {
		fmt.Fprintf(out, "logs of %s were set aside, since the catalog does not know them: ferry nodes set-aside\n", words.Many(s.SetAside, "channel"))
	}
	fmt.Fprintf(out, "%s, %s, %s, %s   in %s %s   out %s %s\n", words.Many(s.Channels, "channel"), words.Many(s.Partitions, "partition"), words.Many(s.Messages, "message"), term.Size(s.Bytes),
		term.PerSecond(s.Rates.MessagesIn), term.SizePerSecond(s.Rates.BytesIn), term.PerSecond(s.Rates.MessagesOut), term.SizePerSecond(s.Rates.BytesOut))
	oncall.Outlook(c.Call, out)
	fmt.Fprintln(out)
	var rows [][]string
	for _, t := range l.Channels {
		rows = append(rows, []string{t.Address, c.Mark(t.State), term.PerSecond(t.Rates.MessagesIn), term.SizePerSecond(t.Rates.BytesIn),
			term.PerSecond(t.Rates.MessagesOut), term.SizePerSecond(t.Rates.BytesOut), term.Count(t.Messages), term.Size(t.Bytes), term.Age(t.Oldest, s.At), fmt.Sprint(t.Partitions)})
	}
	if len(rows) == 0 {
		fmt.Fprintln(out, "there are no channels yet; create the first one with: ferry new topic SPACE/NAME")
		return nil
	}
	c.Table(out, []string{"channel", "state", "in", "bytes in", "out", "bytes out", "kept", "on disk", "oldest", "partitions"}, rows,
		"in", "bytes in", "out", "bytes out", "kept", "on disk", "oldest", "partitions")
	return nil
}
