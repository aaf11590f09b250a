package api

import (
	"fmt"
	"net/http"
	"strconv"

	"github.com/gin-gonic/gin"

	"steadyferry/internal/core/address"
	"steadyferry/internal/core/form"
)

// listSetAside lists the logs that nodes have set aside, since no record knew
// them.
func (s *Server) listSetAside(c *gin.Context) {
	out := form.Page[form.SetAside]{Items: []form.SetAside{}}
	for _, a := range s.node.Manage.SetAside(c) {
		out.Items = append(out.Items, form.SetAside{ID: strconv.FormatInt(a.Channel, 10), Node: a.Node, Address: a.Address, Kind: a.Kind, Since: a.Since, Until: a.Until, Bytes: a.Bytes, Partitions: a.Partitions})
	}
	c.JSON(http.StatusOK, out)
}

func asideID(c *gin.Context) (int64, bool) {
	id, err := strconv.ParseInt(c.Param("id"), 10, 64)
	if err != nil {
		writeProblem(c, invalid("id", fmt.Sprintf("id is %q", c.Param("id")), "the id that is listed"))
	}
	return id, err == nil
}

func (s *Server) adopt(c *gin.Context) {
	id, ok := asideID(c)
	var body form.Adopt
	if !ok || !readJSON(c, &body) {
		return
	}
	a, err := address.ParseChannel(body.Address)
	if refuse(c, err) {
		return
	}
	preview := boolQuery(c, "preview")
	p, err := s.node.Manage.Adopt(c, who(c), id, a, preview)
	if !refuse(c, err) {
		p.Done = !preview
		c.JSON(http.StatusOK, p)
	}
}

func (s *Server) throwAway(c *gin.Context) {
	id, ok := asideID(c)
	if !ok {
		return
	}
	preview := boolQuery(c, "preview")
	p, err := s.node.Manage.ThrowAway(c, who(c), id, preview)
	if !refuse(c, err) {
		p.Done = !preview
		c.JSON(http.StatusOK, p)
	}
}
