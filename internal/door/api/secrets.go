package api

import (
	"errors"
	"fmt"
	"net/http"
	"time"

	"github.com/gin-gonic/gin"

	"steadyferry/internal/core/address"
	"steadyferry/internal/core/form"
	"steadyferry/internal/door/gate"
	"steadyferry/internal/engine/catalog"
)

// secretRoutes are the paths of tokens, sessions and links.
func (s *Server) secretRoutes(a *gin.RouterGroup) {
	a.GET("/access", s.listSecrets)
	a.POST("/access/tokens", s.newToken)
	a.POST("/access/:secret/rotate", s.rotateToken)
	a.DELETE("/access/:secret", s.revoke)
	a.DELETE("/access", s.revokeAll)
}

func secretJSON(s catalog.Secret, own string) form.Secret {
	out := form.Secret{ID: s.ID, Kind: s.Kind, Principal: s.Principal, Label: s.Label, CreatedAt: s.CreatedAt.UTC(), Own: s.ID == own}
	if !s.ExpiresAt.IsZero() {
		at := s.ExpiresAt.UTC()
		out.ExpiresAt = &at
	}
	return out
}

func own(c *gin.Context) string {
	p := gate.PrincipalOf(c)
	return p.By().ID
}

func (s *Server) listSecrets(c *gin.Context) {
	all, err := s.Node.Catalog.Secrets(c)
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

func (s *Server) newToken(c *gin.Context) {
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
	entry := &catalog.Entry{Who: gate.Who(c), Action: "new token", Address: gate.Who(c), After: map[string]any{"label": in.Label, "expires": address.FormatDuration(lives)}}
	text, err := s.Node.Catalog.NewSecret(c, catalog.Secret{Principal: gate.Who(c), Kind: catalog.Token, Label: in.Label}, lives, entry)
	if gate.Refuse(c, err) {
		return
	}
	s.tellToken(c, text)
}

// tellToken answers with a token that was just made; it is told only once.
func (s *Server) tellToken(c *gin.Context, text string) {
	p, _ := s.Node.Catalog.Known(catalog.Token, text)
	c.JSON(http.StatusCreated, form.Token{Secret: secretJSON(p.By(), own(c)), Token: text})
}

func (s *Server) secretOf(c *gin.Context) (catalog.Secret, bool) {
	id := c.Param("secret")
	one, err := s.Node.Catalog.Secret(c, id)
	if err == nil {
		return one, true
	}
	if !errors.Is(err, catalog.ErrNotFound) {
		gate.Refuse(c, err)
		return one, false
	}
	gate.WriteProblem(c, &form.Problem{Type: "urn:steady-ferry:problem:not-found", Status: http.StatusNotFound, Title: "It does not exist", Detail: fmt.Sprintf("nothing in force has the id %q", id), Field: "secret", Next: "ferry access lists what is"})
	return one, false
}

func (s *Server) rotateToken(c *gin.Context) {
	one, ok := s.secretOf(c)
	if !ok {
		return
	}
	if one.Kind != catalog.Token {
		gate.WriteProblem(c, gate.Invalid("secret", "it is a "+one.Kind, "a token; a session or a link is revoked"))
		return
	}
	text, err := s.Node.Catalog.Rotate(c, one, &catalog.Entry{Who: gate.Who(c), Action: "rotate token", Address: one.Principal, Before: map[string]any{"id": one.ID, "label": one.Label}})
	if !gate.Refuse(c, err) {
		s.tellToken(c, text)
	}
}

func (s *Server) revoke(c *gin.Context) {
	one, ok := s.secretOf(c)
	if !ok {
		return
	}
	err := s.Node.Catalog.Revoke(c, one.ID, &catalog.Entry{Who: gate.Who(c), Action: "revoke " + one.Kind, Address: one.Principal, Before: map[string]any{"id": one.ID, "label": one.Label}})
	if errors.Is(err, catalog.ErrNotFound) {
		err = nil // somebody was quicker
	}
	if !gate.Refuse(c, err) {
		c.Status(http.StatusNoContent)
	}
}

// revokeAll ends all secrets of a kind but the one of the request.
func (s *Server) revokeAll(c *gin.Context) {
	kind := c.Query("kind")
	if kind != catalog.Session && kind != catalog.Token && kind != catalog.Link {
		gate.WriteProblem(c, gate.Invalid("kind", fmt.Sprintf("kind is %q", kind), "session, token, link"))
		return
	}
	n, err := s.Node.Catalog.RevokeAll(c, kind, own(c), &catalog.Entry{Who: gate.Who(c), Action: "revoke every " + kind, Address: gate.Who(c)})
	if !gate.Refuse(c, err) {
		c.JSON(http.StatusOK, form.Revoked{Revoked: int(n)})
	}
}
