package people

import (
	"context"
	"net/http"

	"github.com/gin-gonic/gin"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/door/gate"
	rights "steadyferry/internal/service/access"
)

// rightRoutes are the paths of who may do what.
func (s *People) rightRoutes(a *gin.RouterGroup) {
	a.GET("/principals", s.listPrincipals)
	a.POST("/principals", s.newPrincipal)
	a.PATCH("/principals/:principal", changing(setting.Principals, "principal", s.Node.Access.SetPrincipal))
	a.DELETE("/principals/:principal", s.removePrincipal)
	a.GET("/roles", func(c *gin.Context) { c.JSON(http.StatusOK, form.Page[form.Role]{Items: s.Node.Access.Roles()}) })
	a.POST("/roles", s.newRole)
	a.PATCH("/roles/:role", changing(setting.Roles, "role", s.Node.Access.SetRole))
	a.DELETE("/roles/:role", s.removeRole)
	a.GET("/grants", func(c *gin.Context) { c.JSON(http.StatusOK, form.Page[form.Grant]{Items: s.Node.Access.Grants(c)}) })
	a.POST("/grants", s.newGrant)
	a.DELETE("/grants/:grant", s.removeGrant)
	a.GET("/masks", func(c *gin.Context) { c.JSON(http.StatusOK, form.Page[form.Mask]{Items: s.Node.Access.Masks(c)}) })
	a.POST("/masks", s.newMask)
	a.PATCH("/masks/:mask", changing(setting.Masks, "mask", s.Node.Access.SetMask))
	a.DELETE("/masks/:mask", s.removeMask)
	a.POST("/break-glass", s.breakGlass)
	a.GET("/may", s.may)
	a.GET("/may/who", s.whoMay)
	a.GET("/may/verbs", s.myVerbs)
}

func (s *People) listPrincipals(c *gin.Context) {
	accounts, err := s.Node.Accounts.States(c)
	if gate.Refuse(c, err) {
		return
	}
	all := s.Node.Access.Principals(c)
	for i := range all {
		all[i].Uses, all[i].Account = s.Node.Quotas.OfPrincipal(all[i].Name), accounts[all[i].Name]
	}
	c.JSON(http.StatusOK, form.Page[form.Principal]{Items: all})
}

func (s *People) newPrincipal(c *gin.Context) {
	var name string
	settings, ok := gate.ReadSettings(c, setting.Principals, gate.Others{"name": &name})
	if ok && !gate.Refuse(c, s.Node.Access.NewPrincipal(c, gate.Who(c), name, settings)) {
		c.Status(http.StatusNoContent)
	}
}

// changing handles a change of how something is set that a parameter of the path names, or a preview of it.
func changing[T any](table setting.Table[T], of string, set func(ctx context.Context, who, name string, settings setting.Change, preview bool) (*form.Preview, error)) gin.HandlerFunc {
	return func(c *gin.Context) {
		settings, ok := gate.ReadSettings(c, table, nil)
		if !ok {
			return
		}
		preview := gate.BoolQuery(c, "preview")
		p, err := set(c, gate.Who(c), c.Param(of), settings, preview)
		gate.AnswerPreview(c, p, err, preview)
	}
}

func (s *People) removePrincipal(c *gin.Context) {
	preview := gate.BoolQuery(c, "preview")
	p, err := s.Node.Access.RemovePrincipal(c, gate.Who(c), c.Param("principal"), preview)
	gate.AnswerPreview(c, p, err, preview)
}

func (s *People) newRole(c *gin.Context) {
	var name string
	settings, ok := gate.ReadSettings(c, setting.Roles, gate.Others{"name": &name})
	if ok && !gate.Refuse(c, s.Node.Access.NewRole(c, gate.Who(c), name, settings)) {
		c.Status(http.StatusNoContent)
	}
}

func (s *People) removeRole(c *gin.Context) {
	if !gate.Refuse(c, s.Node.Access.RemoveRole(c, gate.Who(c), c.Param("role"))) {
		c.Status(http.StatusNoContent)
	}
}

func (s *People) newGrant(c *gin.Context) {
	settings, ok := gate.ReadSettings(c, setting.Grants, nil)
	if !ok {
		return
	}
	preview := gate.BoolQuery(c, "preview")
	p, err := s.Node.Access.NewGrant(c, gate.Who(c), settings, preview)
	gate.AnswerPreview(c, p, err, preview)
}

func (s *People) removeGrant(c *gin.Context) {
	preview := gate.BoolQuery(c, "preview")
	p, err := s.Node.Access.RemoveGrant(c, gate.Who(c), c.Param("grant"), preview)
	gate.AnswerPreview(c, p, err, preview)
}

func (s *People) newMask(c *gin.Context) {
	var name string
	settings, ok := gate.ReadSettings(c, setting.Masks, gate.Others{"name": &name})
	if !ok {
		return
	}
	preview := gate.BoolQuery(c, "preview")
	p, err := s.Node.Access.NewMask(c, gate.Who(c), name, settings, preview)
	gate.AnswerPreview(c, p, err, preview)
}

func (s *People) removeMask(c *gin.Context) {
	preview := gate.BoolQuery(c, "preview")
	p, err := s.Node.Access.RemoveMask(c, gate.Who(c), c.Param("mask"), preview)
	gate.AnswerPreview(c, p, err, preview)
}

func (s *People) breakGlass(c *gin.Context) {
	var in form.BreakGlass
	if !gate.ReadJSON(c, &in) {
		return
	}
	preview := gate.BoolQuery(c, "preview")
	p, err := s.Node.Access.BreakGlass(c, in.On, in.Why, preview)
	gate.AnswerPreview(c, p, err, preview)
}

// asked reads the verb and the address that are asked about.
func asked(c *gin.Context) (verb access.Verb, at string, ok bool) {
	verb, err := access.ParseVerb(c.Query("verb"))
	if err != nil {
		gate.WriteProblem(c, gate.Invalid("verb", err.Error(), access.Everything.String()))
		return verb, at, false
	}
	a, err := address.Parse(c.Query("address"))
	return verb, a.String(), !gate.Refuse(c, err)
}

func (s *People) may(c *gin.Context) {
	verb, at, ok := asked(c)
	if !ok {
		return
	}
	out, err := s.Node.Access.May(c, c.Query("principal"), verb, at)
	if !gate.Refuse(c, err) {
		c.JSON(http.StatusOK, out)
	}
}

// myVerbs tells what whoever asks may do at an address, so that a page need not offer the rest.
func (s *People) myVerbs(c *gin.Context) {
	at, err := address.Parse(c.Query("address"))
	if gate.Refuse(c, err) {
		return
	}
	verbs := s.Node.Access.Asker(gate.PrincipalOf(c), rights.Coming{}).Rights().At(at.String())
	c.JSON(http.StatusOK, form.Page[string]{Items: verbs.Names()})
}

func (s *People) whoMay(c *gin.Context) {
	verb, at, ok := asked(c)
	if !ok {
		return
	}
	names, err := s.Node.Access.WhoMay(c, verb, at)
	if !gate.Refuse(c, err) {
		c.JSON(http.StatusOK, form.Page[string]{Items: names})
	}
}
