package gate

import (
	"crypto/x509"
	"net/http"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/form"
	"steadyferry/internal/engine/catalog"
	rights "steadyferry/internal/service/access"
)

// cookieName is that of the console's session. Over TLS it begins with what has browsers take it
// from this host alone, over TLS and for all of its paths (RFC 6265bis).
const cookieName, hostOnly = "ferry_session", "__Host-"

// Secure reports whether browsers come over TLS, be it to something before this node.
func (g *Gate) Secure(c *gin.Context) bool {
	return c.Request.TLS != nil || strings.HasPrefix(g.Node.SignIn.PublicURL, "https://")
}

// Session is the session that a browser has brought, empty for none.
func (g *Gate) Session(c *gin.Context) string {
	value, _ := c.Cookie(g.sessionName(c))
	return value
}

func (g *Gate) sessionName(c *gin.Context) string {
	if g.Secure(c) {
		return hostOnly + cookieName
	}
	return cookieName
}

// SetSession has a browser keep a session for so many seconds; less than 0: forget it.
func (g *Gate) SetSession(c *gin.Context, session string, seconds int) {
	http.SetCookie(c.Writer, &http.Cookie{Name: g.sessionName(c), Value: session, Path: "/", HttpOnly: true, SameSite: http.SameSiteStrictMode, Secure: g.Secure(c), MaxAge: seconds})
}

const principalKey = "principal"

// Authenticate lets through who brings a token or a session in force. What is
// wrong with it is not told.
func (g *Gate) Authenticate(c *gin.Context) {
	if in, ok := c.Request.Context().Value(insideKey{}).(*inside); ok {
		g.comes(c, in.asker, in.how)
		return
	}
	if kind, text := g.brought(c); text != "" {
		p, ok, err := g.InForce(c, kind, text)
		if Refuse(c, err) {
			return
		}
		if ok {
			g.comes(c, p, coming(c))
			g.Node.Access.Used(c.Request.Context(), p, kind == catalog.Token || c.Request.Method != http.MethodGet || c.GetHeader("Authorization") != "")
			return
		}
	}
	if p, ok := g.certified(c); ok {
		g.comes(c, p, coming(c))
		return
	}
	c.Header("WWW-Authenticate", `Bearer realm="steady-ferry"`)
	WriteProblem(c, &form.Problem{Status: http.StatusUnauthorized, Title: "Not signed in", Detail: "a valid token or session is needed",
		Next: "send Authorization: Bearer TOKEN, or sign in at the console"})
}

// comes has a request be asked by somebody who has come so.
func (g *Gate) comes(c *gin.Context, p catalog.Asker, how rights.Coming) {
	a := g.Node.Access.Asker(p, how)
	c.Request = c.Request.WithContext(access.As(c.Request.Context(), a))
	c.Set(principalKey, p)
	g.mayWait(c, a)
}

// coming is how whoever sends a request has come: what changes nothing only looks.
func coming(c *gin.Context) rights.Coming {
	how := rights.Coming{From: c.Request.RemoteAddr}
	if c.Request.Method == http.MethodGet || c.Query("preview") == "true" {
		how = how.Looks()
	}
	return how
}

// certified is for whom the certificate of the connection stands, unless something else was brought.
func (g *Gate) certified(c *gin.Context) (p catalog.Asker, ok bool) {
	chain := g.shown(c)
	if chain == nil {
		return p, false
	}
	return g.Node.SignIn.Certified(chain)
}

// shown is the certificate of the connection with those that vouch for it, nil without one or when something
// else was brought.
func (g *Gate) shown(c *gin.Context) []*x509.Certificate {
	if _, text := g.brought(c); text != "" || c.Request.TLS == nil || len(c.Request.TLS.VerifiedChains) == 0 {
		return nil
	}
	return c.Request.TLS.VerifiedChains[0]
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
	kind, text := g.brought(c)
	a, ok := g.Node.Catalog.Known(kind, text)
	return ok && g.Node.Access.Asker(a, rights.Coming{}).Rights().May(v, at)
}

// EndSession ends the session with which a request came; a token stays.
func (g *Gate) EndSession(c *gin.Context) error {
	kind, text := g.brought(c)
	if kind != catalog.Session {
		return nil
	}
	_, err := g.Node.Catalog.DropSecret(c, kind, text)
	return err
}

// brought is the secret that a request brings: a token, or a session.
func (g *Gate) brought(c *gin.Context) (kind, text string) {
	if text, ok := strings.CutPrefix(c.GetHeader("Authorization"), "Bearer "); ok {
		return catalog.KindOf(text), text
	}
	return catalog.Session, g.Session(c)
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
