package people

import (
	"errors"
	"net/http"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"steadyferry/internal/core/form"
	"steadyferry/internal/door/gate"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/service/accounts"
)

// accountRoutes are the paths of accounts for who has come.
func (s *People) accountRoutes(a *gin.RouterGroup) {
	a.POST("/accounts", s.newAccount)
	a.DELETE("/accounts/:principal", s.closeAccount)
	a.PUT("/account", s.setPassword)
}

// refuseIn answers with an error of whoever proves an account; it reports whether there was one.
func refuseIn(c *gin.Context, err error, status int, with string) bool {
	if !errors.Is(err, accounts.ErrNotIn) {
		return gate.Refuse(c, err)
	}
	gate.Came(c, with)
	gate.WriteProblem(c, &form.Problem{Type: "urn:steady-ferry:problem:not-signed-in", Status: status, Title: "Not signed in", Detail: accounts.ErrNotIn.Error(),
		Next: "try again with the next code; who looks after people invites you anew if you have lost one of them"})
	return true
}

func (s *People) enter(c *gin.Context) {
	var in form.Entering
	if !gate.ReadJSON(c, &in) {
		return
	}
	name := strings.ToLower(strings.TrimSpace(in.Name))
	who, err := s.Node.Accounts.Enter(c, name, in.Password, in.Code)
	if !refuseIn(c, err, http.StatusUnauthorized, s.cameAs(name)) {
		s.enterAs(c, who)
	}
}

// cameAs says with which account somebody came: a name that is nobody's may be something else that
// was typed there.
func (s *People) cameAs(name string) string {
	if s.Node.Catalog.View().Principal(name) == nil {
		return "with an account that is not there"
	}
	return "with the account of " + name
}

// enterAs begins the session of somebody who has proved an account.
func (s *People) enterAs(c *gin.Context, who string) {
	in, err := s.letIn(c, catalog.Secret{Principal: who}, accounts.Way)
	if !gate.Refuse(c, err) {
		s.answerSignIn(c, in)
	}
}

func (s *People) showInvitation(c *gin.Context) {
	var in struct {
		Invitation string `json:"invitation"`
	}
	if !gate.ReadJSON(c, &in) {
		return
	}
	_, host, _ := strings.Cut(s.base(c), "://")
	codes, err := s.Node.Accounts.Invitation(c, in.Invitation, host)
	if !gate.Refuse(c, err) {
		c.JSON(http.StatusOK, form.Invited{Name: codes.Name, Secret: codes.Secret, URI: codes.URI, Picture: codes.Picture})
	}
}

// acceptInvitation gives an account its password and signs in, or with preview only judges it.
func (s *People) acceptInvitation(c *gin.Context) {
	var in form.Accepting
	if !gate.ReadJSON(c, &in) {
		return
	}
	if gate.BoolQuery(c, "preview") {
		strength, err := s.Node.Accounts.Judge(c, in.Invitation, in.Password)
		out := form.Strength{Score: strength.Score, Says: strength.Says, Taken: err == nil}
		if err != nil {
			told := gate.ProblemOf(err)
			if told.Field != "password" {
				gate.Refuse(c, err)
				return
			}
			out.Why = told.Detail + "; allowed: " + told.Allowed
		}
		c.JSON(http.StatusOK, out)
		return
	}
	who, err := s.Node.Accounts.Accept(c, in.Invitation, in.Password, in.Code)
	if !gate.Refuse(c, err) {
		s.enterAs(c, who)
	}
}

func (s *People) newAccount(c *gin.Context) {
	var in form.NewAccount
	if !gate.ReadJSON(c, &in) {
		return
	}
	text, until, err := s.Node.Accounts.Invite(c, gate.Who(c), in.Principal)
	if !gate.Refuse(c, err) {
		// Behind #, it stays out of logs and of what the browser sends.
		c.JSON(http.StatusCreated, form.Invitation{Path: "/invited#" + text, ExpiresAt: until})
	}
}

func (s *People) closeAccount(c *gin.Context) {
	if !gate.Refuse(c, s.Node.Accounts.Close(c, gate.Who(c), c.Param("principal"))) {
		c.Status(http.StatusNoContent)
	}
}

// setPassword changes the password of whoever asks, and begins another session in the place of all
// that there were.
func (s *People) setPassword(c *gin.Context) {
	var in form.NewPassword
	if !gate.ReadJSON(c, &in) || gate.Refuse(c, s.signIns.Allow(gate.Who(c), time.Now())) {
		return
	}
	who := gate.Who(c)
	err := s.Node.Accounts.Change(c, who, in.Password, in.Code, in.Next)
	if !refuseIn(c, err, http.StatusForbidden, s.cameAs(who)) { // whoever asks is signed in
		s.enterAs(c, who)
	}
}
