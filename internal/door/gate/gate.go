package gate

import (
	"context"
	"fmt"
	"log/slog"
	"net/http"
	"runtime"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"steadyferry/internal/core/admit"
	"steadyferry/internal/core/form"
)

// WriteTimeout is how long an answer may take from the request on, unless it is
// a stream, or the request took long to come.
const WriteTimeout = MaxWait + RequestTimeout + AnswerTime

// Limits of time of one request.
const (
	RequestTimeout = 30 * time.Second
	MaxWait        = 30 * time.Second
	BodyStall      = 20 * time.Second // a body that brings nothing for so long is given up
	AnswerTime     = 30 * time.Second // for an answer to be taken
	MaxJSON        = 1 << 20          // bytes of a JSON request that is not a message
)

// Within lets a caller begin something for which there are so many slots.
func Within(slots *admit.Slots) gin.HandlerFunc {
	return func(c *gin.Context) {
		leave, err := slots.Enter(Who(c))
		if Refuse(c, err) {
			return
		}
		defer leave()
		c.Next()
	}
}

// Recover answers for a handler that panics.
func (g *Gate) Recover(c *gin.Context) {
	defer func() {
		if v := recover(); v != nil {
			if v == http.ErrAbortHandler {
				panic(v)
			}
			stack := make([]byte, 8<<10)
			slog.Error("a request failed unexpectedly", "path", c.FullPath(), "panic", fmt.Sprint(v), "stack", string(stack[:runtime.Stack(stack, false)]))
			WriteProblem(c, &form.Problem{Status: http.StatusInternalServerError, Title: "Internal error", Detail: "the service made a mistake; its log tells more"})
		}
	}()
	c.Next()
}

// Values of headers that every answer has, made once: at one message a
// request they would be a good part of the work.
var (
	nosniff    = []string{"nosniff"}
	noReferrer = []string{"no-referrer"}
	noStore    = []string{"no-store"}
	JSONType   = []string{"application/json"}
	noContent  = []string{"default-src 'none'; frame-ancestors 'none'"}
	sameOrigin = []string{"same-origin"}
	httpsOnly  = []string{"max-age=17280000"} // 200 days
)

// SecurityHeaders sets what browsers are told with every answer.
func (g *Gate) SecurityHeaders(c *gin.Context) {
	h := c.Writer.Header()
	if g.Secure(c) {
		h["Strict-Transport-Security"] = httpsOnly
	}
	h["X-Content-Type-Options"] = nosniff
	h["Cross-Origin-Resource-Policy"] = sameOrigin
	if strings.HasPrefix(c.Request.URL.Path, "/api/") {
		h["Cache-Control"] = noStore
		h["Content-Security-Policy"] = noContent
	} else {
		h["Referrer-Policy"] = noReferrer
		h["Cross-Origin-Opener-Policy"] = sameOrigin
	}
	c.Next()
}

// certificatesLooked is how often it is looked whether certificates with which streams were opened still
// stand: files say which do not.
const certificatesLooked = time.Second

// StreamContext ends when the client goes, the server stops, or what the client
// has signed in with is revoked or over, or good for it no more.
func (g *Gate) StreamContext(c *gin.Context) (context.Context, context.CancelFunc) {
	// The server's time for reading a request would end the stream with it.
	control := http.NewResponseController(c.Writer)
	control.SetReadDeadline(time.Time{})
	control.SetWriteDeadline(time.Time{}) // each write has its own
	ctx, cancel := context.WithCancel(c.Request.Context())
	p, refused := PrincipalOf(c), g.needs[operation{c.Request.Method, c.FullPath()}].asked(c)
	chain := g.shown(c)
	go func() {
		defer cancel()
		for {
			changed := g.Node.Parts.Changed()
			until, ok := g.Node.Catalog.InForce(ctx, p)
			if !ok || refused() != nil {
				return
			}
			var over <-chan time.Time
			if chain != nil {
				if _, stands := g.Node.SignIn.Certified(chain); !stands {
					return
				}
				until = time.Now().Add(certificatesLooked)
			}
			if !until.IsZero() {
				over = time.After(time.Until(until))
			}
			select {
			case <-g.stopping:
				return
			case <-ctx.Done():
				return
			case <-changed:
			case <-over:
			}
		}
	}()
	return ctx, cancel
}
