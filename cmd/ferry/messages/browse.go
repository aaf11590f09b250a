package messages

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"net/http"
	"slices"
	"time"

	"steadyferry/client"
	"steadyferry/cmd/ferry/term"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/words"
)

type selectionFlags struct {
	from, to, where string
	limit           int
	partitions      []int
	any             bool
}

func (f *selectionFlags) define(fs *flag.FlagSet, from string) {
	term.PositionFlag(fs, &f.from, "from", from, "`POSITION` to start at: first, end, offset:N, time:T, ago:D, today, yesterday, a date, a duration")
	fs.StringVar(&f.where, "where", "", "`CONDITION` that messages must fulfil, such as 'body.celsius > 8'")
	fs.BoolVar(&f.any, "any-replica", false, "read from any replica, also while there is no leader; it may not have the newest messages")
	fs.Var(term.ListValue{Numbers: &f.partitions}, "partition", "only partitions `N`, with commas")
}

// selection reads the address and checks the positions.
func (f *selectionFlags) selection(c *call) (address.Address, client.Query, error) {
	q := client.Query{From: f.from, To: f.to, Where: f.where, Limit: f.limit, Partitions: f.partitions, Any: f.any}
	a, err := c.OneAddress()
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
		return a, q, term.WrongUsage("%s is the address of a %s; a channel is expected", a, a.Kind())
	}
	return a.ChannelPart(), q, nil
}

var browseVerb = verb{
	Name: "browse", Args: "ADDRESS", Summary: "Look through messages that are kept",
	Details: "    ferry browse coldchain/readings -from ago:90m -where 'body.celsius > 8' -limit 20\n    ferry browse coldchain/readings -newest -limit 10",
	Define: func(fs *flag.FlagSet) func(*call) error {
		var f selectionFlags
		f.define(fs, "first")
		term.PositionFlag(fs, &f.to, "to", "end", "`POSITION` to end at")
		fs.IntVar(&f.limit, "limit", 100, "stop after `N` messages")
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
	started := term.Now()
	lines := c.messageLines()
	var last client.Progress
	_, showProgress := c.Terminal()
	if _, ok := term.TerminalOf(c.Err); !ok {
		showProgress = false
	}
	err := c.API.Browse(c.Ctx, a, q, func(e client.Event) error {
		switch {
		case e.Message != nil:
			return lines.print(e.Message)
		case e.Damage != nil:
			fmt.Fprintf(c.Err, "ferry: offsets %d to %d from %s on are damaged on disk and left out\n", e.Damage.From, e.Damage.To-1, e.Damage.Address)
		case e.Progress != nil:
			last = *e.Progress
			if showProgress {
				fmt.Fprintf(c.Err, term.ClearLine+"looked at %s of %s", term.Count(last.LookedAt), term.Count(last.Total))
			}
		}
		return nil
	})
	if showProgress {
		fmt.Fprint(c.Err, term.ClearLine)
	}
	if err != nil {
		return err
	}
	if !c.JSON {
		fmt.Fprintf(c.Err, "found %s, looked at %s of %s in %s\n", term.Count(last.Found), term.Count(last.LookedAt), words.Many(last.Total, "message"), time.Since(started).Round(time.Millisecond))
	}
	if last.Unlike > 0 {
		fmt.Fprintf(c.Err, "ferry: the condition did not apply to %s: %s\n", words.Many(last.Unlike, "message"), last.Why)
	}
	if last.Full {
		fmt.Fprintln(c.Err, "ferry: that is all that one answer holds: for more, choose a shorter stretch with -from and -to, or export it")
	}
	return nil
}

// messageLines prints messages, one a line.
type messageLines struct {
	call  *call
	width int
}

func (c *call) messageLines() *messageLines {
	width, ok := c.Terminal()
	if !ok {
		width = 160
	}
	return &messageLines{call: c, width: width}
}

func (l *messageLines) print(m *client.Message) error {
	if l.call.JSON {
		return l.call.PrintJSON(m)
	}
	_, err := io.WriteString(l.call.Out, l.line(m))
	return err
}

// line fits the terminal: place, time, key, and of the body what is left.
func (l *messageLines) line(m *client.Message) string {
	place := fmt.Sprintf("#%d:%d", m.Partition, m.Offset)
	head := fmt.Sprintf("%-12s %s  %-12s  ", place, m.Time.Local().Format("15:04:05.000"), term.OneLine(m.Key, 24))
	body := string(m.Bytes())
	if m.BodyBase64 != "" {
		body = fmt.Sprintf("(%s bytes)", term.Count(int64(m.Size)))
	} else if m.Shortened {
		body = fmt.Sprintf("(the beginning of %s) %s", term.Size(int64(m.Size)), body)
	}
	return head + term.OneLine(body, max(l.width-len([]rune(head)), 20)) + "\n"
}

var tailVerb = verb{
	Name: "tail", Args: "ADDRESS", Summary: "Watch messages as they arrive",
	Details: "A connection that breaks is made again and goes on at the same place.",
	Define: func(fs *flag.FlagSet) func(*call) error {
		var f selectionFlags
		f.define(fs, "end")
		fs.IntVar(&f.limit, "limit", 0, "stop after `N` messages; without it, never")
		term.PositionFlag(fs, &f.to, "to", "", "`POSITION` to end at, an offset or a time; without it, never")
		newest := fs.Bool("newest", false, "begin with the ten most recent messages")
		return func(c *call) error {
			a, q, err := f.selection(c)
			if err != nil {
				return err
			}
			end, err := c.tailEnd(a, q)
			if err != nil {
				return err
			}
			if *newest {
				first, err := c.tenthNewest(a, q)
				if err != nil {
					return err
				}
				q.From = first
			}
			limit := q.Limit
			q.Limit, q.To = 0, ""
			if !end.at.IsZero() {
				var stop context.CancelFunc
				// A little later: what was stored before may still be on its way.
				c.Ctx, stop = context.WithDeadline(c.Ctx, end.at.Add(2*time.Second))
				defer stop()
			}
			lines := c.messageLines()
			seen := 0
			err = c.API.Tail(c.Ctx, a, q, func(e client.Event) error {
				switch {
				case e.Message != nil && end.passed(e.Message):
					if end.all() {
						return term.ErrDone
					}
				case e.Message != nil:
					if err := lines.print(e.Message); err != nil {
						return err
					}
					if seen++; limit > 0 && seen >= limit {
						return term.ErrDone
					}
				case e.LeftOut != nil:
					fmt.Fprintf(c.Err, "ferry: %s left out: this reader is too slow\n", words.Many(e.LeftOut.Messages, "message"))
				case e.Damage != nil:
					fmt.Fprintf(c.Err, "ferry: offsets %d to %d from %s on are damaged on disk and left out\n", e.Damage.From, e.Damage.To-1, e.Damage.Address)
				}
				return nil
			}, c.waiting)
			if errors.Is(err, context.Canceled) || errors.Is(err, context.DeadlineExceeded) {
				return term.ErrDone
			}
			return err
		}
	},
}

// tailEnd is where a tail ends: at an offset of each of its partitions, or at
// a time.
type tailEnd struct {
	offset int64 // -1: none
	at     time.Time
	open   map[int]bool // partitions that have not come to it
}

func (c *call) tailEnd(a address.Address, q client.Query) (*tailEnd, error) {
	end := &tailEnd{offset: -1}
	if q.To == "" {
		return end, nil
	}
	p, err := address.ParsePosition(q.To)
	if err != nil {
		return nil, term.Usage(err)
	}
	switch p.Kind {
	case address.AtTime, address.Ago:
		end.at, _ = p.TimeAt(term.Now())
	case address.AtOffset:
		end.offset = p.Offset
	default:
		return nil, term.WrongUsage("-to %s: a tail ends at offset:N or time:T; ferry browse looks through what is there", q.To)
	}
	var t client.Channel
	if err := c.API.Call(c.Ctx, http.MethodGet, client.ChannelPath(a), nil, nil, &t); err != nil {
		return nil, err
	}
	end.open = map[int]bool{}
	for _, p := range t.Each {
		if len(q.Partitions) == 0 || slices.Contains(q.Partitions, p.Partition) {
			end.open[p.Partition] = true
		}
	}
	return end, nil
}

// passed reports whether a message lies behind the end, and notes that its
// partition has come there.
func (e *tailEnd) passed(m *client.Message) bool {
	behind := e.offset >= 0 && m.Offset >= e.offset || !e.at.IsZero() && !m.Time.Before(e.at)
	if behind {
		delete(e.open, m.Partition)
	}
	return behind
}

func (e *tailEnd) all() bool { return len(e.open) == 0 }

// tenthNewest returns the time of the tenth most recent message of a
// selection, as a position.
func (c *call) tenthNewest(a address.Address, q client.Query) (string, error) {
	q.From, q.To, q.Take, q.Limit = "first", "end", "recent", 10
	first := "end"
	err := c.API.Browse(c.Ctx, a, q, func(e client.Event) error {
		if e.Message != nil && first == "end" {
			first = "time:" + e.Message.Time.Format(time.RFC3339Nano)
		}
		return nil
	})
	return first, err
}
