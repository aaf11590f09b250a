// Package term is what all verbs of ferry share: flags and how they are told of, the
// call of a verb, how the service is asked, and what is printed on a terminal or for
// machines.
package term

import (
	"context"
	"crypto/tls"
	"errors"
	"flag"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"steadyferry/client"
)

// Verb is one thing that ferry can do.
type Verb struct {
	Name    string
	Args    string // after the verb, for the help
	Summary string // one line
	Details string // more, for the help of the verb
	// Define adds the verb's flags and returns what runs it.
	Define func(fs *flag.FlagSet) func(c *Call) error
}

// VerbOf is a verb that is run by calls of a type C, which have a Call.
type VerbOf[C any] struct {
	Name, Args, Summary, Details string
	Define                       func(fs *flag.FlagSet) func(c C) error
}

// With makes it a verb, given how a Call becomes a C.
func (v VerbOf[C]) With(wrap func(c *Call) C) Verb {
	return Verb{v.Name, v.Args, v.Summary, v.Details, func(fs *flag.FlagSet) func(*Call) error {
		run := v.Define(fs)
		return func(c *Call) error { return run(wrap(c)) }
	}}
}

// Call is one run of a verb.
type Call struct {
	Ctx  context.Context
	API  *client.Client
	Args []string // without flags

	Servers []string // that are asked, as URLs

	JSON bool
	Set  map[string]bool // names of the flags that were given
	In   io.Reader
	Raw  io.Writer // out, for what is no text
	Out  io.Writer
	Err  io.Writer
}

// usageError is wrong usage, which ends with status 2.
type usageError struct{ error }

// exitStatus ends a verb well, with a status that says something.
type exitStatus int

func (e exitStatus) Error() string { return fmt.Sprintf("status %d", int(e)) }

// ExitWith is what a verb returns that ends with a status of its own.
func ExitWith(status int) error { return exitStatus(status) }

// Usage makes an error one of wrong usage.
func Usage(err error) error { return &usageError{err} }

// WrongUsage is an error of wrong usage.
func WrongUsage(format string, args ...any) error { return &usageError{fmt.Errorf(format, args...)} }

// Run does what the arguments say with one of the verbs: 0 done, 1 refused or failed, 2 wrong
// usage.
func Run(ctx context.Context, verbs []Verb, args []string, in io.Reader, out, errOut io.Writer) int {
	raw := out
	out, errOut = &screen{to: out}, &screen{to: errOut}
	if len(args) == 0 || args[0] == "help" || args[0] == "-h" || args[0] == "-help" || args[0] == "--help" {
		return help(verbs, args, out, errOut)
	}
	v := find(verbs, args[0])
	if v == nil {
		fmt.Fprintf(errOut, "ferry: there is no verb %q; ferry help lists them\n", args[0])
		return 2
	}
	c := &Call{Ctx: ctx, In: in, Raw: raw, Out: out, Err: errOut, Set: map[string]bool{}}
	err := c.start(v, args[1:])
	var usage *usageError
	var exit exitStatus
	switch {
	case errors.As(err, &exit):
		return int(exit)
	case err == nil, errors.Is(err, ErrDone):
		return 0
	case errors.Is(err, flag.ErrHelp):
		return help(verbs, []string{"help", v.Name}, out, errOut)
	case errors.As(err, &usage):
		fmt.Fprintf(errOut, "ferry %s: %v\nferry help %s tells how to use it\n", v.Name, err, v.Name)
		return 2
	case ctx.Err() != nil && errors.Is(err, context.Canceled):
		return 1
	case errors.Is(err, client.ErrUnreachable):
		fmt.Fprintf(errOut, "ferry: %v; is ferryd running, and does FERRY_SERVER or -server name it?\n", err)
		return 1
	}
	var p *client.Problem
	if errors.As(err, &p) && p.Status == 401 {
		fmt.Fprintln(errOut, "ferry: not let in; ferry sign-in asks a browser, or set FERRY_TOKEN or -token to a token in force, such as that in owner.token of the data directory; a certificate (-cert) lets in whom a rule of the service names for it")
		return 1
	}
	fmt.Fprintln(errOut, "ferry:", err)
	return 1
}

// Now is the time that ages are counted to; tests set it.
var Now = time.Now

// ErrDone ends a verb early and well.
var ErrDone = errors.New("done")

func find(verbs []Verb, name string) *Verb {
	for i := range verbs {
		if verbs[i].Name == name {
			return &verbs[i]
		}
	}
	return nil
}

// common are the flags of every verb.
type common struct {
	server, token, ca, cert string
	json                    bool
}

func (v *Verb) flags() (*flag.FlagSet, *common, func(*Call) error) {
	fs := flag.NewFlagSet("ferry "+v.Name, flag.ContinueOnError)
	fs.SetOutput(io.Discard)
	var o common
	run := v.Define(fs)
	fs.StringVar(&o.server, "server", "", "`ADDRESSES` of the service, separated by commas (FERRY_SERVER; without it 127.0.0.1:14720)")
	fs.StringVar(&o.token, "token", "", "`TOKEN` to get in with (FERRY_TOKEN; without it the session of ferry sign-in)")
	fs.StringVar(&o.ca, "ca", "", "`FILE` with authorities, in PEM, of which certificates of servers are, besides those of this machine (FERRY_CA)")
	fs.StringVar(&o.cert, "cert", "", "`FILE` with a certificate in PEM, and its key, to get in with where no token is given (FERRY_CERT)")
	fs.BoolVar(&o.json, "json", false, "print JSON, for machines")
	return fs, &o, run
}

// start parses flags, which may stand before, between and after the other
// arguments, and runs the verb.
func (c *Call) start(v *Verb, args []string) error {
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
			c.Args = append(c.Args, fs.Args()...)
			break
		}
		c.Args = append(c.Args, fs.Arg(0))
		args = fs.Args()[1:]
	}
	fs.Visit(func(f *flag.Flag) { c.Set[f.Name] = true })
	c.JSON = o.json
	servers, token := First(o.server, os.Getenv("FERRY_SERVER"), "127.0.0.1:14720"), First(o.token, os.Getenv("FERRY_TOKEN"))
	var err error
	ca, cert := First(o.ca, os.Getenv("FERRY_CA")), First(o.cert, os.Getenv("FERRY_CERT"))
	if c.API, err = connect(servers, token, ca, cert); err != nil {
		return err
	}
	c.Servers = c.API.Servers()
	if token == "" && cert == "" {
		if token, err = keptSession(c.Servers); err != nil {
			return err
		}
		if c.API, err = connect(servers, token, ca, cert); err != nil {
			return err
		}
	}
	c.API.Program = "ferry"
	waited := false
	c.API.Waiting = func(err error, _ time.Duration) {
		if !waited {
			fmt.Fprintf(c.Err, "ferry: waiting: %v\n", err)
			waited = true
		}
	}
	err = run(c)
	if err == nil && !c.JSON && c.API.Part() {
		fmt.Fprintln(c.Err, "only what you may see is shown")
	}
	return err
}

// connect returns a client of servers, of which those with certificates of the authorities in a
// file are trusted too.
func connect(servers, token, ca, cert string) (*client.Client, error) {
	api, err := client.New(servers, token)
	if err != nil {
		return nil, &usageError{err}
	}
	if cert != "" {
		pair, err := tls.LoadX509KeyPair(cert, cert)
		if err != nil {
			return nil, &usageError{fmt.Errorf("-cert %s: %w", cert, err)}
		}
		api.Present(pair)
	}
	if ca == "" {
		return api, nil
	}
	b, err := os.ReadFile(ca)
	if err == nil {
		err = api.Trust(b)
	}
	if err != nil {
		return nil, &usageError{fmt.Errorf("-ca %s: %w", ca, err)}
	}
	return api, nil
}

func First(texts ...string) string {
	for _, t := range texts {
		if t != "" {
			return t
		}
	}
	return ""
}

func help(verbs []Verb, args []string, out, errOut io.Writer) int {
	if len(args) > 1 && args[1] == "-markdown" {
		markdown(verbs, out)
		return 0
	}
	if len(args) > 1 {
		v := find(verbs, args[1])
		if v == nil {
			fmt.Fprintf(errOut, "ferry: there is no verb %q; ferry help lists them\n", args[1])
			return 2
		}
		fs, _, _ := v.flags()
		fmt.Fprintf(out, "ferry %s %s\n\n%s\n", v.Name, v.Args, v.Summary)
		if v.Details != "" {
			fmt.Fprintf(out, "\n%s\n", v.Details)
		}
		fmt.Fprintln(out, "\nFlags, before or after the address:")
		fs.SetOutput(out)
		fs.PrintDefaults()
		return 0
	}
	fmt.Fprint(out, "ferry VERB [ADDRESS] [flags]\n\n")
	for _, v := range verbs {
		fmt.Fprintf(out, "  %-8s %s\n", v.Name, v.Summary)
	}
	fmt.Fprint(out, `
Addresses: coldchain, coldchain/readings, coldchain/readings#3, coldchain/readings#3:1200, coldchain/readings@compliance, coldchain/inspections/dead
Positions: first, last, offset:1200, time:2026-11-23T08:00:00Z, ago:90m, group:compliance

ferry help VERB tells the flags of a verb.
`)
	return 0
}

// markdown writes docs/commands.md.
func markdown(verbs []Verb, out io.Writer) {
	fmt.Fprint(out, "# Commands\n\nMade from the flags by `ferry help -markdown`. `ferry VERB [ADDRESS] [flags]`; flags stand before or after the address.\nStatus 0 is done, 1 refused or failed, 2 wrong usage, 3 a difference (`ferry diff`). Colour is used on a terminal only, and never with `NO_COLOR`.\n\nEvery verb takes `-server` (or `FERRY_SERVER`), `-token` (or `FERRY_TOKEN`), `-ca` (or `FERRY_CA`), `-cert` (or `FERRY_CERT`) and `-json`.\n")
	for _, v := range verbs {
		fmt.Fprintf(out, "\n## ferry %s\n\n    ferry %s %s\n\n%s.\n", v.Name, v.Name, v.Args, strings.TrimSuffix(v.Summary, "."))
		if v.Details != "" {
			fmt.Fprintf(out, "\n%s\n", v.Details)
		}
		fs := flag.NewFlagSet("", flag.ContinueOnError)
		v.Define(fs)
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
			// A number that stands for "not given" is no value to show.
			unset := f.DefValue == "0" && strings.Contains(usage, "without it")
			if f.DefValue != "" && f.DefValue != "false" && !unset {
				fallback = "`" + f.DefValue + "`"
			}
			fmt.Fprintf(out, "| %s | %s | %s |\n", text, strings.ReplaceAll(usage, "|", "\\|"), fallback)
		})
	}
}
