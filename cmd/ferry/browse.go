package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"os"
	"time"

	"golang.org/x/term"

	"steadyferry/client"
	"steadyferry/internal/core/address"
)

type selectionFlags struct {
	from, to, where string
	limit           int
	partitions      []int
}

func (f *selectionFlags) define(fs *flag.FlagSet, from string) {
	fs.StringVar(&f.from, "from", from, "`position` to begin at: first, last, offset:N, time:T, ago:D")
	fs.StringVar(&f.where, "where", "", "`condition` that messages must fulfil, such as 'body.celsius > 8'")
	fs.Var(listValue{&f.partitions}, "partition", "`numbers` of the partitions, with commas (default all)")
}

// selection reads the address and checks the positions.
func (f *selectionFlags) selection(c *call) (address.Address, client.Query, error) {
	q := client.Query{From: f.from, To: f.to, Where: f.where, Limit: f.limit, Partitions: f.partitions}
	a, err := c.oneAddress()
	if err != nil {
		return a, q, err
	}
	switch a.Kind() {
	case address.KindPartition:
		q.Partitions = []int{a.Partition}
	case address.KindMessage:
		q.Partitions = []int{a.Partition}
		q.From = fmt.Sprintf("offset:%d", a.Offset)
	case address.KindChannel:
	default:
		return a, q, wrongUsage("%s is the address of a %s; a channel is expected", a, a.Kind())
	}
	for _, p := range []string{q.From, q.To} {
		if p == "" {
			continue
		}
		if _, err := address.ParsePosition(p); err != nil {
			return a, q, &usageError{err}
		}
	}
	return a.ChannelPart(), q, nil
}

var browseVerb = verb{
	name: "browse", args: "ADDRESS", summary: "Look through messages that are kept",
	details: "    ferry browse coldchain/readings -from ago:90m -where 'body.celsius > 8' -limit 20\n    ferry browse coldchain/readings -newest -limit 10",
	define: func(fs *flag.FlagSet) func(*call) error {
		var f selectionFlags
		f.define(fs, "first")
		fs.StringVar(&f.to, "to", "last", "`position` to end at")
		fs.IntVar(&f.limit, "limit", 100, "stop after this `many` messages")
		newest := fs.Bool("newest", false, "the most recent ones, newest first")
		return func(c *call) error {
			a, q, err := f.selection(c)
			if err != nil {
				return err
			}
			if *newest {
				q.Take, q.Order = "recent", "newest"
			}
			return c.browse(a, q)
		}
	},
}

func (c *call) browse(a address.Address, q client.Query) error {
	started := time.Now()
	lines := c.messageLines()
	var last client.Progress
	_, showProgress := c.terminal()
	if f, ok := c.err.(*os.File); !ok || !term.IsTerminal(int(f.Fd())) {
		showProgress = false
	}
	err := c.api.Browse(c.ctx, a, q, func(e client.Event) error {
		switch {
		case e.Message != nil:
			return lines.print(e.Message)
		case e.Damage != nil:
			fmt.Fprintf(c.err, "ferry: offsets %d to %d from %s on are damaged on disk and left out\n", e.Damage.From, e.Damage.To-1, e.Damage.Address)
		case e.Progress != nil:
			last = *e.Progress
			if showProgress {
				fmt.Fprintf(c.err, "\r\x1b[Klooked at %s of %s", count(last.LookedAt), count(last.Total))
			}
		}
		return nil
	})
	if showProgress {
		fmt.Fprint(c.err, "\r\x1b[K")
	}
	if err != nil {
		return err
	}
	if !c.json {
		fmt.Fprintf(c.err, "found %s, looked at %s of %s messages in %s\n", count(last.Found), count(last.LookedAt), count(last.Total), time.Since(started).Round(time.Millisecond))
	}
	return nil
}

// messageLines prints messages, one a line.
type messageLines struct {
	call  *call
	width int
}

func (c *call) messageLines() *messageLines {
	width, ok := c.terminal()
	if !ok {
		width = 160
	}
	return &messageLines{call: c, width: width}
}

func (l *messageLines) print(m *client.Message) error {
	if l.call.json {
		return l.call.printJSON(m)
	}
	_, err := io.WriteString(l.call.out, l.line(m))
	return err
}

// line fits the terminal: place, time, key, and of the body what is left.
func (l *messageLines) line(m *client.Message) string {
	place := fmt.Sprintf("#%d:%d", m.Partition, m.Offset)
	head := fmt.Sprintf("%-12s %s  %-12s  ", place, m.Time.Local().Format("15:04:05.000"), oneLine(m.Key, 24))
	body := string(m.Bytes())
	if m.BodyBase64 != "" {
		body = fmt.Sprintf("(%s bytes)", count(int64(m.Size)))
	}
	return head + oneLine(body, max(l.width-len([]rune(head)), 20)) + "\n"
}

var tailVerb = verb{
	name: "tail", args: "ADDRESS", summary: "Watch messages as they arrive",
	details: "A connection that breaks is made again and goes on at the same place.",
	define: func(fs *flag.FlagSet) func(*call) error {
		var f selectionFlags
		f.define(fs, "last")
		fs.IntVar(&f.limit, "limit", 0, "end after this `many` messages")
		return func(c *call) error {
			a, q, err := f.selection(c)
			if err != nil {
				return err
			}
			limit := q.Limit
			q.Limit = 0
			lines := c.messageLines()
			seen := 0
			err = c.api.Tail(c.ctx, a, q, func(e client.Event) error {
				switch {
				case e.Message != nil:
					if err := lines.print(e.Message); err != nil {
						return err
					}
					if seen++; limit > 0 && seen >= limit {
						return errDone
					}
				case e.LeftOut != nil:
					fmt.Fprintf(c.err, "ferry: %s messages left out: this reader is too slow\n", count(e.LeftOut.Messages))
				case e.Damage != nil:
					fmt.Fprintf(c.err, "ferry: offsets %d to %d from %s on are damaged on disk and left out\n", e.Damage.From, e.Damage.To-1, e.Damage.Address)
				}
				return nil
			}, c.waiting)
			if errors.Is(err, context.Canceled) {
				return errDone
			}
			return err
		}
	},
}
