// Package nodes has the verbs of ferry that are about nodes, and where replicas are.
package nodes

import "steadyferry/cmd/ferry/term"

// call is one run of a verb of this package.
type call struct{ *term.Call }

type verb = term.VerbOf[*call]

func own(c *term.Call) *call { return &call{c} }

// The verbs.
var (
	Nodes = nodesVerb.With(own)
	Move  = moveVerb.With(own)
)
