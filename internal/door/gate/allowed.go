package gate

import (
	"fmt"
	"strings"

	"github.com/gin-gonic/gin"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/problem"
)

// need is what the OpenAPI document says that an operation needs (x-verb), and where (x-at).
type need struct {
	free bool // whoever is signed in may, or whoever comes
	verb access.Verb
	at   string // empty: at the address of the path
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
)

// needsOf returns what each operation of the document needs. One that does not say is an error.
func needsOf(document map[string]any) (map[operation]need, error) {
	out := map[operation]need{}
	for o, called := range operations(document) {
		name, at := fmt.Sprint(called[verbKey]), ""
		if given, ok := called[atKey].(string); ok {
			at = given
		}
		if name == anyone || name == allIn {
			out[o] = need{free: true}
			continue
		}
		verb, err := access.ParseVerb(name)
		if err != nil {
			return nil, fmt.Errorf("%s %s: %s: %w", o.method, o.path, verbKey, err)
		}
		out[o] = need{verb: verb, at: at}
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
	switch {
	case n.free, n.at == atBody, n.at == atEach:
	case n.at == atAll:
		a, _ := access.In(c)
		if everywhere, _ := address.ParsePattern(atAll); !a.Rights().On(everywhere).Has(n.verb) {
			Refuse(c, a.Refuse(n.verb, atAll))
		}
	case n.at != "":
		Refuse(c, access.Check(c, n.verb, n.at))
	default:
		Refuse(c, access.Check(c, n.verb, pathAddress(c)))
	}
}

// stillAllowed returns how to ask whether whoever asks may still do what a request that goes on
// began with.
func (g *Gate) stillAllowed(c *gin.Context) func() bool {
	n := g.needs[operation{c.Request.Method, c.FullPath()}]
	a, ok := access.In(c)
	switch {
	case n.free, n.at == atBody, n.at == atEach:
		return func() bool { return true }
	case !ok:
		return func() bool { return false }
	case n.at != "":
		return func() bool { return a.Rights().May(n.verb, n.at) }
	}
	at := pathAddress(c)
	return func() bool { return a.Rights().May(n.verb, at) }
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

// Seen are those of a list that whoever asks may see, by their addresses.
func Seen[T any](c *gin.Context, all []T, at func(T) string) []T {
	out := make([]T, 0, len(all))
	for _, one := range all {
		if access.May(c, access.SeeCounts, at(one)) {
			out = append(out, one)
		}
	}
	return out
}
