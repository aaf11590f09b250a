package people

import (
	"encoding/base64"
	"encoding/json"
	"errors"
	"log/slog"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"steadyferry/internal/core/form"
	"steadyferry/internal/door/gate"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/service/access"
	"steadyferry/internal/service/signin"
)

const (
	// Comings of one address: so many at once, and then one every while.
	comeBurst, comeEvery = 60, time.Second
	codeBurst, codeEvery = 30, 10 * time.Second

	flowCookie = "ferry_sign_in"
	signInPath = "/api/v1/sign-in"
)

// comeRoutes are the paths by which people come whom another place vouches for.
func (s *People) comeRoutes(v1 *gin.RouterGroup) {
	r := v1.Group("/sign-in", s.comes)
	r.GET("", s.signInWays)
	r.GET("/:provider", s.beginSignIn)
	r.GET("/:provider/done", s.finishSignIn)
	r.POST("/:provider/left", s.left)
	r.POST("/account", s.SameOrigin, s.enter)
	r.POST("/invitation", s.showInvitation)
	r.POST("/invitation/accept", s.SameOrigin, s.acceptInvitation)
	r.POST("/device", s.newDevice)
	r.POST("/device/token", s.deviceToken)
}

// comes bounds how often one address tries, and how much it sends.
func (s *People) comes(c *gin.Context) {
	c.Request.Body = http.MaxBytesReader(c.Writer, c.Request.Body, gate.MaxJSON)
	gate.Refuse(c, s.comings.Allow(c.RemoteIP(), time.Now()))
}

// signInWays tells the ways to sign in.
func (s *People) signInWays(c *gin.Context) {
	out := form.SignInWays{Providers: []form.SignInProvider{}, Accounts: s.Node.Accounts.On(), Tokens: s.Node.SignIn.Tokens()}
	for _, p := range s.Node.SignIn.Providers() {
		out.Providers = append(out.Providers, form.SignInProvider{Provider: p.Name, Label: p.Label})
	}
	c.JSON(http.StatusOK, out)
}

// doneURL is where a provider sends people back.
func (s *People) doneURL(c *gin.Context) string {
	return s.base(c) + signInPath + "/" + c.Param("provider") + "/done"
}

// within is a page of the console, or its first one when that is wanted elsewhere.
func within(to string) string {
	if u, err := url.Parse(to); err != nil || u.Scheme != "" || u.Host != "" || !strings.HasPrefix(to, "/") || strings.HasPrefix(to, "//") || strings.Contains(to, "\\") {
		return "/"
	}
	return to
}

func (s *People) beginSignIn(c *gin.Context) {
	to, flow, err := s.Node.SignIn.Begin(c, c.Param("provider"), s.doneURL(c), within(c.Query("to")), gate.BoolQuery(c, "anew"))
	if err != nil {
		s.notIn(c, err)
		return
	}
	b, err := json.Marshal(flow)
	if gate.Refuse(c, err) {
		return
	}
	s.setFlow(c, base64.RawURLEncoding.EncodeToString(b), int(signin.FlowLives/time.Second))
	c.Redirect(http.StatusSeeOther, to)
}

// setFlow has the browser keep what it takes for the second step. It comes back from another site,
// so that the cookie must be sent then too.
func (s *People) setFlow(c *gin.Context, value string, age int) {
	http.SetCookie(c.Writer, &http.Cookie{Name: flowCookie, Value: value, Path: signInPath, HttpOnly: true, SameSite: http.SameSiteLaxMode, Secure: s.Secure(c), MaxAge: age})
}

func (s *People) finishSignIn(c *gin.Context) {
	flow := &signin.Flow{}
	text, _ := c.Cookie(flowCookie)
	b, err := base64.RawURLEncoding.DecodeString(text)
	if err == nil {
		err = json.Unmarshal(b, flow)
	}
	if err != nil {
		flow = &signin.Flow{}
	}
	s.setFlow(c, "", -1)
	provider := c.Param("provider")
	if said := c.Query("error"); said != "" {
		s.notIn(c, &signin.Failed{Why: signin.Refused, Err: errors.New("the provider says " + said)})
		return
	}
	name, err := s.Node.SignIn.Finish(c, flow, provider, s.doneURL(c), c.Query("state"), c.Query("code"))
	if err != nil {
		s.notIn(c, err)
		return
	}
	if _, err := s.letIn(c, catalog.Secret{Principal: name}, provider); gate.Refuse(c, err) {
		return
	}
	c.Redirect(http.StatusSeeOther, within(flow.To))
}

// letIn begins a session, and ends the one with which the browser came.
func (s *People) letIn(c *gin.Context, like catalog.Secret, way string) (catalog.Asker, error) {
	session, err := s.Node.Access.NewSession(c, like, way, c.RemoteIP())
	if err != nil {
		return catalog.Asker{}, err
	}
	if old := s.Session(c); old != "" {
		if _, err := s.Node.Catalog.DropSecret(c, catalog.Session, old); err != nil {
			return catalog.Asker{}, err
		}
	}
	s.SetSession(c, session, int(access.SessionLives/time.Second))
	a, _, err := s.Node.Catalog.LookUp(c, catalog.Session, session)
	return a, err
}

// notIn sends the browser to the page on which it is said why nobody was let in. What exactly was
// wrong is for those who look after the service.
func (s *People) notIn(c *gin.Context, err error) {
	var failed *signin.Failed
	if !errors.As(err, &failed) {
		gate.Refuse(c, err)
		return
	}
	provider := c.Param("provider")
	slog.Warn("somebody was not let in", "provider", provider, "from", c.RemoteIP(), "why", failed.Why, "error", failed.Err)
	s.NotLetIn(c, provider+": "+failed.Err.Error())
	c.Redirect(http.StatusSeeOther, "/sign-in?"+url.Values{"failed": {failed.Why}, "provider": {provider}}.Encode())
}

// left ends the sessions of whom a provider says that they have left.
func (s *People) left(c *gin.Context) {
	_, err := s.Node.SignIn.Left(c, c.Param("provider"), c.PostForm("logout_token"))
	if !gate.Refuse(c, err) {
		c.Status(http.StatusNoContent)
	}
}
