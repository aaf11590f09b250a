package api

import (
	"fmt"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"github.com/gin-gonic/gin"

	"steadyferry/client"
)

// knownHost refuses requests for names that are not this node's: a page that
// has its own name resolve to this address (DNS rebinding) comes with that
// name. Numbers and localhost cannot be made to point elsewhere.
func (s *Server) knownHost(c *gin.Context) {
	host := c.Request.Host
	if name, _, err := net.SplitHostPort(host); err == nil {
		host = name
	}
	host = strings.ToLower(strings.TrimSuffix(strings.Trim(host, "[]"), "."))
	switch path := c.Request.URL.Path; {
	case host == "", host == "localhost", net.ParseIP(host) != nil, slices.Contains(s.names, host), path == "/healthz", path == "/readyz":
		return
	}
	writeProblem(c, &client.Problem{Type: "urn:steady-ferry:problem:unknown-host", Status: http.StatusMisdirectedRequest, Title: "This node has another name",
		Detail: fmt.Sprintf("the request is for the host %q", host), Field: "Host", Allowed: strings.Join(append([]string{"IP addresses", "localhost"}, s.names...), ", "),
		Next: "if it is a name of this node, start ferryd with -names " + host})
}

// queriesOf returns the query parameters of each operation of the OpenAPI
// document, by method and path in Gin's notation, and their types.
func queriesOf(document map[string]any) map[string]map[string]string {
	object := func(v any, names ...string) map[string]any {
		for _, n := range names {
			m, _ := v.(map[string]any)
			v = m[n]
		}
		m, _ := v.(map[string]any)
		return m
	}
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
	out := map[string]map[string]string{}
	for path, item := range object(document, "paths") {
		for method, operation := range object(item) {
			if method == "parameters" {
				continue
			}
			known := map[string]string{}
			add(known, object(item)["parameters"])
			add(known, object(operation)["parameters"])
			out[strings.ToUpper(method)+" "+strings.NewReplacer("{", ":", "}", "").Replace(path)] = known
		}
	}
	return out
}

// knownQuery refuses query parameters that the operation does not have, and
// those that come twice: what is misspelt would be left out silently.
func (s *Server) knownQuery(c *gin.Context) {
	raw := c.Request.URL.RawQuery
	if raw == "" {
		return
	}
	known, ok := s.queries[c.Request.Method+" "+c.FullPath()]
	if !ok {
		return
	}
	values, err := url.ParseQuery(raw)
	if err != nil {
		writeProblem(c, invalid("", "the query of the address is broken: "+err.Error(), "name=value, joined by &, with percent-encoding"))
		return
	}
	for name, all := range values {
		kind, ok := known[name]
		switch {
		case !ok:
			names := make([]string, 0, len(known))
			for n := range known {
				names = append(names, n)
			}
			slices.Sort(names)
			allowed := strings.Join(names, ", ")
			if allowed == "" {
				allowed = "none"
			}
			writeProblem(c, invalid(name, fmt.Sprintf("there is no query parameter %q here", name), allowed))
			return
		case len(all) > 1 && kind != "array":
			writeProblem(c, invalid(name, fmt.Sprintf("the query parameter %s comes %d times", name, len(all)), "one value"))
			return
		case kind == "boolean" && all[0] != "true" && all[0] != "false":
			writeProblem(c, invalid(name, fmt.Sprintf("%s is %q", name, all[0]), "true, false")) // a preview that is meant must not be taken for the deed
			return
		}
	}
}
