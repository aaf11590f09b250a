package api

import (
	"fmt"
	"net/http"
	"strconv"
	"time"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/form"
	"steadyferry/internal/door/gate"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/logbook"
	services "steadyferry/internal/service/access"

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
	q := logbook.Asked{Before: int64(before), Who: c.Query("who"), Address: c.Query("address"), Action: c.Query("action"), Outcome: c.Query("outcome"), Limit: limit + 1}
	if q.Outcome != "" && q.Outcome != catalog.Done && q.Outcome != catalog.Refused {
		gate.WriteProblem(c, gate.Invalid("outcome", fmt.Sprintf("outcome is %q", q.Outcome), "done, refused"))
		return
	}
	for name, to := range map[string]*time.Time{"since": &q.Since, "until": &q.Until} {
		if text := c.Query(name); text != "" {
			var err error
			if *to, err = time.Parse(time.RFC3339, text); err != nil {
				gate.WriteProblem(c, gate.Invalid(name, fmt.Sprintf("%s is %q", name, text), "a time such as 2026-11-23T08:00:00Z"))
				return
			}
		}
	}
	rows, err := logbook.Entries(c, s.Node.Catalog, q)
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
		if n := len(p.Items); n > 0 && r.Action == services.SignsIn {
			if last := &p.Items[n-1]; last.Action == r.Action && last.Who == r.Who && last.Outcome == r.Outcome {
				last.Times++
				continue
			}
		}
		p.Items = append(p.Items, gate.LogbookEntry(c, &r))
	}
	c.JSON(http.StatusOK, p)
}
