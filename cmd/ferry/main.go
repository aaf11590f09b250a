// Command ferry is the client of Steady Ferry: a verb, an address, flags.
package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"os"
	"os/signal"
	"strings"
	"syscall"
	"time"

	"steadyferry/client"
)

// verb is one thing that ferry can do.
type verb struct {
	name    string
	args    string // after the verb, for the help
	summary string // one line
	details string // more, for the help of the verb
	// define adds the verb's flags and returns what runs it.
	define func(fs *flag.FlagSet) func(c *call) error
}

// verbs in the order of the help.
var verbs = []verb{newVerb, listVerb, showVerb, setVerb, removeVerb, sendVerb, browseVerb, tailVerb, readVerb, leaseVerb, settleVerb, workVerb, deadVerb, replayVerb, discardVerb, traceVerb, exportVerb, lagVerb, seekVerb, loadVerb, statusVerb, nodesVerb, moveVerb, logbookVerb, accessVerb}

// call is one run of a verb.
type call struct {
	ctx  context.Context
	api  *client.Client
	args []string // without flags
	json bool
	set  map[string]bool // names of the flags that were given
	in   io.Reader
	raw  io.Writer // out, for what is no text
	out  io.Writer
	err  io.Writer
}

// usageError is wrong usage, which ends with status 2.
type usageError struct{ error }

func wrongUsage(format string, args ...any) error { return &usageError{fmt.Errorf(format, args...)} }

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	os.Exit(run(ctx, os.Args[1:], os.Stdin, os.Stdout, os.Stderr))
}

// run does what the arguments say: 0 done, 1 refused or failed, 2 wrong
// usage.
func run(ctx context.Context, args []string, in io.Reader, out, errOut io.Writer) int {
	raw := out
	out, errOut = &screen{to: out}, &screen{to: errOut}
	if len(args) == 0 || args[0] == "help" || args[0] == "-h" || args[0] == "-help" || args[0] == "--help" {
		return help(args, out, errOut)
	}
	v := find(args[0])
	if v == nil {
		fmt.Fprintf(errOut, "ferry: there is no verb %q; ferry help lists them\n", args[0])
		return 2
	}
	c := &call{ctx: ctx, in: in, raw: raw, out: out, err: errOut, set: map[string]bool{}}
	err := c.start(v, args[1:])
	var usage *usageError
	switch {
	case err == nil, errors.Is(err, errDone):
		return 0
	case errors.Is(err, flag.ErrHelp):
		return help([]string{"help", v.name}, out, errOut)
	case errors.As(err, &usage):
		fmt.Fprintf(errOut, "ferry %s: %v\nferry help %s tells how to use it\n", v.name, err, v.name)
		return 2
	case ctx.Err() != nil && errors.Is(err, context.Canceled):
		return 1
	case errors.Is(err, client.ErrUnreachable):
		fmt.Fprintf(errOut, "ferry: %v; is ferryd running, and does FERRY_SERVER or -server name it?\n", err)
		return 1
	}
	var p *client.Problem
	if errors.As(err, &p) && p.Status == 401 {
		fmt.Fprintln(errOut, "ferry: not let in; set FERRY_TOKEN or -token to a token in force, such as that in owner.token of the data directory")
		return 1
	}
	fmt.Fprintln(errOut, "ferry:", err)
	return 1
}

// now is the time that ages are counted to; tests set it.
var now = time.Now

// errDone ends a verb early and well.
var errDone = errors.New("done")

func find(name string) *verb {
	for i := range verbs {
		if verbs[i].name == name {
			return &verbs[i]
		}
	}
	return nil
}

// common are the flags of every verb.
type common struct {
	server, token string
	json          bool
}

func (v *verb) flags() (*flag.FlagSet, *common, func(*call) error) {
	fs := flag.NewFlagSet("ferry "+v.name, flag.ContinueOnError)
	fs.SetOutput(io.Discard)
	var o common
	run := v.define(fs)
	fs.StringVar(&o.server, "server", "", "`addresses` of the service, separated by commas (FERRY_SERVER; default 127.0.0.1:7350)")
	fs.StringVar(&o.token, "token", "", "`token` to get in with (FERRY_TOKEN)")
	fs.BoolVar(&o.json, "json", false, "print JSON, for machines")
	return fs, &o, run
}

// start parses flags, which may stand before, between and after the other
// arguments, and runs the verb.
func (c *call) start(v *verb, args []string) error {
	fs, o, run := v.flags()
	for {
		if err := fs.Parse(args); err != nil {
			if errors.Is(err, flag.ErrHelp) {
				return err
			}
			return &usageError{err}
		}
		if fs.NArg() == 0 {
			break
		}
		// What follows a -- after the address is left as it is.
		if used := len(args) - fs.NArg(); used > 0 && args[used-1] == "--" {
			c.args = append(c.args, fs.Args()...)
			break
		}
		c.args = append(c.args, fs.Arg(0))
		args = fs.Args()[1:]
	}
	fs.Visit(func(f *flag.Flag) { c.set[f.Name] = true })
	c.json = o.json
	servers := first(o.server, os.Getenv("FERRY_SERVER"), "127.0.0.1:7350")
	var err error
	if c.api, err = client.New(servers, first(o.token, os.Getenv("FERRY_TOKEN"))); err != nil {
		return &usageError{err}
	}
	waited := false
	c.api.Waiting = func(err error, _ time.Duration) {
		if !waited {
			fmt.Fprintf(c.err, "ferry: waiting: %v\n", err)
			waited = true
		}
	}
	return run(c)
}

func first(texts ...string) string {
	for _, t := range texts {
		if t != "" {
			return t
		}
	}
	return ""
}

func help(args []string, out, errOut io.Writer) int {
	if len(args) > 1 && args[1] == "-markdown" {
		markdown(out)
		return 0
	}
	if len(args) > 1 {
		v := find(args[1])
		if v == nil {
			fmt.Fprintf(errOut, "ferry: there is no verb %q; ferry help lists them\n", args[1])
			return 2
		}
		fs, _, _ := v.flags()
		fmt.Fprintf(out, "ferry %s %s\n\n%s\n", v.name, v.args, v.summary)
		if v.details != "" {
			fmt.Fprintf(out, "\n%s\n", v.details)
		}
		fmt.Fprintln(out, "\nFlags, before or after the address:")
		fs.SetOutput(out)
		fs.PrintDefaults()
		return 0
	}
	fmt.Fprint(out, "ferry VERB [ADDRESS] [flags]\n\n")
	for _, v := range verbs {
		fmt.Fprintf(out, "  %-8s %s\n", v.name, v.summary)
	}
	fmt.Fprint(out, `
Addresses: coldchain, coldchain/readings, coldchain/readings#3, coldchain/readings#3:1200, coldchain/readings@compliance, coldchain/inspections/dead
Positions: first, last, offset:1200, time:2026-11-23T08:00:00Z, ago:90m, group:compliance

ferry help VERB tells the flags of a verb.
`)
	return 0
}

// markdown writes docs/commands.md.
func markdown(out io.Writer) {
	fmt.Fprint(out, "# Commands\n\nMade from the flags by `ferry help -markdown`. `ferry VERB [ADDRESS] [flags]`; flags stand before or after the address.\nStatus 0 is done, 1 refused or failed, 2 wrong usage. Colour is used on a terminal only, and never with `NO_COLOR`.\n\nEvery verb takes `-server` (or `FERRY_SERVER`), `-token` (or `FERRY_TOKEN`) and `-json`.\n")
	for _, v := range verbs {
		fmt.Fprintf(out, "\n## ferry %s\n\n    ferry %s %s\n\n%s.\n", v.name, v.name, v.args, strings.TrimSuffix(v.summary, "."))
		if v.details != "" {
			fmt.Fprintf(out, "\n%s\n", v.details)
		}
		fs := flag.NewFlagSet("", flag.ContinueOnError)
		v.define(fs)
		header := false
		fs.VisitAll(func(f *flag.Flag) {
			if !header {
				fmt.Fprint(out, "\n| flag | meaning | default |\n|---|---|---|\n")
				header = true
			}
			name, usage := flag.UnquoteUsage(f)
			text := "`-" + f.Name + "`"
			if name != "" {
				text = "`-" + f.Name + " " + strings.ToUpper(name) + "`"
			}
			fallback := ""
			if f.DefValue != "" && f.DefValue != "false" {
				fallback = "`" + f.DefValue + "`"
			}
			fmt.Fprintf(out, "| %s | %s | %s |\n", text, strings.ReplaceAll(usage, "|", "\\|"), fallback)
		})
	}
}
