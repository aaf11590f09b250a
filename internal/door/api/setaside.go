package api

import (
	"fmt"
	"net/http"
	"strconv"

	"github.com/gin-gonic/gin"

	"steadyferry/internal/core/address"
	"steadyferry/internal/core/form"
	"steadyferry/internal/door/gate"
)

// listSetAside lists the logs that nodes have set aside, since no record knew
// them.
func (s *Server) listSetAside(c *gin.Context) {
	out := form.Page[form.SetAside]{Items: []form.SetAside{}}
	for _, a := range s.Node.Manage.SetAside(c) {
		out.Items = append(out.Items, form.SetAside{ID: strconv.FormatInt(a.Channel, 10), Node: a.Node, Address: a.Address, Kind: a.Kind, Since: a.Since, Until: a.Until, Bytes: a.Bytes, Partitions: a.Partitions})
	}
	c.JSON(http.StatusOK, out)
}

func asideID(c *gin.Context) (int64, bool) {
	id, err := strconv.ParseInt(c.Param("id"), 10, 64)
	if err != nil {
		gate.WriteProblem(c, gate.Invalid("id", fmt.Sprintf("id is %q", c.Param("id")), "the id that is listed"))
	}
	return id, err == nil
}

func (s *Server) adopt(c *gin.Context) {
	id, ok := asideID(c)
	var body form.Adopt
	if !ok || !gate.ReadJSON(c, &body) {
		return
	}
	a, err := address.ParseChannel(body.Address)
	if gate.Refuse(c, err) {
		return
	}
	preview := gate.BoolQuery(c, "preview")
	p, err := s.Node.Manage.Adopt(c, gate.Who(c), id, a, preview)
	gate.AnswerPreview(c, p, err, preview)
}

func (s *Server) throwAway(c *gin.Context) {
	id, ok := asideID(c)
	if !ok {
		return
	}
	preview := gate.BoolQuery(c, "preview")
	p, err := s.Node.Manage.ThrowAway(c, gate.Who(c), id, preview)
	gate.AnswerPreview(c, p, err, preview)
}
