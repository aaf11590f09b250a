// Package messages has the verbs of ferry that send, read and work on messages.
package messages

import "steadyferry/cmd/ferry/term"

// call is one run of a verb of this package.
type call struct{ *term.Call }

type verb = term.VerbOf[*call]

func own(c *term.Call) *call { return &call{c} }

// The verbs.
var (
	Send   = sendVerb.With(own)
	Browse = browseVerb.With(own)
	Tail   = tailVerb.With(own)
	Read   = readVerb.With(own)
	Lease  = leaseVerb.With(own)
	Settle = settleVerb.With(own)
	Work   = workVerb.With(own)
	Export = exportVerb.With(own)
	Load   = loadVerb.With(own)
)
