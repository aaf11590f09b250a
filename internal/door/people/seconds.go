package people

import (
	"log/slog"
	"net/http"

	"github.com/gin-gonic/gin"

	"steadyferry/internal/core/form"
	"steadyferry/internal/door/gate"
	"steadyferry/internal/engine/ledger"
)

// secondRoutes are the paths of what takes a second person.
func (s *People) secondRoutes(a *gin.RouterGroup) {
	a.GET("/seconds", s.listSeconds)
	a.GET("/seconds/:second", s.showSecond)
	a.POST("/seconds/:second/confirm", s.confirmSecond)
	a.POST("/seconds/:second/decline", s.declineSecond)
}

func (s *People) listSeconds(c *gin.Context) {
	all, err := s.Node.Seconds.List(c)
	if !gate.Refuse(c, err) {
		c.JSON(http.StatusOK, form.Page[form.Second]{Items: all})
	}
}

// showSecond tells what one that waits would do now.
func (s *People) showSecond(c *gin.Context) {
	id, ok := gate.NumberParam(c, "second")
	if !ok {
		return
	}
	one, err := s.Node.Seconds.Show(c, id)
	if gate.Refuse(c, err) {
		return
	}
	told := s.Node.Seconds.Told(c, one)
	if len(one.Body) > 0 {
		told.Asked = one.Body
	}
	if told.State == ledger.SecondWaits {
		if told.Preview, err = s.Foresee(c, one); gate.Refuse(c, err) {
			return
		}
	}
	c.JSON(http.StatusOK, told)
}

// confirmSecond does what was asked for, with whoever asks as the second person.
func (s *People) confirmSecond(c *gin.Context) {
	id, ok := gate.NumberParam(c, "second")
	if !ok {
		return
	}
	one, err := s.Node.Seconds.Confirm(c, id)
	if gate.Refuse(c, err) {
		return
	}
	if err := s.Node.Seconds.End(c, id, s.Again(c, one, c.Request.Host, gate.Who(c))); err != nil {
		slog.Warn("what came of something that was confirmed is not recorded", "second", id, "error", err)
	}
	if one, err = s.Node.Seconds.Show(c, id); !gate.Refuse(c, err) {
		c.JSON(http.StatusOK, s.Node.Seconds.Told(c, one))
	}
}

func (s *People) declineSecond(c *gin.Context) {
	if id, ok := gate.NumberParam(c, "second"); ok && !gate.Refuse(c, s.Node.Seconds.Decline(c, id)) {
		c.Status(http.StatusNoContent)
	}
}
