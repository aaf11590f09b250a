// Package people is the HTTP interface of who comes and what they may: sessions, sign-in at
// providers and of programs, tokens, principals, roles and grants. It translates; who may what is
// service/access's, who comes from elsewhere service/signin's.
package people

import (
	"net/http"

	"github.com/gin-gonic/gin"

	"steadyferry/internal/core/admit"
	"steadyferry/internal/door/gate"
)

// People has the handlers.
type People struct {
	*gate.Gate
	signIns *admit.Rates // by principal
	comings *admit.Rates // by address
	codes   *admit.Rates // that principals look up, by principal
}

// New returns the handlers of a node.
func New(g *gate.Gate) *People {
	return &People{Gate: g, signIns: admit.NewRates("sign-ins", signInBurst, signInEvery), comings: admit.NewRates("sign-ins", comeBurst, comeEvery), codes: admit.NewRates("codes", codeBurst, codeEvery)}
}

// Routes adds its paths: to anyone those by which people come, and to a those for who has come.
func (s *People) Routes(anyone, a *gin.RouterGroup) {
	anyone.POST("/session", s.SameOrigin, s.signIn)
	s.comeRoutes(anyone)
	s.accountRoutes(a)
	a.GET("/session", s.session)
	a.DELETE("/session", s.signOut)
	a.PATCH("/session", func(c *gin.Context) { c.Status(http.StatusNoContent) }) // that it came is enough
	a.POST("/links", s.newLink)
	a.GET("/devices/:code", s.showDevice)
	a.POST("/devices/:code", s.decideDevice)
	s.secretRoutes(a)
	s.rightRoutes(a)
	s.secondRoutes(a)
}
