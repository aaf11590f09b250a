package gate

import (
	"cmp"
	"net"
	"net/http"

	"github.com/gin-gonic/gin"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/mask"
	"steadyferry/internal/core/problem"
	services "steadyferry/internal/service/access"
)

// Where a request has the problem that it was answered with, and what was not allowed, if that was
// it.
const (
	problemKey = "problem"
	refusedKey = "refused"
	cameKey    = "came"
)

// Came says with what somebody came who is not let in, for the logbook.
func Came(c *gin.Context, with string) { c.Set(cameKey, with) }

// NoteRefused has what is refused be noted in the logbook: who may not do something, and who comes
// with what is not in force.
func (g *Gate) NoteRefused(c *gin.Context) {
	c.Next()
	status := c.Writer.Status()
	if status != http.StatusForbidden && status != http.StatusUnauthorized {
		return
	}
	v, _ := c.Get(problemKey)
	p, ok := v.(*form.Problem)
	if !ok {
		return
	}
	if p.Type == "urn:steady-ferry:problem:"+string(problem.Second) {
		return // it is noted that it waits
	}
	if status == http.StatusUnauthorized {
		if _, text := g.brought(c); text != "" || c.Request.Method == http.MethodPost {
			g.NotLetIn(c, cmp.Or(c.GetString(cameKey), "with a token, a session or a link that is not in force"))
		}
		return
	}
	o := operation{c.Request.Method, c.FullPath()}
	r := services.Gathered{Who: services.Nobody, Action: o.method + " " + o.path, Address: pathAddress(c), Says: p.Detail}
	if a, known := access.In(c.Request.Context()); known {
		r.Who, r.Via = a.Who(), access.ViaIn(c.Request.Context())
	}
	if v, ok := c.Get(refusedKey); ok {
		refused := v.(*access.RefusedError)
		r.Action, r.Address = refused.Verb.String(), refused.At
	}
	g.Node.Access.NoteRefusal(r)
}

// NoteRead has it be noted that somebody has seen what is in messages, where an operation shows
// that (x-shows in the document) and was not refused.
func (g *Gate) NoteRead(c *gin.Context) {
	c.Next()
	if c.Writer.Status() == http.StatusOK && g.needs[operation{c.Request.Method, c.FullPath()}].shows {
		g.Shows(c, pathAddress(c))
	}
}

// Shows has it be noted that somebody sees what is in messages at an address, if they may.
func (g *Gate) Shows(c *gin.Context, at string) {
	ctx := c.Request.Context()
	if access.Sight(ctx, access.SeeContent, at) != mask.Nothing {
		g.Node.Access.NoteRead(ctx, at, c.Query("where"))
	}
}

// NotLetIn has it be noted that somebody was not let in.
func (g *Gate) NotLetIn(c *gin.Context, why string) {
	host, _, _ := net.SplitHostPort(c.Request.RemoteAddr)
	g.Node.Access.NoteRefusal(services.Gathered{Who: services.Nobody, Via: access.Via{From: host}, Action: services.SignsIn, Says: why})
}
