package people

import (
	"cmp"
	"errors"
	"net/http"
	"net/url"
	"time"

	"github.com/gin-gonic/gin"

	"steadyferry/internal/core/form"
	"steadyferry/internal/door/gate"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/service/access"
	"steadyferry/internal/service/signin"
)

// deviceGrant is the grant type of RFC 8628.
const deviceGrant = "urn:ietf:params:oauth:grant-type:device_code"

// newDevice has a program wait for somebody who lets it in, as RFC 8628 has it.
func (s *People) newDevice(c *gin.Context) {
	code, userCode, err := s.Node.SignIn.NewDevice(c, c.PostForm("name"), c.RemoteIP())
	if gate.Refuse(c, err) {
		return
	}
	page := s.base(c) + "/device"
	c.JSON(http.StatusOK, form.DeviceCode{DeviceCode: code, UserCode: userCode, VerificationURI: page, VerificationURIComplete: page + "?" + url.Values{"code": {userCode}}.Encode(),
		ExpiresIn: int(signin.DeviceLives / time.Second), Interval: int(signin.DevicePause / time.Second)})
}

// deviceToken gives a program its session when somebody has let it in.
func (s *People) deviceToken(c *gin.Context) {
	refuse := func(err error) { c.JSON(http.StatusBadRequest, form.DeviceError{Error: err.Error()}) }
	if kind := c.PostForm("grant_type"); kind != deviceGrant {
		refuse(errors.New("unsupported_grant_type"))
		return
	}
	as, name, err := s.Node.SignIn.Poll(c, c.PostForm("device_code"))
	switch {
	case errors.Is(err, signin.ErrPending), errors.Is(err, signin.ErrSlowDown), errors.Is(err, signin.ErrDenied), errors.Is(err, signin.ErrExpired):
		refuse(err)
		return
	case gate.Refuse(c, err):
		return
	}
	session, err := s.Node.Access.NewSession(c, as, name, c.RemoteIP())
	if !gate.Refuse(c, err) {
		c.JSON(http.StatusOK, form.DeviceToken{AccessToken: session, TokenType: "Bearer", ExpiresIn: int(access.SessionLives / time.Second)})
	}
}

// showDevice tells which program waits with a code.
func (s *People) showDevice(c *gin.Context) {
	if gate.Refuse(c, s.codes.Allow(gate.Who(c), time.Now())) {
		return
	}
	d, err := s.Node.SignIn.Device(c, c.Param("code"))
	if !gate.Refuse(c, err) {
		c.JSON(http.StatusOK, form.Device{Code: d.UserCode, Name: d.Name, Address: d.Address, ExpiresAt: d.ExpiresAt.UTC()})
	}
}

// decideDevice lets a program in as whoever asks, or denies it.
func (s *People) decideDevice(c *gin.Context) {
	var in form.DeviceDecision
	if !gate.ReadJSON(c, &in) || gate.Refuse(c, s.codes.Allow(gate.Who(c), time.Now())) {
		return
	}
	p := gate.PrincipalOf(c)
	if !gate.Refuse(c, s.Node.SignIn.Decide(c, c.Param("code"), p.Like(catalog.Session), in.Let)) {
		c.Status(http.StatusNoContent)
	}
}

// base is by which URL the browser of a request reaches the service.
func (s *People) base(c *gin.Context) string {
	scheme := "http://"
	if c.Request.TLS != nil {
		scheme = "https://"
	}
	return cmp.Or(s.Node.SignIn.PublicURL, scheme+c.Request.Host)
}
