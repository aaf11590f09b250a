package main

import (
	"context"
	"flag"
	"fmt"
	"io"
	"maps"
	"net/http"
	"net/url"
	"strings"

	"steadyferry/client"
	"steadyferry/cmd/ferry/oncall"
	"steadyferry/cmd/ferry/term"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/words"
)

var newVerb = verb{
	Name: "new", Args: "space|topic|queue|group|route|endpoint|watch|chore ADDRESS", Summary: "Make a space, a topic, a queue, a group, a route, an endpoint, a watch or a chore",
	Details: "    ferry new space coldchain\n    ferry new topic coldchain/readings -partitions 6 -retain 72h -retain-bytes 10GiB\n    ferry new queue coldchain/inspections -lease 1m -attempt-limit 4 -backoff 2s..10m\n    ferry new group coldchain/readings@compliance -from first\n    ferry new route coldchain/readings@warm -to coldchain/inspections -where 'body.celsius > 8.0' -try ago:1h\n    ferry new route coldchain/readings@warm -to coldchain/inspections -where 'body.celsius > 8.0'\n    ferry new watch coldchain/dead-inspections -of coldchain/inspections -value dead -warn 5 -alarm 10 -try ago:30d\n    ferry new watch coldchain/dead-inspections -of coldchain/inspections -value dead -warn 5 -alarm 10\n    ferry new chore coldchain/nightly-return -at '0 3 * * *' -zone Europe/Lisbon -do return -of coldchain/inspections -rate 50/s",
	Define: func(fs *flag.FlagSet) func(*call) error {
		given := settingFlags(fs)
		from := new(string)
		term.PositionFlag(fs, from, "from", "", "of a group or a route: `POSITION` at which it starts; unless set, first for a group and end for a route")
		try := tryFlag(fs)
		yes := fs.Bool("yes", false, "of a chore that loses something or moves offsets: make it")
		secrets := secretFlag(fs)
		return func(c *call) error {
			if len(c.Args) != 2 {
				return term.WrongUsage("what to create and its address are expected, such as: ferry new topic coldchain/readings")
			}
			kind := c.Args[0]
			c.Args = c.Args[1:]
			if *try != "" {
				switch kind {
				case "route":
					return c.tryRoute(*try, given)
				case "watch", "chore":
				default:
					return term.WrongUsage("-try is for routes, watches and chores")
				}
			}
			ctx, cancel := c.Short()
			defer cancel()
			switch kind {
			case "group", "route":
				return c.newGroup(ctx, kind, *from, given)
			case "space":
				a, err := c.OneAddress()
				if err != nil {
					return err
				}
				if a.Kind() != address.KindSpace {
					return term.WrongUsage("%s is the address of a %s", a, a.Kind())
				}
				s, err := term.Ask[client.Space](c.Call, http.MethodPost, "/spaces", nil, given.With("space", a.Space))
				if err != nil {
					return err
				}
				if c.JSON {
					return c.PrintJSON(s)
				}
				fmt.Fprintf(c.Out, "created space %s\nnext: ferry new topic %s/NAME\n", s.Space, s.Space)
				return nil
			case "endpoint":
				return c.newEndpoint(given, secrets)
			case "watch":
				return oncall.NewWatch(c.Call, given, *try)
			case "chore":
				return oncall.NewChore(c.Call, given, *try, *yes)
			case "queue":
				return c.newQueue(ctx, given)
			case "topic":
				a, err := c.OneChannel()
				if err != nil {
					return err
				}
				t, err := term.Ask[client.Channel](c.Call, http.MethodPost, "/channels", nil, client.NewChannel{Address: a.String(), Kind: kind, Settings: client.Settings(given)})
				if err != nil {
					return err
				}
				if c.JSON {
					return c.PrintJSON(t)
				}
				fmt.Fprintf(c.Out, "created topic %s with %s; it keeps %s or %s a partition, %s at most\n", t.Address, partitionsText(t), t.Retain, term.Size(t.RetainBytes), term.Size(t.RetainBytes*int64(t.Partitions)))
				switch {
				case t.Replicas == 2:
					fmt.Fprintln(c.Out, "2 replicas keep two copies, but both are needed for writing: the loss of either node ends it")
				case t.Replicas%2 == 0:
					fmt.Fprintf(c.Out, "%s survive the loss of as many nodes as %d do\n", words.Many(t.Replicas, "replica"), t.Replicas-1)
				case t.Replicas > 1:
					fmt.Fprintf(c.Out, "%d of them may be lost without an end to writing\n", (t.Replicas-1)/2)
				}
				fmt.Fprintf(c.Out, "next: ferry send %s -body 'hello'\n", t.Address)
				return nil
			}
			return term.WrongUsage("%q cannot be created; allowed: space, topic, queue, group, route, endpoint, watch, chore", kind)
		}
	},
}

// partitionsText tells how many partitions a channel has, and on how many nodes.
func partitionsText(t client.Channel) string {
	if t.Partitions == 1 {
		return "1 partition on " + words.Many(t.Replicas, "node")
	}
	return words.Many(t.Partitions, "partition") + ", each on " + words.Many(t.Replicas, "node")
}

func (c *call) newQueue(ctx context.Context, given term.Given) error {
	a, err := c.OneChannel()
	if err != nil {
		return err
	}
	t, err := term.Ask[client.Channel](c.Call, http.MethodPost, "/channels", nil, client.NewChannel{Address: a.String(), Kind: "queue", Settings: client.Settings(given)})
	if err != nil {
		return err
	}
	if c.JSON {
		return c.PrintJSON(t)
	}
	q := t.Queue
	fmt.Fprintf(c.Out, "created queue %s with %s: leases of %s, %s with %s between them; dead letters stay for %s in %s/dead\nnext: ferry send %s -body 'hello', then ferry lease %s\n",
		t.Address, partitionsText(t), q.Lease, words.Many(q.AttemptLimit, "attempt"), q.Backoff, q.RetainDead, t.Address, t.Address, t.Address)
	return nil
}

var setVerb = verb{
	Name: "set", Args: "ADDRESS", Summary: "Change the settings of a space, a topic, a queue, a group, a route, an endpoint, a watch or a chore",
	Details: "What loses data, brings a loss nearer, or moves replicas or keys is shown first, and done with -yes.\n\n    ferry set coldchain/readings -retain 72h -description 'What every box measures'\n    ferry set coldchain/inspections -attempt-limit 4",
	Define: func(fs *flag.FlagSet) func(*call) error {
		given := settingFlags(fs)
		yes := fs.Bool("yes", false, "do it, also what is shown first otherwise")
		try := tryFlag(fs)
		secrets := secretFlag(fs)
		return func(c *call) error {
			a, err := c.OneAddress()
			if err != nil {
				return err
			}
			if *try != "" && a.Kind() == address.KindChannel {
				return oncall.TryWatch(c.Call, given, *try)
			}
			if *try != "" {
				return c.tryRoute(*try, given)
			}
			path := "/spaces/" + url.PathEscape(a.Space)
			switch a.Kind() {
			case address.KindSpace:
			case address.KindGroup:
				path = client.GroupPath(a)
			default:
				if a, err = c.OneChannel(); err != nil {
					return err
				}
				path = c.pathOf(a)
			}
			given := beside(given, secrets)
			p, err := term.Ask[client.Preview](c.Call, http.MethodPatch, path, term.Preview(true), given)
			if err == nil && len(p.After) > 0 && (*yes || !p.Careful) {
				p, err = term.Ask[client.Preview](c.Call, http.MethodPatch, path, nil, given)
			}
			if err == nil && len(p.After) == 0 && !c.JSON {
				fmt.Fprintf(c.Out, "%s is set so already\n", a)
				return nil
			}
			return c.Previewed(p, err)
		}
	},
}

var removeVerb = verb{
	Name: "remove", Args: "ADDRESS", Summary: "Remove a channel, a group, a route, an endpoint, a watch, a chore or an empty space, or bring a removed channel back",
	Details: "Without -yes it only shows what would happen. A removed topic can be brought back with -undo until it is deleted.",
	Define: func(fs *flag.FlagSet) func(*call) error {
		yes := fs.Bool("yes", false, "do it")
		undo := fs.Bool("undo", false, "bring back what was removed under the address")
		return func(c *call) error {
			a, err := c.OneAddress()
			if err != nil {
				return err
			}
			ctx, cancel := c.Short()
			defer cancel()
			if a.Kind() == address.KindSpace && !*undo {
				var s client.Space
				path := "/spaces/" + url.PathEscape(a.Space)
				if err := c.API.Call(ctx, http.MethodGet, path, nil, nil, &s); err != nil {
					return err
				}
				p := client.Preview{Address: a.String(), Effects: []string{fmt.Sprintf("space %s with %s goes; a space with channels is refused", a, words.Many(s.Channels, "channel"))}}
				if *yes {
					if err := c.API.Call(ctx, http.MethodDelete, path, nil, nil, nil); err != nil {
						return err
					}
					p.Done = true
				}
				return c.PrintPreview(p)
			}
			if a.Kind() == address.KindGroup && !*undo {
				return c.Previewed(term.Ask[client.Preview](c.Call, http.MethodDelete, client.GroupPath(a), term.Preview(!*yes), nil))
			}
			if a, err = c.OneChannel(); err != nil {
				return err
			}
			if *undo {
				t, err := term.Ask[client.Channel](c.Call, http.MethodPost, client.ChannelPath(a)+"/restore", nil, nil)
				if err != nil {
					return err
				}
				if c.JSON {
					return c.PrintJSON(t)
				}
				fmt.Fprintf(c.Out, "%s is back with %s (%s)\n", a, words.Many(t.Messages, "message"), term.Size(t.Bytes))
				return nil
			}
			return c.Previewed(term.Ask[client.Preview](c.Call, http.MethodDelete, c.pathOf(a), term.Preview(!*yes), nil))
		}
	},
}

var listVerb = verb{
	Name: "list", Args: "[SPACE]", Summary: "List spaces and their channels, with what they keep and their rates",
	Define: func(fs *flag.FlagSet) func(*call) error {
		every := term.EveryFlag(fs)
		return func(c *call) error {
			space := ""
			if len(c.Args) > 0 {
				a, err := c.OneAddress()
				if err != nil {
					return err
				}
				if a.Kind() != address.KindSpace {
					return term.WrongUsage("%s is the address of a %s; a space is expected. ferry show %s tells about one channel", a, a.Kind(), a)
				}
				space = a.Space
			}
			return c.Repeat(*every, func(out io.Writer) error { return c.list(out, space) })
		}
	},
}

// all reads every page of a list.
func all[T any](c *call, path string, query url.Values) ([]T, error) {
	ctx, cancel := c.Short()
	defer cancel()
	items := []T{}
	for {
		var p client.Page[T]
		if err := c.API.Call(ctx, http.MethodGet, path, query, nil, &p); err != nil {
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
	outside, err := all[client.Endpoint](c, "/endpoints", maps.Clone(query))
	if err != nil {
		return err
	}
	topics, err := all[client.Channel](c, "/channels", query)
	if err != nil {
		return err
	}
	if c.JSON {
		if err := term.PrintEach(c.Call, topics); err != nil {
			return err
		}
		return term.PrintEach(c.Call, outside)
	}
	spaces, err := all[client.Space](c, "/spaces", url.Values{})
	if err != nil {
		return err
	}
	var rows [][]string
	now := term.Now()
	for _, s := range spaces {
		if space != "" && s.Space != space {
			continue
		}
		rows = append(rows, []string{s.Space, "space", "", "", "", term.Count(s.Messages), term.Size(s.Bytes), "", "", term.OneLine(s.Description, 40)})
		for _, t := range topics {
			if t.Space == s.Space {
				rows = append(rows, []string{t.Address, t.Kind, c.Mark(t.State), term.PerSecond(t.Rates.MessagesIn), term.PerSecond(t.Rates.MessagesOut),
					term.Count(t.Messages), term.Size(t.Bytes), term.Age(t.Oldest, now), fmt.Sprint(t.Partitions), term.OneLine(t.Description, 40)})
			}
		}
		for _, e := range outside {
			if strings.HasPrefix(e.Address, s.Space+"/") {
				rows = append(rows, []string{e.Address, "endpoint", c.Mark(e.State), "", "", "", "", "", "", term.OneLine(term.First(e.Description, e.URL), 40)})
			}
		}
	}
	if len(rows) == 0 {
		fmt.Fprintln(out, "there are no spaces yet; create the first one with: ferry new space NAME")
		return nil
	}
	c.Table(out, []string{"channel", "kind", "state", "in", "out", "kept", "on disk", "oldest", "partitions", "description"}, rows, "in", "out", "kept", "on disk", "oldest", "partitions")
	return nil
}
