package gate

import (
	"net/http"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/form"
	"steadyferry/internal/engine/catalog"
)

// CookieName is that of the console's session.
const CookieName = "ferry_session"

const principalKey = "principal"

// Authenticate lets through who brings a token or a session in force. What is
// wrong with it is not told.
func (g *Gate) Authenticate(c *gin.Context) {
	if kind, text := brought(c); text != "" {
		p, ok, err := g.InForce(c, kind, text)
		if Refuse(c, err) {
			return
		}
		if ok {
			g.Node.Access.Used(c, p, kind == catalog.Token || c.Request.Method != http.MethodGet || c.GetHeader("Authorization") != "")
			c.Set(principalKey, p)
			c.Request = c.Request.WithContext(access.As(c.Request.Context(), g.Node.Access.Asker(p, c.Request.RemoteAddr)))
			return
		}
	}
	c.Header("WWW-Authenticate", `Bearer realm="steady-ferry"`)
	WriteProblem(c, &form.Problem{Status: http.StatusUnauthorized, Title: "Not signed in", Detail: "a valid token or session is needed",
		Next: "send Authorization: Bearer TOKEN, or sign in at the console"})
}

// InForce returns for whom a secret stands. The records are asked about one that
// is not known here; whoever tries many that are not in force is refused.
func (g *Gate) InForce(c *gin.Context, kind, text string) (p catalog.Asker, ok bool, err error) {
	if p, ok = g.Node.Catalog.Known(kind, text); ok {
		return p, true, nil
	}
	forgive, err := g.Wrong.Try(c.RemoteIP(), time.Now())
	if err != nil {
		return p, false, err
	}
	if p, ok, err = g.Node.Catalog.LookUp(c, kind, text); ok {
		forgive()
	}
	return p, ok, err
}

// KnownMay reports whether the request brings a secret that is known to be in force, of somebody
// who may do something at an address.
func (g *Gate) KnownMay(c *gin.Context, v access.Verb, at string) bool {
	kind, text := brought(c)
	a, ok := g.Node.Catalog.Known(kind, text)
	return ok && g.Node.Access.Asker(a, "").Rights().May(v, at)
}

// EndSession ends the session with which a request came; a token stays.
func (g *Gate) EndSession(c *gin.Context) error {
	kind, text := brought(c)
	if kind != catalog.Session {
		return nil
	}
	_, err := g.Node.Catalog.DropSecret(c, kind, text)
	return err
}

// brought is the secret that a request brings: a token, or a session.
func brought(c *gin.Context) (kind, text string) {
	if text, ok := strings.CutPrefix(c.GetHeader("Authorization"), "Bearer "); ok {
		return catalog.KindOf(text), text
	}
	cookie, _ := c.Cookie(CookieName)
	return catalog.Session, cookie
}

// PrincipalOf returns for whom a request that was let in stands.
func PrincipalOf(c *gin.Context) catalog.Asker {
	return c.MustGet(principalKey).(catalog.Asker)
}

// Who returns their name.
func Who(c *gin.Context) string { return PrincipalOf(c).Name }

// SameOrigin refuses requests that another site makes a browser send.
func (g *Gate) SameOrigin(c *gin.Context) {
	if err := g.origin.Check(c.Request); err != nil {
		WriteProblem(c, &form.Problem{Status: http.StatusForbidden, Title: "Refused", Detail: "a page of another site may not do this"})
	}
}
