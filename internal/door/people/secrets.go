package people

import (
	"cmp"
	"fmt"
	"net/http"
	"time"

	"github.com/gin-gonic/gin"

	"steadyferry/internal/core/form"
	"steadyferry/internal/door/gate"
	"steadyferry/internal/engine/catalog"
)

// secretRoutes are the paths of tokens, sessions and links.
func (s *People) secretRoutes(a *gin.RouterGroup) {
	a.GET("/access", s.listSecrets)
	a.POST("/access/tokens", s.newToken)
	a.POST("/access/:secret/rotate", s.rotateToken)
	a.DELETE("/access/:secret", s.revoke)
	a.DELETE("/access", s.revokeAll)
}

func secretJSON(s catalog.Secret, own string) form.Secret {
	out := form.Secret{ID: s.ID, Kind: s.Kind, Principal: s.Principal, Label: s.Label, Role: s.Role, On: s.Pattern, CreatedAt: s.CreatedAt.UTC(), Own: s.ID == own}
	if !s.ExpiresAt.IsZero() {
		at := s.ExpiresAt.UTC()
		out.ExpiresAt = &at
	}
	if !s.UsedAt.IsZero() {
		at := s.UsedAt.UTC()
		out.UsedAt = &at
	}
	return out
}

func own(c *gin.Context) string {
	p := gate.PrincipalOf(c)
	return p.By().ID
}

func (s *People) listSecrets(c *gin.Context) {
	all, err := s.Node.Access.Secrets(c)
	if gate.Refuse(c, err) {
		return
	}
	out := form.Page[form.Secret]{Items: []form.Secret{}}
	for _, one := range all {
		out.Items = append(out.Items, secretJSON(one, own(c)))
	}
	c.JSON(http.StatusOK, out)
}

// Bounds of tokens.
const (
	maxLabel   = 100
	maxExpires = 3650 * 24 * time.Hour
)

func (s *People) newToken(c *gin.Context) {
	var in form.NewToken
	if !gate.ReadJSON(c, &in) {
		return
	}
	lives, err := gate.DurationField("expires", in.Expires)
	if err == nil && (lives < 0 || in.Expires != "" && lives < time.Minute || lives > maxExpires) {
		err = gate.Invalid("expires", "expires is "+in.Expires, "1m to 3650d; left out, it does not expire")
	}
	if err == nil && (in.Label == "" || len(in.Label) > maxLabel) {
		err = gate.Invalid("label", fmt.Sprintf("the label has %d characters", len(in.Label)), fmt.Sprintf("1 to %d, such as nightly reports", maxLabel))
	}
	if gate.Refuse(c, err) {
		return
	}
	t := catalog.Secret{Principal: cmp.Or(in.Principal, gate.Who(c)), Label: in.Label, Role: in.Role, Pattern: in.On}
	text, err := s.Node.Access.NewToken(c, gate.Who(c), t, lives)
	if gate.Refuse(c, err) {
		return
	}
	s.tellToken(c, text)
}

// tellToken answers with a token that was just made; it is told only once.
func (s *People) tellToken(c *gin.Context, text string) {
	p, _ := s.Node.Catalog.Known(catalog.Token, text)
	c.JSON(http.StatusCreated, form.Token{Secret: secretJSON(p.By(), own(c)), Token: text})
}

func (s *People) rotateToken(c *gin.Context) {
	text, err := s.Node.Access.Rotate(c, gate.Who(c), c.Param("secret"))
	if !gate.Refuse(c, err) {
		s.tellToken(c, text)
	}
}

func (s *People) revoke(c *gin.Context) {
	if !gate.Refuse(c, s.Node.Access.Revoke(c, gate.Who(c), c.Param("secret"))) {
		c.Status(http.StatusNoContent)
	}
}

// revokeAll ends all secrets of a kind but the one of the request.
func (s *People) revokeAll(c *gin.Context) {
	kind := c.Query("kind")
	if kind != catalog.Session && kind != catalog.Token && kind != catalog.Link {
		gate.WriteProblem(c, gate.Invalid("kind", fmt.Sprintf("kind is %q", kind), "session, token, link"))
		return
	}
	n, err := s.Node.Access.RevokeAll(c, gate.Who(c), kind, own(c))
	if !gate.Refuse(c, err) {
		c.JSON(http.StatusOK, form.Revoked{Revoked: int(n)})
	}
}
