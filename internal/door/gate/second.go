package gate

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"strings"

	"github.com/gin-gonic/gin"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/ledger"
	rights "steadyferry/internal/service/access"
	"steadyferry/internal/service/seconds"
)

const waitsKey = "waits"

// mayWait keeps what a request asks for while it is carried out, where that may have to wait for a second
// person: an operation that can (x-second), of somebody who does something with one alone.
func (g *Gate) mayWait(c *gin.Context, a access.Asker) {
	n := g.needs[operation{c.Request.Method, c.FullPath()}]
	if !n.waits || c.Query("preview") == "true" || !a.Rights().Seconds() {
		return
	}
	body, err := io.ReadAll(io.LimitReader(c.Request.Body, seconds.MaxBody+1))
	if Refuse(c, err) {
		return
	}
	c.Request.Body = struct {
		io.Reader
		io.Closer
	}{io.MultiReader(bytes.NewReader(body), c.Request.Body), c.Request.Body}
	if len(body) > seconds.MaxBody {
		return
	}
	c.Set(waitsKey, func(refused *access.SecondError) error {
		if err := rights.CheckFresh(PrincipalOf(c)); err != nil {
			return err
		}
		asked := ledger.Second{From: c.Request.RemoteAddr, Says: n.words(c.Request.URL.Path), Method: c.Request.Method, Target: c.Request.URL.RequestURI(), Body: body}
		return g.Node.Seconds.Ask(c.Request.Context(), refused, asked)
	})
}

// words are what is asked for: what the operation does, and with what.
func (n need) words(path string) string {
	does, _, _ := strings.Cut(n.says, ", or ") // only preview it
	_, at, _ := strings.Cut(strings.TrimPrefix(path, "/api/v1/"), "/")
	if at == "" {
		return does
	}
	return does + ": " + at
}

// askSecond has a request wait that takes a second person, and returns the problem that says so.
func askSecond(c *gin.Context, refused *access.SecondError) error {
	if ask, ok := c.Get(waitsKey); ok {
		return ask.(func(*access.SecondError) error)(refused)
	}
	var p *problem.Problem
	if errors.As(refused, &p) {
		told := *p
		told.Then = "this cannot wait for one: ask somebody who does it alone (ferry access who " + refused.At + " " + refused.Verb.String() + ")"
		return &told
	}
	return refused
}

type insideKey struct{}

// inside is who asks with a request that comes from the service itself.
type inside struct {
	asker catalog.Asker
	how   rights.Coming
}

// Again does what was asked for once more, as who has asked for it, with a second person who has confirmed
// it. It returns why it was not done; empty: it was.
func (g *Gate) Again(ctx context.Context, one *ledger.Second, host, second string) (failed string) {
	as := catalog.Stands(seconds.Scope(one), []byte(one.Pass))
	w := g.send(ctx, one, host, one.Target, &inside{as, rights.Coming{From: one.From}.With(second)})
	if w.status < http.StatusBadRequest {
		return ""
	}
	var p form.Problem
	if json.Unmarshal(w.body.Bytes(), &p) != nil || p.Detail == "" {
		return http.StatusText(w.status)
	}
	return p.Detail
}

// Foresee is what something that waits would do, for who is to confirm it, as they may see it; nil
// where that cannot be told.
func (g *Gate) Foresee(c *gin.Context, one *ledger.Second) (*form.Preview, error) {
	at, _, _ := strings.Cut(one.Target, "?")
	if !g.previews(one.Method, at) {
		return nil, nil
	}
	w := g.send(c.Request.Context(), one, c.Request.Host, at+"?preview=true", &inside{PrincipalOf(c), rights.Coming{From: c.Request.RemoteAddr}.Looks()})
	if w.status >= http.StatusBadRequest {
		p := &form.Problem{Status: w.status, Detail: "it cannot be foreseen"}
		_ = json.Unmarshal(w.body.Bytes(), p) // else that is all that is known
		return nil, p
	}
	p := &form.Preview{}
	return p, json.Unmarshal(w.body.Bytes(), p)
}

// previews reports whether the operation of a path can be foreseen.
func (g *Gate) previews(method, path string) bool {
	parts := strings.Split(path, "/")
	for o, queries := range g.queries {
		if o.method == method && fitsPath(strings.Split(o.path, "/"), parts) {
			_, known := queries["preview"]
			return known
		}
	}
	return false
}

// fitsPath reports whether a path is one of a pattern's, in which parts that begin with : are any.
func fitsPath(pattern, path []string) bool {
	if len(pattern) != len(path) {
		return false
	}
	for i, part := range pattern {
		if part != path[i] && !strings.HasPrefix(part, ":") {
			return false
		}
	}
	return true
}

func (g *Gate) send(ctx context.Context, one *ledger.Second, host, target string, in *inside) *kept {
	w := &kept{status: http.StatusOK, header: http.Header{}}
	r, err := http.NewRequestWithContext(context.WithValue(ctx, insideKey{}, in), one.Method, "http://"+host+target, bytes.NewReader(one.Body))
	if err != nil {
		w.status = http.StatusBadRequest
		return w
	}
	r.RemoteAddr, r.RequestURI = in.how.From, target
	if len(one.Body) > 0 {
		r.Header.Set("Content-Type", "application/json")
	}
	g.Handler.ServeHTTP(w, r)
	return w
}

// kept is an answer that is read here.
type kept struct {
	header http.Header
	status int
	body   bytes.Buffer
}

func (k *kept) Header() http.Header { return k.header }

func (k *kept) WriteHeader(status int) { k.status = status }

func (k *kept) Write(b []byte) (int, error) {
	if k.body.Len()+len(b) > MaxJSON {
		return 0, io.ErrShortWrite
	}
	return k.body.Write(b)
}
