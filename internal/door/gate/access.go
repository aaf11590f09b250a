package gate

import (
	"net/http"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"steadyferry/internal/core/form"
	"steadyferry/internal/engine/catalog"
)

// CookieName is that of the console's session.
const CookieName = "ferry_session"

const principalKey = "principal"

// Authenticate lets through who brings a token or a session in force. What is
// wrong with it is not told.
func (g *Gate) Authenticate(c *gin.Context) {
	if p, ok := g.Principal(c); ok {
		c.Set(principalKey, p)
		return
	}
	if c.GetHeader("Authorization") != "" || c.GetHeader("Cookie") != "" {
		// Whoever tries many is not looked up any more.
		if Refuse(c, g.Wrong.Allow(c.RemoteIP(), time.Now())) {
			return
		}
		// Another node may have made the secret a moment ago.
		if g.Node.Records.Refresh(c) == nil {
			if p, ok := g.Principal(c); ok {
				c.Set(principalKey, p)
				return
			}
		}
	}
	c.Header("WWW-Authenticate", `Bearer realm="steady-ferry"`)
	WriteProblem(c, &form.Problem{Status: http.StatusUnauthorized, Title: "Not signed in", Detail: "a valid token or session is needed",
		Next: "send Authorization: Bearer TOKEN, or sign in at the console"})
}

// Principal returns for whom the request's token or session stands.
func (g *Gate) Principal(c *gin.Context) (catalog.Principal, bool) {
	view := g.Node.Records.View()
	if text, ok := strings.CutPrefix(c.GetHeader("Authorization"), "Bearer "); ok {
		return view.Who(catalog.Token, text)
	} else if cookie, err := c.Cookie(CookieName); err == nil {
		return view.Who(catalog.Session, cookie)
	}
	return catalog.Principal{}, false
}

// PrincipalOf returns for whom a request that was let in stands.
func PrincipalOf(c *gin.Context) catalog.Principal {
	return c.MustGet(principalKey).(catalog.Principal)
}

// Who returns their name.
func Who(c *gin.Context) string { return PrincipalOf(c).Name }

// SameOrigin refuses requests that another site makes a browser send.
func (g *Gate) SameOrigin(c *gin.Context) {
	if err := g.origin.Check(c.Request); err != nil {
		WriteProblem(c, &form.Problem{Status: http.StatusForbidden, Title: "Refused", Detail: "a page of another site may not do this"})
	}
}
