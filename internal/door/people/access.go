package people

import (
	"net/http"
	"time"

	"github.com/gin-gonic/gin"

	"steadyferry/internal/core/form"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/door/gate"
	"steadyferry/internal/engine/catalog"
	rights "steadyferry/internal/service/access"
	"steadyferry/internal/service/accounts"
)

const (
	linkLives = 15 * time.Minute

	// Sign-ins of one principal: so many at once, and then one every while.
	signInBurst, signInEvery = 40, time.Second
)

func (s *People) signIn(c *gin.Context) {
	var body struct {
		Token string `json:"token"`
		Link  string `json:"link"`
	}
	if !gate.ReadJSON(c, &body) {
		return
	}
	kind, text := catalog.Token, body.Token
	if body.Link != "" {
		kind, text = catalog.Link, body.Link
	}
	if kind == catalog.Token && !s.Node.SignIn.Tokens() {
		gate.Refuse(c, problem.New(problem.Refused, "the console takes no tokens here").Field("token").Next("sign in another way; ferry access link makes a link that signs in once"))
		return
	}
	p, ok, err := s.InForce(c, kind, text)
	if gate.Refuse(c, err) {
		return
	}
	if ok && gate.Refuse(c, s.signIns.Allow(p.Name, time.Now())) {
		return
	}
	if ok && kind == catalog.Link {
		used, err := s.Node.Catalog.DropSecret(c, catalog.Link, text)
		if gate.Refuse(c, err) {
			return
		}
		ok = used
	}
	if !ok {
		gate.WriteProblem(c, &form.Problem{Status: http.StatusUnauthorized, Title: "Not signed in", Detail: "this token or link is not in force",
			Next: "a link works once; take the token from owner.token in the data directory"})
		return
	}
	in, err := s.letIn(c, p.Like(catalog.Session), kind)
	if !gate.Refuse(c, err) {
		s.answerSignIn(c, in)
	}
}

func (s *People) session(c *gin.Context) { s.answerSignIn(c, gate.PrincipalOf(c)) }

func (s *People) answerSignIn(c *gin.Context, p catalog.Asker) {
	may := s.Node.Access.Asker(p, rights.Coming{}).Rights()
	c.JSON(http.StatusOK, form.SignIn{Name: p.Name, Roles: s.Node.Access.RolesOf(p), Everywhere: may.Everywhere().Names(), Somewhere: may.Somewhere().Names(), Opens: s.Node.Access.MayBreakGlass(p.Name), Account: p.Session() && p.By().Label == accounts.Way})
}

func (s *People) signOut(c *gin.Context) {
	if gate.Refuse(c, s.EndSession(c)) {
		return
	}
	s.SetSession(c, "", -1)
	c.Status(http.StatusNoContent)
}

func (s *People) newLink(c *gin.Context) {
	// A session that was left open must not live on in links.
	p := gate.PrincipalOf(c)
	text, err := s.Node.Catalog.NewSecret(c, p.Like(catalog.Link), linkLives, &catalog.Entry{Who: gate.Who(c), Action: "new sign-in link", Address: gate.Who(c)})
	if gate.Refuse(c, err) {
		return
	}
	// Behind #, the code stays out of logs and of what the browser sends.
	c.JSON(http.StatusCreated, form.Link{Path: "/sign-in#" + text, ExpiresAt: time.Now().Add(linkLives).UTC().Truncate(time.Second)})
}
