package nodes

import (
	"cmp"
	"flag"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"steadyferry/client"
	"steadyferry/cmd/ferry/term"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/words"
)

// nodesFlags are the flags of ferry nodes and what it can do.
type nodesFlags struct {
	every       time.Duration
	without     string
	leadersOnly bool
	yes         bool
	confirm     string
	as          string
	limit       int
}

var nodesVerb = verb{
	Name: "nodes", Args: "[what-if|jobs|changes|drain|cancel|remove|spread|force-recover|set-aside|adopt|throw-away] [NODE]", Summary: "Show the nodes, what would be without some of them, and move what they hold",
	Details: `    ferry nodes                                    the nodes, what they lead and hold, and what is wrong
    ferry nodes what-if -without node-b,node-c     what a loss would mean, and what would help; nothing is touched
    ferry nodes changes                            the last changes of leaders, and why
    ferry nodes jobs                               moves that run, and the last ones that ended
    ferry nodes drain node-b                       empty a node: leaders first, then replicas
    ferry nodes cancel 7                           end a job for good
    ferry nodes remove node-b                      take a stopped, empty node out of the cluster
    ferry nodes spread off                         leave leaders where they are; on gives them back
    ferry nodes force-recover [ADDRESS]            go on without a majority, or an end of a log, that is lost for good
    ferry nodes set-aside                          logs that the catalog does not know, such as after an older catalog was restored
    ferry nodes adopt ID -as coldchain/readings    make them a channel again
    ferry nodes throw-away ID                      delete them before their time

Without -yes (force-recover: -confirm) what changes something only shows what it would do.`,
	Define: func(fs *flag.FlagSet) func(*call) error {
		var f nodesFlags
		fs.Var(term.DurationValue{D: &f.every}, "every", "show it again and again, after each `DURATION`")
		fs.StringVar(&f.without, "without", "", "`NAMES` of nodes that what-if takes away, separated by commas")
		fs.BoolVar(&f.leadersOnly, "leaders-only", false, "drain only the leaders; the replicas stay")
		fs.BoolVar(&f.yes, "yes", false, "do it")
		fs.StringVar(&f.confirm, "confirm", "", "`ADDRESS` that force-recover recovers, typed again (all, without an address)")
		fs.StringVar(&f.as, "as", "", "`ADDRESS` of the channel that adopt makes")
		fs.IntVar(&f.limit, "limit", 20, "show at most `N` jobs or changes")
		return func(c *call) error { return c.nodes(&f) }
	},
}

func (c *call) nodes(f *nodesFlags) error {
	if len(c.Args) == 0 {
		return c.Repeat(f.every, c.listNodes)
	}
	what := c.Args[0]
	c.Args = c.Args[1:]
	switch what {
	case "what-if":
		return c.whatIf(f.without)
	case "jobs":
		return c.Repeat(f.every, func(out io.Writer) error { return c.jobs(out, f.limit) })
	case "changes":
		return c.Repeat(f.every, func(out io.Writer) error { return c.leaderChanges(out, f.limit) })
	case "force-recover":
		return c.forceRecover(f.confirm)
	case "set-aside":
		return c.setAside()
	}
	if len(c.Args) != 1 {
		return term.WrongUsage("ferry nodes %s takes one name or number after it", what)
	}
	preview := term.Preview(!f.yes)
	aside := "/set-aside/" + url.PathEscape(c.Args[0])
	switch path := "/nodes/" + url.PathEscape(c.Args[0]); what {
	case "drain":
		return c.Previewed(term.Ask[client.Preview](c.Call, http.MethodPost, path+"/drain", preview, client.Drain{LeadersOnly: f.leadersOnly}))
	case "remove":
		return c.Previewed(term.Ask[client.Preview](c.Call, http.MethodDelete, path, preview, nil))
	case "adopt":
		if f.as == "" {
			return term.WrongUsage("-as is missing: the address of the channel that they become")
		}
		return c.Previewed(term.Ask[client.Preview](c.Call, http.MethodPost, aside+"/adopt", preview, client.Adopt{Address: f.as}))
	case "throw-away":
		return c.Previewed(term.Ask[client.Preview](c.Call, http.MethodDelete, aside, preview, nil))
	case "cancel":
		j, err := term.Ask[client.Job](c.Call, http.MethodPost, "/jobs/"+url.PathEscape(c.Args[0])+"/cancel", nil, nil)
		if err != nil {
			return err
		}
		if c.JSON {
			return c.PrintJSON(j)
		}
		fmt.Fprintf(c.Out, "job %d (%s of %s) is %s\n", j.Job, j.Kind, j.Address, j.State)
		return nil
	case "spread":
		if c.Args[0] != "on" && c.Args[0] != "off" {
			return term.WrongUsage("%q; allowed: on, off", c.Args[0])
		}
		return c.Previewed(term.Ask[client.Preview](c.Call, http.MethodPatch, "/nodes", preview, client.Settings{"spreadLeaders": c.Args[0] == "on"}))
	}
	return term.WrongUsage("%q is not something that ferry nodes does; allowed: what-if, jobs, changes, drain, cancel, remove, spread, force-recover, set-aside, adopt, throw-away", what)
}

// setAside lists logs that the catalog does not know.
func (c *call) setAside() error {
	p, err := term.Ask[client.Page[client.SetAside]](c.Call, http.MethodGet, "/set-aside", nil, nil)
	if err != nil {
		return err
	}
	shown, err := term.List(c.Call, c.Out, p.Items, term.TableOf[client.SetAside]{None: "nothing is set aside: the catalog knows all logs",
		Headings: []string{"id", "was", "kind", "on node", "partitions", "size", "set aside", "deleted on"}, Right: []string{"partitions", "size"},
		Row: func(a client.SetAside) []string {
			return []string{a.ID, cmp.Or(a.Address, "not known"), a.Kind, a.Node, fmt.Sprint(len(a.Partitions)), address.FormatSize(a.Bytes), a.Since.Format(time.DateTime), a.Until.Format(time.DateOnly)}
		}})
	if shown {
		fmt.Fprintln(c.Out, "they come back by themselves when the catalog knows them again; ferry nodes adopt ID -as ADDRESS makes a channel of them")
	}
	return err
}

func (c *call) cluster() (client.Cluster, error) {
	return term.Ask[client.Cluster](c.Call, http.MethodGet, "/nodes", nil, nil)
}

func (c *call) listNodes(out io.Writer) error {
	cluster, err := c.cluster()
	if err != nil {
		return err
	}
	if c.JSON {
		return term.PrintEach(c.Call, cluster.Nodes)
	}
	now := term.Now()
	var rows [][]string
	for _, n := range cluster.Nodes {
		disk, memory, in, outRate := "–", "–", "–", "–"
		since := "–"
		if n.Since != nil {
			since = term.Age(n.Since, now)
			if !n.Up {
				since += " ago"
			}
		}
		if n.Up {
			disk, memory = term.Size(n.Disk.Free)+" free", term.Size(n.MemoryBytes)
			in, outRate = term.PerSecond(n.Rates.MessagesIn), term.PerSecond(n.Rates.MessagesOut)
			if n.Disk.Full {
				disk += ", full"
			}
		}
		state := n.State
		if n.OnDuty {
			state += ", on duty"
		}
		behind := "–"
		if n.Behind > 0 {
			behind = fmt.Sprint(n.Behind)
		}
		rows = append(rows, []string{n.Node, c.MarkAs(n.State, state), n.Zone, since, fmt.Sprint(n.Leads), fmt.Sprint(n.Holds), behind, in, outRate, disk, memory, n.URL})
	}
	c.Table(out, []string{"node", "state", "zone", "up or last seen", "leads", "holds", "not in step", "in", "out", "disk", "memory", "address"}, rows, "up or last seen", "leads", "holds", "not in step", "in", "out", "disk", "memory")
	fmt.Fprintln(out)
	switch {
	case cluster.WithoutLeader > 0:
		fmt.Fprintf(out, "%s of %s take no messages: %d without a leader; %d more have replicas missing or not in step\n", c.MarkAs("no-leader", fmt.Sprint(cluster.WithoutLeader)), words.Many(cluster.Partitions, "partition"), cluster.WithoutLeader, cluster.ReplicasMissing)
	case cluster.ReplicasMissing > 0:
		fmt.Fprintf(out, "%s of %s have replicas missing or not in step; all take messages\n", c.MarkAs("replicas-missing", fmt.Sprint(cluster.ReplicasMissing)), words.Many(cluster.Partitions, "partition"))
	default:
		fmt.Fprintf(out, "%s: %s, each with a leader and all its replicas in step\n", c.MarkAs("ready", "healthy"), words.Many(cluster.Partitions, "partition"))
	}
	if !cluster.SpreadLeaders {
		fmt.Fprintln(out, "leaders stay where they are: ferry nodes spread on gives them back to the nodes that should lead")
	}
	return nil
}

func (c *call) leaderChanges(out io.Writer, limit int) error {
	p, err := term.Ask[client.Page[client.LeaderChange]](c.Call, http.MethodGet, "/nodes/changes", url.Values{"limit": {fmt.Sprint(limit)}}, nil)
	if err != nil {
		return err
	}
	_, err = term.List(c.Call, out, p.Items, term.TableOf[client.LeaderChange]{None: "no partition has changed its leader since the nodes started", Headings: []string{"time", "partition", "from", "to", "why"},
		Row: func(ch client.LeaderChange) []string {
			return []string{ch.At.Local().Format("2006-01-02 15:04:05.000"), ch.Address, term.First(ch.From, "–"), ch.To, ch.Reason}
		}})
	return err
}

func (c *call) jobs(out io.Writer, limit int) error {
	p, err := term.Ask[client.Page[client.Job]](c.Call, http.MethodGet, "/jobs", url.Values{"limit": {fmt.Sprint(limit)}}, nil)
	if err != nil {
		return err
	}
	now := term.Now()
	shown, err := term.List(c.Call, out, p.Items, term.TableOf[client.Job]{None: "there are no jobs: ferry move, ferry nodes drain and ferry set -replicas make them",
		Headings: []string{"job", "kind", "of", "state", "partitions", "began", "took", "who", "detail"}, Right: []string{"job", "took"},
		Row: func(j client.Job) []string {
			ended := now
			if j.EndedAt != nil {
				ended = *j.EndedAt
			}
			return []string{fmt.Sprint(j.Job), j.Kind, j.Address, c.Mark(j.State), fmt.Sprintf("%d of %d", j.Done, len(j.Steps)), j.CreatedAt.Local().Format("15:04:05"), term.Age(&j.CreatedAt, ended), j.Who, term.OneLine(j.Detail, 60)}
		}})
	var moving [][]string
	for _, j := range p.Items {
		for _, s := range j.Steps {
			if s.State != "moving" {
				continue
			}
			var states []string
			for _, r := range s.Replicas {
				states = append(states, r.Node+" "+term.ReplicaState(r))
			}
			moving = append(moving, []string{fmt.Sprint(j.Job), s.Address, strings.Join(s.From, " ") + " -> " + strings.Join(s.To, " "), strings.Join(states, "; ")})
		}
	}
	if shown && len(moving) > 0 {
		fmt.Fprintln(out)
		c.Table(out, []string{"job", "moving now", "nodes", "replicas"}, moving, "job")
	}
	return err
}

func (c *call) whatIf(without string) error {
	w, err := term.Ask[client.WhatIf](c.Call, http.MethodGet, "/nodes/what-if", url.Values{"without": {without}}, nil)
	if err != nil {
		return err
	}
	if c.JSON {
		return c.PrintJSON(w)
	}
	total := len(w.Partitions)
	lost := "with all nodes"
	if len(w.Without) > 0 {
		lost = "without " + strings.Join(w.Without, " and ")
	}
	fmt.Fprintf(c.Out, "%s, of %s\n", lost, words.Many(total, "partition"))
	c.Pairs([][2]string{
		{c.MarkAs("ready", "writable"), fmt.Sprint(w.Writable)},
		{c.MarkAs("no-majority", "only readable"), fmt.Sprint(w.Readable)},
		{c.MarkAs("away", "unreachable"), fmt.Sprint(w.Unreachable)},
	})
	var rows [][]string
	for _, p := range w.Partitions {
		if p.Outcome != "writable" {
			state := map[string]string{"readable": "no-majority", "unreachable": "away"}[p.Outcome]
			rows = append(rows, []string{p.Address, c.MarkAs(state, p.Outcome), strings.Join(p.Nodes, " ")})
		}
	}
	if len(rows) > 0 {
		fmt.Fprintln(c.Out)
		c.Table(c.Out, []string{"partition", "would be", "held by"}, rows)
	}
	fmt.Fprintln(c.Out)
	c.Pairs([][2]string{
		{"any one node away", goOn(w.NodeSafe, total, w.NodesShort, "node")},
		{"any one zone away", goOn(w.ZoneSafe, total, w.ZonesShort, "zone")},
	})
	if len(w.Moves) > 0 {
		fmt.Fprintln(c.Out, "\nmoves that would help:")
	}
	for _, m := range w.Moves {
		fmt.Fprintf(c.Out, "  ferry move %s -to %s -yes\n", m.Address, strings.Join(m.To, ","))
	}
	return nil
}

// goOn tells how many partitions go on taking messages, and what all of them
// need to.
func goOn(safe, total, short int, what string) string {
	text := fmt.Sprintf("%s of %s go on", term.Count(int64(safe)), words.Many(total, "partition"))
	if safe < total && short > 0 {
		text += fmt.Sprintf("; for all of them %s needed", words.Many(short, "more "+what+" is", "more "+what+"s are"))
	}
	return text
}

func (c *call) forceRecover(confirm string) error {
	body := client.ForceRecover{Confirm: confirm}
	if len(c.Args) > 0 {
		a, err := c.OneAddress()
		if err != nil {
			return err
		}
		if k := a.Kind(); k != address.KindChannel && k != address.KindPartition {
			return term.WrongUsage("%s is the address of a %s; a topic or a partition is expected", a, k)
		}
		body.Address = a.String()
	}
	r, err := term.Ask[client.Recoveries](c.Call, http.MethodPost, "/nodes/recover", term.Preview(confirm == ""), body)
	if err != nil {
		return err
	}
	if c.JSON {
		return c.PrintJSON(r)
	}
	if len(r.Items) == 0 {
		fmt.Fprintln(c.Out, "no partition has lost its majority, or its end: there is nothing to recover")
		return nil
	}
	var rows [][]string
	for _, x := range r.Items {
		known := "nothing is known"
		if x.LastWord != "" {
			known = fmt.Sprintf("%s at %s", term.Count(x.KnownEnd), x.LastWord)
		}
		rows = append(rows, []string{x.Address, x.Survivor, term.Count(x.End), strings.Join(x.Lost, " "), known, term.Count(x.MayLose)})
	}
	c.Table(c.Out, []string{"partition", "goes on from", "at offset", "without", "last known end there", "known to be lost"}, rows, "at offset", "known to be lost")
	if r.Done {
		fmt.Fprintln(c.Out, "done: they go on from these replicas, and others are made from them")
		return nil
	}
	if slices.ContainsFunc(r.Items, func(x client.Recovery) bool { return len(x.Lost) > 0 }) {
		fmt.Fprintln(c.Out, "messages that were acknowledged after the last word of the lost nodes may be lost too, and what they hold is thrown away when they come back")
	}
	if slices.ContainsFunc(r.Items, func(x client.Recovery) bool { return len(x.Lost) == 0 }) {
		fmt.Fprintln(c.Out, "where no node is lost, the end of the log is gone from the disk: new messages come behind the last known end, and the offsets between stay damaged")
	}
	fmt.Fprintf(c.Out, "nothing is changed yet: if they are lost for good, add -confirm %s\n", term.First(body.Address, "all"))
	return nil
}

var moveVerb = verb{
	Name: "move", Args: "PARTITION", Summary: "Have other nodes hold a partition; the first of them leads it",
	Details: "    ferry move coldchain/readings#3 -to node-a,node-b,node-d\n\nWithout -yes it only shows what would happen.",
	Define: func(fs *flag.FlagSet) func(*call) error {
		to := fs.String("to", "", "`NAMES` of the nodes, separated by commas")
		yes := fs.Bool("yes", false, "do it")
		return func(c *call) error {
			a, err := c.OneAddress()
			if err != nil {
				return err
			}
			if *to == "" {
				return term.WrongUsage("-to is missing: the nodes that shall hold %s", a)
			}
			p, err := term.Ask[client.Preview](c.Call, http.MethodPost, "/moves", term.Preview(!*yes), client.Move{Address: a.String(), To: strings.Split(*to, ",")})
			if err != nil {
				return err
			}
			if len(p.After) == 0 && !c.JSON {
				fmt.Fprintf(c.Out, "%s is held by these nodes already\n", a)
				return nil
			}
			return c.PrintPreview(p)
		}
	},
}
