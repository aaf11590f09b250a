package main

import (
	"flag"
	"fmt"
	"io"
	"maps"
	"net/http"
	"net/url"
	"os"
	"slices"
	"strings"
	"time"

	"steadyferry/client"
	"steadyferry/cmd/ferry/oncall"
	"steadyferry/cmd/ferry/term"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/words"
)

// secretFlags reads secrets of endpoints: each from a file, so that none is seen on a
// command line, or kept in its history.
type secretFlags map[string]string

// secretNames are the flags of secrets, with how the service calls each.
var secretNames = []struct{ flag, name, help string }{
	{"secret-from", "signing", "of an endpoint: `FILE` with the secret by which deliveries are signed; the one before stays valid beside it"},
	{"bearer-from", "bearer", "of an endpoint: `FILE` with a bearer token"},
	{"password-from", "password", "of an endpoint: `FILE` with the password of a database"},
	{"token-from", "token", "of an endpoint: `FILE` with a token of another Steady Ferry"},
	{"certificate-from", "certificate", "of an endpoint: PEM `FILE` with a certificate and its key, by which this side shows who it is"},
	{"authority-from", "authority", "of an endpoint: PEM `FILE` with the certificates of those who vouch for the other side; unless set, those of the system"},
}

func secretFlag(fs *flag.FlagSet) secretFlags {
	given := secretFlags{}
	for _, s := range secretNames {
		fs.Func(s.flag, s.help, func(path string) error {
			b, err := os.ReadFile(path)
			if err != nil {
				return err
			}
			if given[s.name] = strings.TrimSpace(string(b)); given[s.name] == "" {
				return fmt.Errorf("%s is empty", path)
			}
			return nil
		})
	}
	fs.Func("forget", "of an endpoint: take the secrets with these `NAMES` away, with commas: signing, oldSigning, bearer, password, token, certificate, authority", func(text string) error {
		for name := range strings.SplitSeq(text, ",") {
			given[strings.TrimSpace(name)] = ""
		}
		return nil
	})
	return given
}

// beside is settings with the secrets that are given.
func beside(g term.Given, s secretFlags) term.Given {
	if len(s) == 0 {
		return g
	}
	return g.With("secrets", map[string]string(s))
}

func endpointPath(a address.Address) string {
	return "/endpoints/" + url.PathEscape(a.Space) + "/" + url.PathEscape(a.Channel)
}

// kindAt is what has an address like that of a channel: endpoint, watch, chore, or a channel if it
// is not known.
func (c *call) kindAt(a address.Address) string {
	f, err := term.Ask[client.Found](c.Call, http.MethodGet, "/lookup", url.Values{"address": {a.String()}}, nil)
	if a.Kind() != address.KindChannel || err != nil || !f.Exists {
		return string(address.KindChannel)
	}
	return f.Kind
}

// pathOf is that of what has an address like that of a channel.
func (c *call) pathOf(a address.Address) string {
	switch c.kindAt(a) {
	case "endpoint":
		return endpointPath(a)
	case "watch":
		return oncall.WatchPath(a)
	case "chore":
		return oncall.ChorePath(a)
	}
	return client.ChannelPath(a)
}

func (c *call) newEndpoint(given term.Given, secrets secretFlags) error {
	a, err := c.OneChannel()
	if err != nil {
		return err
	}
	e, err := term.Ask[client.Endpoint](c.Call, http.MethodPost, "/endpoints", nil, beside(given, secrets).With("address", a.String()))
	if err != nil {
		return err
	}
	if c.JSON {
		return c.PrintJSON(e)
	}
	fmt.Fprintf(c.Out, "created endpoint %s: %s\nnext: ferry endpoint try %s, then ferry new route SPACE/CHANNEL@NAME -to %s\n", e.Address, e.URL, e.Address, e.Address)
	return nil
}

func (c *call) showEndpoint(out io.Writer, a address.Address) error {
	e, err := term.Ask[client.Endpoint](c.Call, http.MethodGet, endpointPath(a), nil, nil)
	if err != nil {
		return err
	}
	if c.JSON {
		return c.PrintJSON(e)
	}
	now := term.Now()
	pairs := [][2]string{{"endpoint", e.Address}, {"state", c.MarkAs(e.State, e.Verdict)}, {"kind", e.Kind}, {"goes to", e.URL}, {"description", e.Description}, {"declared", declaredText(e.Declared)},
		{"secrets", term.First(strings.Join(e.Secrets, ", "), "none")}, {"routes", term.First(strings.Join(e.Routes, ", "), "none; ferry new route SPACE/CHANNEL@NAME -to "+e.Address+" makes one")},
		{"delivered", fmt.Sprintf("%s, %s failed, %s refused, since the nodes began", words.Many(e.Delivered, "message"), term.Count(e.Failed), term.Count(e.Refused))}}
	if e.FailingSince != nil {
		pairs = append(pairs, [2]string{"failing since", e.FailingSince.Local().Format("2006-01-02 15:04:05")})
	}
	if e.LastGood != nil {
		pairs = append(pairs, [2]string{"last good", term.Age(e.LastGood, now) + " ago"})
	}
	if e.CertificateEnds != nil {
		pairs = append(pairs, [2]string{"certificate ends", e.CertificateEnds.Local().Format("2006-01-02 15:04:05")})
	}
	for _, name := range slices.Sorted(maps.Keys(e.Settings)) {
		if name != "url" && name != "paused" && name != "description" {
			pairs = append(pairs, [2]string{name, term.SettingText(e.Settings[name])})
		}
	}
	c.Pairs(pairs)
	if len(e.Answers) > 0 {
		fmt.Fprintln(out, "\nlast answers:")
		for _, one := range e.Answers[:min(len(e.Answers), 5)] {
			fmt.Fprintf(out, "  %s  %s\n", one.At.Local().Format("15:04:05"), c.MarkAs(one.Verdict, term.OneLine(one.Says, 120)))
		}
	}
	return c.events(out, a, fewEvents)
}

// How many events are shown beside other things, and alone.
const (
	fewEvents  = 8
	mostEvents = 1000
)

// events prints what happened to an endpoint or a route.
func (c *call) events(out io.Writer, a address.Address, limit int) error {
	p, err := term.Ask[client.Page[client.HappenedAt]](c.Call, http.MethodGet, "/events", url.Values{"address": {a.String()}, "limit": {fmt.Sprint(limit)}}, nil)
	if c.JSON && err == nil {
		return term.PrintEach(c.Call, p.Items)
	}
	if err != nil || len(p.Items) == 0 {
		return err
	}
	fmt.Fprintln(out, "\nwhat happened:")
	for _, e := range p.Items {
		fmt.Fprintf(out, "  %s  %s: %s\n", e.At.Local().Format("2006-01-02 15:04:05"), words.Of(e.Event), term.OneLine(e.Detail, 140))
	}
	return nil
}

// tryWait is how long a trial may take; the service ends it sooner.
const tryWait = 40 * time.Second

var endpointVerb = verb{
	Name: "endpoint", Args: "try|table ADDRESS", Summary: "Try a place outside, or make the table that one writes to",
	Details: `    ferry endpoint try coldchain/clinic-hook     send one message that says that it is a trial, and show the answer
    ferry endpoint table coldchain/archive       the statements that make the table, as far as it is not there
    ferry endpoint table coldchain/archive -yes  carry them out

A trial goes past all that waits. After a good answer, an endpoint that was failing is tried with what waits at once.
The types of columns are those that the last messages have which routes would bring.`,
	Define: func(fs *flag.FlagSet) func(*call) error {
		yes := fs.Bool("yes", false, "of a table: make it")
		return func(c *call) error {
			if len(c.Args) == 0 {
				return term.WrongUsage("what to do is expected, such as: ferry endpoint try coldchain/clinic-hook")
			}
			what := c.Args[0]
			c.Args = c.Args[1:]
			a, err := c.OneChannel()
			if err != nil {
				return err
			}
			switch what {
			case "try":
				return c.tryEndpoint(a)
			case "table":
				return c.makeTable(a, *yes)
			}
			return term.WrongUsage("%q is not something that ferry endpoint does; allowed: try, table", what)
		}
	},
}

func (c *call) tryEndpoint(a address.Address) error {
	answer, err := term.AskWithin[client.EndpointAnswer](c.Call, tryWait, http.MethodPost, endpointPath(a)+"/trials", nil, nil)
	if err != nil {
		return err
	}
	if c.JSON {
		return c.PrintJSON(answer)
	}
	fmt.Fprintf(c.Out, "%s answered: %s\n", a, answer.Says)
	if answer.Verdict != "done" {
		return fmt.Errorf("%s does not take deliveries as it should", a)
	}
	return nil
}

func (c *call) makeTable(a address.Address, yes bool) error {
	t, err := term.AskWithin[client.TableStatements](c.Call, tryWait, http.MethodPost, endpointPath(a)+"/table", term.Preview(!yes), nil)
	if err != nil {
		return err
	}
	if c.JSON {
		return c.PrintJSON(t)
	}
	if len(t.Statements) == 0 {
		fmt.Fprintf(c.Out, "the table of %s is there, with all its columns\n", a)
		return nil
	}
	for _, s := range t.Statements {
		fmt.Fprintln(c.Out, s+";")
	}
	if t.Done {
		fmt.Fprintln(c.Out, "done")
	} else {
		fmt.Fprintln(c.Out, "nothing is changed yet: add -yes to do it, or have somebody do it who may")
	}
	return nil
}
