// Command ferry is the client of Steady Ferry: a verb, an address, flags.
package main

import (
	"context"
	"os"
	"os/signal"
	"syscall"

	"steadyferry/cmd/ferry/enter"
	"steadyferry/cmd/ferry/messages"
	"steadyferry/cmd/ferry/nodes"
	"steadyferry/cmd/ferry/oncall"
	"steadyferry/cmd/ferry/people"
	"steadyferry/cmd/ferry/setup"
	"steadyferry/cmd/ferry/term"
)

// verbs in the order of the help.
var verbs = []term.Verb{
	newVerb.With(own), listVerb.With(own), showVerb.With(own), setVerb.With(own), removeVerb.With(own), endpointVerb.With(own), setup.Declare, setup.Diff, setup.Apply, setup.Check, messages.Send, messages.Browse, messages.Tail, messages.Read, messages.Lease, messages.Settle, messages.Work, deadVerb.With(own), replayVerb.With(own), discardVerb.With(own), traceVerb.With(own), messages.Export, lagVerb.With(own), oncall.Watches, oncall.Incidents, oncall.Timetable, oncall.Report, seekVerb.With(own), messages.Load, statusVerb.With(own), nodes.Nodes, nodes.Move, oncall.Logbook, people.Access, enter.SignIn,
}

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	os.Exit(term.Run(ctx, verbs, os.Args[1:], os.Stdin, os.Stdout, os.Stderr))
}

// call is one run of a verb of this package.
type call struct{ *term.Call }

type verb = term.VerbOf[*call]

func own(c *term.Call) *call { return &call{c} }
