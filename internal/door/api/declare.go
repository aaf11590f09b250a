package api

import (
	"net/http"

	"github.com/gin-gonic/gin"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/declare"
	"steadyferry/internal/core/form"
	"steadyferry/internal/door/gate"
)

// declareRoutes are the paths of what is declared in files.
func (s *Server) declareRoutes(a *gin.RouterGroup, search gin.HandlerFunc) {
	a.GET("/things", s.listThings)
	a.POST("/declarations/:declaration", search, s.applyDeclaration)
	a.GET("/drift", s.listDrift)
	a.GET("/declaration-schema", func(c *gin.Context) { c.Data(http.StatusOK, "application/schema+json", declare.Schema()) })
}

// listThings tells what can be declared, as it is.
func (s *Server) listThings(c *gin.Context) {
	pattern, err := address.ParsePattern(c.DefaultQuery("pattern", "*"))
	if gate.Refuse(c, err) {
		return
	}
	out := form.Page[form.Thing]{Items: []form.Thing{}}
	for _, t := range s.Node.Declares.There(func(string) bool { return true }) {
		if t.Itself || t.Kind == "nodes" && pattern.String() != "*" || t.Kind != "nodes" && !pattern.Covers(t.Address) || !access.May(c, access.SeeCounts, t.Address) {
			continue
		}
		out.Items = append(out.Items, form.Thing{Kind: t.Kind, Address: t.Address, Settings: t.Settings})
	}
	c.JSON(http.StatusOK, out)
}

// maxDeclaration is how large what is declared may be.
const maxDeclaration = 32 << 20

// applyDeclaration makes of what is there what is declared, and tells each change
// when it is made; with preview it tells what would change.
func (s *Server) applyDeclaration(c *gin.Context) {
	var in form.Declare
	if !gate.ReadJSONUpTo(c, maxDeclaration, &in) {
		return
	}
	name := c.Param("declaration")
	if gate.BoolQuery(c, "preview") {
		p, err := s.Node.Declares.Plan(c, gate.Who(c), name, in)
		if !gate.Refuse(c, err) {
			c.JSON(http.StatusOK, p)
		}
		return
	}
	w := s.NewLineWriter(c, form.NDJSONType, gate.WriteTimeout)
	tell := func(e form.DeclareEvent) error {
		if err := w.Write(e, 0); err != nil {
			return err
		}
		return w.Flush()
	}
	p, err := s.Node.Declares.Apply(c, gate.Who(c), name, in, func(change form.DeclareChange) error { return tell(form.DeclareEvent{Change: &change}) })
	if p == nil {
		gate.Refuse(c, err)
		return
	}
	end := form.DeclareEvent{Plan: p}
	if err != nil {
		end.Problem = gate.ProblemOf(err)
	}
	_ = tell(end) // whoever asked may have gone
}

// listDrift tells what is another way than declarations have it.
func (s *Server) listDrift(c *gin.Context) {
	drift, err := s.Node.Declares.Drift(c)
	if !gate.Refuse(c, err) {
		c.JSON(http.StatusOK, form.Page[form.Drift]{Items: drift})
	}
}
