package api

import (
	"net/http"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"steadyferry/internal/core/form"
	"steadyferry/internal/engine/catalog"
)

const (
	cookieName   = "ferry_session"
	sessionLives = 12 * time.Hour
	linkLives    = 15 * time.Minute
	freshSession = 10 * time.Minute // a link is made within it
	principalKey = "principal"

	// Secrets that are not in force, of one address: so many at once, and then
	// one every while. Sign-ins of one principal likewise.
	wrongBurst, wrongEvery   = 30, 2 * time.Second
	signInBurst, signInEvery = 40, time.Second
)

// authenticate lets through who brings a token or a session in force. What is
// wrong with it is not told.
func (s *Server) authenticate(c *gin.Context) {
	if p, ok := s.principal(c); ok {
		c.Set(principalKey, p)
		return
	}
	if c.GetHeader("Authorization") != "" || c.GetHeader("Cookie") != "" {
		// Whoever tries many is not looked up any more.
		if refuse(c, s.wrong.Allow(c.RemoteIP(), time.Now())) {
			return
		}
		// Another node may have made the secret a moment ago.
		if s.node.Records.Refresh(c) == nil {
			if p, ok := s.principal(c); ok {
				c.Set(principalKey, p)
				return
			}
		}
	}
	c.Header("WWW-Authenticate", `Bearer realm="steady-ferry"`)
	writeProblem(c, &form.Problem{Status: http.StatusUnauthorized, Title: "Not signed in", Detail: "a valid token or session is needed",
		Next: "send Authorization: Bearer TOKEN, or sign in at the console"})
}

// principal returns for whom the request's token or session stands.
func (s *Server) principal(c *gin.Context) (catalog.Principal, bool) {
	view := s.node.Records.View()
	if text, ok := strings.CutPrefix(c.GetHeader("Authorization"), "Bearer "); ok {
		return view.Who(catalog.Token, text)
	} else if cookie, err := c.Cookie(cookieName); err == nil {
		return view.Who(catalog.Session, cookie)
	}
	return catalog.Principal{}, false
}

func who(c *gin.Context) string { return c.MustGet(principalKey).(catalog.Principal).Name }

// sameOrigin refuses requests that another site makes a browser send.
func (s *Server) sameOrigin(c *gin.Context) {
	if err := s.origin.Check(c.Request); err != nil {
		writeProblem(c, &form.Problem{Status: http.StatusForbidden, Title: "Refused", Detail: "a page of another site may not do this"})
	}
}

func (s *Server) signIn(c *gin.Context) {
	var body struct {
		Token string `json:"token"`
		Link  string `json:"link"`
	}
	if !readJSON(c, &body) {
		return
	}
	kind, text := catalog.Token, body.Token
	if body.Link != "" {
		kind, text = catalog.Link, body.Link
	}
	p, ok := s.node.Records.View().Who(kind, text)
	if !ok {
		if refuse(c, s.wrong.Allow(c.RemoteIP(), time.Now())) {
			return
		}
		if s.node.Records.Refresh(c) == nil { // another node may have made it a moment ago
			p, ok = s.node.Records.View().Who(kind, text)
		}
	}
	if ok && refuse(c, s.signIns.Allow(p.Name, time.Now())) {
		return
	}
	if ok && kind == catalog.Link {
		used, err := s.node.Records.DropSecret(c, catalog.Link, text)
		if refuse(c, err) {
			return
		}
		ok = used
	}
	if !ok {
		writeProblem(c, &form.Problem{Status: http.StatusUnauthorized, Title: "Not signed in", Detail: "this token or link is not in force",
			Next: "a link works once; take the token from owner.token in the data directory"})
		return
	}
	session, err := s.node.Records.NewSecret(c, p.Name, catalog.Session, "", sessionLives, &catalog.Entry{Who: p.Name, Action: actionSignIn, Address: p.Name})
	if refuse(c, err) {
		return
	}
	http.SetCookie(c.Writer, &http.Cookie{Name: cookieName, Value: session, Path: "/", HttpOnly: true, SameSite: http.SameSiteStrictMode,
		Secure: c.Request.TLS != nil, MaxAge: int(sessionLives / time.Second)})
	c.JSON(http.StatusOK, form.SignIn{Name: p.Name, Role: p.Role})
}

func (s *Server) session(c *gin.Context) {
	p := c.MustGet(principalKey).(catalog.Principal)
	c.JSON(http.StatusOK, form.SignIn{Name: p.Name, Role: p.Role})
}

func (s *Server) signOut(c *gin.Context) {
	if cookie, err := c.Cookie(cookieName); err == nil {
		if _, err := s.node.Records.DropSecret(c, catalog.Session, cookie); refuse(c, err) {
			return
		}
	}
	http.SetCookie(c.Writer, &http.Cookie{Name: cookieName, Path: "/", HttpOnly: true, SameSite: http.SameSiteStrictMode, MaxAge: -1})
	c.Status(http.StatusNoContent)
}

func (s *Server) newLink(c *gin.Context) {
	// A session that was left open must not live on in links.
	p := c.MustGet(principalKey).(catalog.Principal)
	if by := p.By(); by.Kind == catalog.Session && time.Since(by.MadeAt) > freshSession {
		writeProblem(c, &form.Problem{Type: "urn:steady-ferry:problem:sign-in-again", Status: http.StatusForbidden, Title: "Sign in again",
			Detail: "a link is made with a token, or within 10 minutes of signing in", Next: "sign out and in again, or use: ferry access link"})
		return
	}
	text, err := s.node.Records.NewSecret(c, who(c), catalog.Link, "", linkLives, &catalog.Entry{Who: who(c), Action: "new sign-in link", Address: who(c)})
	if refuse(c, err) {
		return
	}
	// Behind #, the code stays out of logs and of what the browser sends.
	c.JSON(http.StatusCreated, form.Link{Path: "/sign-in#" + text, ExpiresAt: time.Now().Add(linkLives).UTC().Truncate(time.Second)})
}
