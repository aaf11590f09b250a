package main

import (
	"context"
	"flag"
	"fmt"
	"io"
	"maps"
	"net/http"
	"net/url"
	"slices"

	"steadyferry/client"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/words"
)

var newVerb = verb{
	name: "new", args: "space|topic|queue|group ADDRESS", summary: "Make a space, a topic, a queue or a group",
	details: "    ferry new space coldchain\n    ferry new topic coldchain/readings -partitions 6 -retain 72h -retain-bytes 10GiB\n    ferry new queue coldchain/inspections -lease 30s -attempts 5 -backoff 1s..5m\n    ferry new group coldchain/readings@compliance -from first",
	define: func(fs *flag.FlagSet) func(*call) error {
		given := settingFlags(fs)
		from := fs.String("from", "first", "the `position` at which a group begins")
		return func(c *call) error {
			if len(c.args) != 2 {
				return wrongUsage("what to make and its address are expected, such as: ferry new topic coldchain/readings")
			}
			kind := c.args[0]
			c.args = c.args[1:]
			ctx, cancel := c.withTimeout()
			defer cancel()
			switch kind {
			case "group":
				return c.newGroup(ctx, *from, given)
			case "space":
				a, err := c.oneAddress()
				if err != nil {
					return err
				}
				if a.Kind() != address.KindSpace {
					return wrongUsage("%s is the address of a %s", a, a.Kind())
				}
				s, err := ask[client.Space](c, http.MethodPost, "/spaces", nil, given.with("space", a.Space))
				if err != nil {
					return err
				}
				if c.json {
					return c.printJSON(s)
				}
				fmt.Fprintf(c.out, "made space %s\nnext: ferry new topic %s/NAME\n", s.Space, s.Space)
				return nil
			case "queue":
				return c.newQueue(ctx, given)
			case "topic":
				a, err := c.oneChannel()
				if err != nil {
					return err
				}
				t, err := ask[client.Topic](c, http.MethodPost, "/channels", nil, client.NewChannel{Address: a.String(), Kind: kind, Settings: client.Settings(given)})
				if err != nil {
					return err
				}
				if c.json {
					return c.printJSON(t)
				}
				fmt.Fprintf(c.out, "made topic %s with %s, each on %s; it keeps %s or %s a partition, %s at most\n", t.Address, words.Many(t.Partitions, "partition"), words.Many(t.Replicas, "node"), t.Retain, size(t.RetainBytes), size(t.RetainBytes*int64(t.Partitions)))
				switch {
				case t.Replicas == 2:
					fmt.Fprintln(c.out, "2 replicas keep two copies, but both are needed for writing: the loss of either node ends it")
				case t.Replicas%2 == 0:
					fmt.Fprintf(c.out, "%s survive the loss of as many nodes as %d do\n", words.Many(t.Replicas, "replica"), t.Replicas-1)
				case t.Replicas > 1:
					fmt.Fprintf(c.out, "%d of them may be lost without an end to writing\n", (t.Replicas-1)/2)
				}
				fmt.Fprintf(c.out, "next: ferry send %s -body 'hello'\n", t.Address)
				return nil
			}
			return wrongUsage("%q cannot be made; allowed: space, topic, queue, group", kind)
		}
	},
}

func (c *call) newQueue(ctx context.Context, given givenSettings) error {
	a, err := c.oneChannel()
	if err != nil {
		return err
	}
	t, err := ask[client.Topic](c, http.MethodPost, "/channels", nil, client.NewChannel{Address: a.String(), Kind: "queue", Settings: client.Settings(given)})
	if err != nil {
		return err
	}
	if c.json {
		return c.printJSON(t)
	}
	q := t.Queue
	fmt.Fprintf(c.out, "made queue %s with %s, each on %s: leases of %s, %s with %s between them; dead letters stay for %s in %s/dead\nnext: ferry send %s -body 'hello', then ferry lease %s\n",
		t.Address, words.Many(t.Partitions, "partition"), words.Many(t.Replicas, "node"), q.Lease, words.Many(q.AttemptLimit, "attempt"), q.Backoff, q.RetainDead, t.Address, t.Address, t.Address)
	return nil
}

var setVerb = verb{
	name: "set", args: "ADDRESS", summary: "Change the settings of a space, a topic, a queue or a group",
	details: "What would lose data is shown first, and done with -yes.",
	define: func(fs *flag.FlagSet) func(*call) error {
		given := settingFlags(fs)
		yes := fs.Bool("yes", false, "do it, also when it cannot be taken back")
		return func(c *call) error {
			a, err := c.oneAddress()
			if err != nil {
				return err
			}
			ctx, cancel := c.withTimeout()
			defer cancel()
			if a.Kind() == address.KindGroup {
				return c.setGroup(ctx, a, given)
			}
			if a.Kind() == address.KindSpace {
				s, err := ask[client.Space](c, http.MethodPatch, "/spaces/"+url.PathEscape(a.Space), nil, given)
				if err != nil {
					return err
				}
				if c.json {
					return c.printJSON(s)
				}
				fmt.Fprintf(c.out, "set %s\n", a)
				return nil
			}
			if a, err = c.oneChannel(); err != nil {
				return err
			}
			p, err := ask[client.Preview](c, http.MethodPatch, client.ChannelPath(a), url.Values{"preview": {"true"}}, given)
			if err != nil {
				return err
			}
			if len(p.After) == 0 {
				if c.json {
					return c.printJSON(p)
				}
				fmt.Fprintf(c.out, "%s is set so already\n", a)
				return nil
			}
			if *yes || !p.Careful {
				if err := c.api.Call(ctx, http.MethodPatch, client.ChannelPath(a), nil, given, &p); err != nil {
					return err
				}
			}
			return c.printPreview(p)
		}
	},
}

// settingText prints a value as JSON has it, with whole numbers in full.
func settingText(v any) string {
	if f, ok := v.(float64); ok {
		return count(int64(f))
	}
	return fmt.Sprint(v)
}

// previewed prints what a change would do or has done, or returns why it does not.
func (c *call) previewed(p client.Preview, err error) error {
	if err != nil {
		return err
	}
	return c.printPreview(p)
}

func (c *call) printPreview(p client.Preview) error {
	if c.json {
		return c.printJSON(p)
	}
	var changes [][2]string
	for _, name := range slices.Sorted(maps.Keys(p.After)) {
		changes = append(changes, [2]string{name, settingText(p.Before[name]) + " -> " + settingText(p.After[name])})
	}
	c.pairs(changes)
	for _, e := range p.Effects {
		fmt.Fprintln(c.out, "-", e)
	}
	if p.Done && p.Job > 0 {
		fmt.Fprintf(c.out, "job %d has begun; ferry nodes jobs -every 1s shows how far it is, ferry nodes cancel %d takes it back\n", p.Job, p.Job)
	} else if p.Done {
		fmt.Fprintln(c.out, "done")
	} else {
		fmt.Fprintln(c.out, "nothing is changed yet: add -yes to do it")
	}
	return nil
}

var removeVerb = verb{
	name: "remove", args: "ADDRESS", summary: "Remove a topic, a group or an empty space, or bring a removed topic back",
	details: "Without -yes it only shows what would happen. A removed topic can be brought back with -undo until it is deleted.",
	define: func(fs *flag.FlagSet) func(*call) error {
		yes := fs.Bool("yes", false, "do it")
		undo := fs.Bool("undo", false, "bring back what was removed under the address")
		return func(c *call) error {
			a, err := c.oneAddress()
			if err != nil {
				return err
			}
			ctx, cancel := c.withTimeout()
			defer cancel()
			if a.Kind() == address.KindSpace && !*undo {
				var s client.Space
				path := "/spaces/" + url.PathEscape(a.Space)
				if err := c.api.Call(ctx, http.MethodGet, path, nil, nil, &s); err != nil {
					return err
				}
				p := client.Preview{Address: a.String(), Effects: []string{fmt.Sprintf("space %s with %s goes; a space with channels is refused", a, words.Many(s.Channels, "channel"))}}
				if *yes {
					if err := c.api.Call(ctx, http.MethodDelete, path, nil, nil, nil); err != nil {
						return err
					}
					p.Done = true
				}
				return c.printPreview(p)
			}
			if a.Kind() == address.KindGroup && !*undo {
				return c.previewed(ask[client.Preview](c, http.MethodDelete, client.GroupPath(a), url.Values{"preview": {fmt.Sprint(!*yes)}}, nil))
			}
			if a, err = c.oneChannel(); err != nil {
				return err
			}
			if *undo {
				t, err := ask[client.Topic](c, http.MethodPost, client.ChannelPath(a)+"/restore", nil, nil)
				if err != nil {
					return err
				}
				if c.json {
					return c.printJSON(t)
				}
				fmt.Fprintf(c.out, "%s is back with %s (%s)\n", a, words.Many(t.Messages, "message"), size(t.Bytes))
				return nil
			}
			return c.previewed(ask[client.Preview](c, http.MethodDelete, client.ChannelPath(a), url.Values{"preview": {fmt.Sprint(!*yes)}}, nil))
		}
	},
}

var listVerb = verb{
	name: "list", args: "[SPACE]", summary: "List spaces and their channels, with what they keep and their rates",
	define: func(fs *flag.FlagSet) func(*call) error {
		every := everyFlag(fs)
		return func(c *call) error {
			space := ""
			if len(c.args) > 0 {
				a, err := c.oneAddress()
				if err != nil {
					return err
				}
				if a.Kind() != address.KindSpace {
					return wrongUsage("%s is the address of a %s; a space is expected. ferry show %s tells about one channel", a, a.Kind(), a)
				}
				space = a.Space
			}
			return c.repeat(*every, func(out io.Writer) error { return c.list(out, space) })
		}
	},
}

// all reads every page of a list.
func all[T any](c *call, path string, query url.Values) ([]T, error) {
	ctx, cancel := c.withTimeout()
	defer cancel()
	items := []T{}
	for {
		var p client.Page[T]
		if err := c.api.Call(ctx, http.MethodGet, path, query, nil, &p); err != nil {
			return nil, err
		}
		items = append(items, p.Items...)
		if p.Next == "" {
			return items, nil
		}
		query.Set("cursor", p.Next)
	}
}

func (c *call) list(out io.Writer, space string) error {
	query := url.Values{}
	if space != "" {
		query.Set("space", space)
	}
	topics, err := all[client.Topic](c, "/channels", query)
	if err != nil {
		return err
	}
	if c.json {
		for _, t := range topics {
			if err := c.printJSON(t); err != nil {
				return err
			}
		}
		return nil
	}
	spaces, err := all[client.Space](c, "/spaces", url.Values{})
	if err != nil {
		return err
	}
	var rows [][]string
	now := now()
	for _, s := range spaces {
		if space != "" && s.Space != space {
			continue
		}
		rows = append(rows, []string{s.Space, "space", "", "", count(s.Messages), size(s.Bytes), "", "", "", oneLine(s.Description, 40)})
		for _, t := range topics {
			if t.Space == s.Space {
				rows = append(rows, []string{t.Address, t.Kind, c.mark(t.State), fmt.Sprint(t.Partitions), count(t.Messages), size(t.Bytes), age(t.Oldest, now),
					perSecond(t.Rates.MessagesIn), perSecond(t.Rates.MessagesOut), oneLine(t.Description, 40)})
			}
		}
	}
	if len(rows) == 0 {
		fmt.Fprintln(out, "there are no spaces yet; make the first one with: ferry new space NAME")
		return nil
	}
	c.table(out, []string{"address", "kind", "state", "partitions", "kept", "on disk", "oldest", "in", "out", "description"}, rows, "partitions", "kept", "on disk", "oldest", "in", "out")
	return nil
}

var logbookVerb = verb{
	name: "logbook", args: "", summary: "Show who did what, newest first",
	define: func(fs *flag.FlagSet) func(*call) error {
		limit := fs.Int("limit", 50, "show at most this `many` entries")
		return func(c *call) error {
			p, err := ask[client.Page[client.LogbookEntry]](c, http.MethodGet, "/logbook", url.Values{"limit": {fmt.Sprint(*limit)}}, nil)
			if err != nil {
				return err
			}
			_, err = list(c, c.out, p.Items, tableOf[client.LogbookEntry]{headings: []string{"time", "who", "action", "address", "what changed"},
				row: func(e client.LogbookEntry) []string {
					if e.Times > 1 {
						e.Action += fmt.Sprintf(", %d times", e.Times)
					}
					return []string{e.At.Local().Format("2006-01-02 15:04:05"), e.Who, e.Action, e.Address, oneLine(e.Change, 100)}
				}})
			return err
		}
	},
}
