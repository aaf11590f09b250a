package gate

import (
	"fmt"
	"iter"
	"maps"
	"net"
	"net/http"
	"net/netip"
	"slices"
	"strings"

	"steadyferry/internal/core/form"

	"github.com/gin-gonic/gin"
)

// KnownHost refuses requests for names that are not this node's: a page that
// has its own name resolve to this address (DNS rebinding) comes with that
// name. Numbers and localhost cannot be made to point elsewhere.
func (g *Gate) KnownHost(c *gin.Context) {
	host := c.Request.Host
	if _, err := netip.ParseAddrPort(host); err == nil {
		return
	}
	if name, _, err := net.SplitHostPort(host); err == nil {
		host = name
	}
	host = strings.ToLower(strings.TrimSuffix(strings.Trim(host, "[]"), "."))
	switch path := c.Request.URL.Path; {
	case host == "", host == "localhost", net.ParseIP(host) != nil, slices.Contains(g.names, host), path == "/healthz", path == "/readyz":
		return
	}
	WriteProblem(c, &form.Problem{Type: "urn:steady-ferry:problem:unknown-host", Status: http.StatusMisdirectedRequest, Title: "This node has another name",
		Detail: fmt.Sprintf("the request is for the host %q", host), Field: "Host", Allowed: strings.Join(append([]string{"IP addresses", "localhost"}, g.names...), ", "),
		Next: "if it is a name of this node, start ferryd with -names " + host})
}

// operation is a method and a path in Gin's notation.
type operation struct{ method, path string }

// object is what lies under names in a document, or nothing.
func object(v any, names ...string) map[string]any {
	for _, n := range names {
		m, _ := v.(map[string]any)
		v = m[n]
	}
	m, _ := v.(map[string]any)
	return m
}

// operations goes through those of the OpenAPI document. What is said of a path is said of each
// of its operations under "of path".
func operations(document map[string]any) iter.Seq2[operation, map[string]any] {
	return func(yield func(operation, map[string]any) bool) {
		for path, item := range object(document, "paths") {
			for method, called := range object(item) {
				if method == "parameters" {
					continue
				}
				o := operation{strings.ToUpper(method), strings.NewReplacer("{", ":", "}", "").Replace(path)}
				of := maps.Clone(object(called))
				of["of path"] = object(item)["parameters"]
				if !yield(o, of) {
					return
				}
			}
		}
	}
}

// queriesOf returns the query parameters of each operation of the OpenAPI
// document and their types.
func queriesOf(document map[string]any) map[operation]map[string]string {
	shared := object(document, "components", "parameters")
	add := func(to map[string]string, list any) {
		all, _ := list.([]any)
		for _, one := range all {
			p := object(one)
			if ref, ok := p["$ref"].(string); ok {
				p = object(shared[ref[strings.LastIndex(ref, "/")+1:]])
			}
			if p["in"] == "query" {
				to[fmt.Sprint(p["name"])] = fmt.Sprint(object(p, "schema")["type"])
			}
		}
	}
	out := map[operation]map[string]string{}
	for o, called := range operations(document) {
		if called[anyQueryKey] == true {
			continue
		}
		known := map[string]string{}
		add(known, called["of path"])
		add(known, called["parameters"])
		out[o] = known
	}
	return out
}

// KnownQuery refuses query parameters that the operation does not have, and
// those that come twice: what is misspelt would be left out silently.
func (g *Gate) KnownQuery(c *gin.Context) {
	raw := c.Request.URL.RawQuery
	if raw == "" {
		return
	}
	known, ok := g.queries[operation{c.Request.Method, c.FullPath()}]
	if !ok {
		return
	}
	var room [8]string
	seen := room[:0]
	for pair := range strings.SplitSeq(raw, "&") {
		if pair == "" {
			continue
		}
		name, value, err := unescapePair(pair)
		kind, ok := known[name]
		switch {
		case err != nil:
			WriteProblem(c, Invalid("", "the query of the address is broken: "+err.Error(), "name=value, joined by &, with percent-encoding"))
			return
		case !ok:
			allowed := strings.Join(slices.Sorted(maps.Keys(known)), ", ")
			if allowed == "" {
				allowed = "none"
			}
			WriteProblem(c, Invalid(name, fmt.Sprintf("there is no query parameter %q here", name), allowed))
			return
		case kind != "array" && slices.Contains(seen, name):
			WriteProblem(c, Invalid(name, fmt.Sprintf("the query parameter %s comes more than once", name), "one value"))
			return
		case kind == "boolean" && value != "true" && value != "false":
			WriteProblem(c, Invalid(name, fmt.Sprintf("%s is %q", name, value), "true, false")) // a preview that is meant must not be taken for the deed
			return
		case kind != "array":
			seen = append(seen, name)
		}
	}
}
