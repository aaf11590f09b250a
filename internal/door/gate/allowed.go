package gate

import (
	"fmt"
	"strings"

	"github.com/gin-gonic/gin"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/problem"
	sessions "steadyferry/internal/service/access"
)

// need is what the OpenAPI document says that an operation needs (x-verb), and where (x-at).
type need struct {
	free  bool // whoever is signed in may, or whoever comes
	shows bool // what is in messages (x-shows)
	fresh bool // a session must have begun lately (x-fresh)
	waits bool // it can wait for a second person (x-second)
	says  string
	verb  access.Verb
	at    string // empty: at the address of the path
}

// Where a verb is needed, if not at the address of the path.
const (
	atBody  = "body" // at what the request names: the service knows
	atEach  = "each" // at each thing that is told of: others are left out
	atAll   = "*"    // at everything
	anyone  = "anyone"
	allIn   = "signed-in"
	verbKey = "x-verb"
	atKey   = "x-at"

	freshKey    = "x-fresh"
	secondKey   = "x-second"
	showsKey    = "x-shows"
	anyQueryKey = "x-any-query"
)

// gives reports whether the answers have messages in them.
func (n need) gives() bool {
	return n.shows || access.Of(access.SeeContent, access.Read, access.Lease, access.Settle, access.Export).Has(n.verb) && !n.free
}

// needsOf returns what each operation of the document needs. One that does not say is an error.
func needsOf(document map[string]any) (map[operation]need, error) {
	out := map[operation]need{}
	for o, called := range operations(document) {
		name, at := fmt.Sprint(called[verbKey]), ""
		if given, ok := called[atKey].(string); ok {
			at = given
		}
		fresh := called[freshKey] == true
		waits, says := called[secondKey] == true, fmt.Sprint(called["summary"])
		if name == anyone || name == allIn {
			out[o] = need{free: true, fresh: fresh, waits: waits, says: says}
			continue
		}
		verb, err := access.ParseVerb(name)
		if err != nil {
			return nil, fmt.Errorf("%s %s: %s: %w", o.method, o.path, verbKey, err)
		}
		out[o] = need{verb: verb, at: at, fresh: fresh, shows: called[showsKey] == true, waits: waits, says: says}
	}
	return out, nil
}

// Allowed refuses what whoever asks may not do at the address of the path, before anything is
// looked up: of what may not be seen it is not told whether it is there. Services refuse the
// rest.
func (g *Gate) Allowed(c *gin.Context) {
	n, known := g.needs[operation{c.Request.Method, c.FullPath()}]
	if !known {
		Refuse(c, problem.New(problem.Refused, "nobody may do that yet: it is not said which verb it needs"))
		return
	}
	if n.at == atEach && !everywhere(c, n.verb) {
		c.Header(shownHeader, "part")
	}
	if !Refuse(c, n.asked(c)()) && n.fresh && c.Query("preview") != "true" {
		CheckFresh(c)
	}
}

// CheckFresh refuses a dangerous step to a session that was not begun lately.
func CheckFresh(c *gin.Context) (refused bool) {
	return Refuse(c, sessions.CheckFresh(PrincipalOf(c)))
}

// shownHeader tells of a list that what whoever asks may not see was left out, if there is any.
const shownHeader = "Ferry-Shown"

func everywhere(c *gin.Context, v access.Verb) bool {
	a, ok := access.In(c.Request.Context())
	return ok && a.Rights().Everywhere().Has(v)
}

// asked returns how to ask, now and again, why whoever asks may not do what a request needs; what
// services know better they are asked for.
func (n need) asked(c *gin.Context) func() error {
	ctx, at := c.Request.Context(), n.at // c is another request's, later
	a, known := access.In(ctx)
	switch {
	case n.free, at == atBody, at == atEach:
		return func() error { return nil }
	case at == "":
		at = pathAddress(c)
	case at == atAll && known:
		return func() error {
			if a.Rights().Everywhere().Has(n.verb) {
				return nil
			}
			return a.Refuse(n.verb, atAll)
		}
	}
	return func() error { return access.Check(ctx, n.verb, at) }
}

// pathAddress is the address that the parameters of a path name.
func pathAddress(c *gin.Context) string {
	at := c.Param("space")
	for _, name := range []string{"channel", "watch", "chore"} {
		if one := c.Param(name); one != "" {
			at += "/" + one
		}
	}
	if group := c.Param("group"); group != "" {
		a, err := address.Parse(at)
		if err != nil {
			return at
		}
		return a.Reader(group).String()
	}
	return strings.TrimSuffix(at, "/")
}
