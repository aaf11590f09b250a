package api

import (
	"net/http"
	"strconv"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/form"
	"steadyferry/internal/door/gate"

	"github.com/gin-gonic/gin"
)

// logbook lists who did what. Sign-ins of one person behind each other are one
// entry, since they would bury the rest.
func (s *Server) logbook(c *gin.Context) {
	limit, ok := gate.IntQuery(c, "limit", gate.DefaultPage, 1, gate.MaxPage)
	if !ok {
		return
	}
	before, ok := gate.IntQuery(c, "cursor", 0, 0, 1<<62)
	if !ok {
		return
	}
	rows, err := s.Node.Catalog.Logbook(c, int64(before), limit+1)
	if gate.Refuse(c, err) {
		return
	}
	p := form.Page[form.LogbookEntry]{Items: []form.LogbookEntry{}}
	for i, r := range rows {
		if i == limit {
			p.Next = strconv.FormatInt(rows[i-1].ID, 10)
			break
		}
		if !access.May(c, access.Logbook, r.Address) {
			continue
		}
		if n := len(p.Items); n > 0 && r.Action == actionSignIn {
			if last := &p.Items[n-1]; last.Action == r.Action && last.Who == r.Who {
				last.Times++
				continue
			}
		}
		p.Items = append(p.Items, gate.LogbookEntry(&r))
	}
	c.JSON(http.StatusOK, p)
}

const actionSignIn = "sign in"
