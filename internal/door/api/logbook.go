package api

import (
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/form"
	"steadyferry/internal/door/gate"
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
	q, ok := entriesAsked(c)
	if !ok {
		return
	}
	q.Before, q.Limit = int64(before), limit+1
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
		undo := s.Node.Declares.HasWayBack(&r)
		p.Items = append(p.Items, gate.LogbookEntry(c, &r))
		p.Items[len(p.Items)-1].Undo = undo
	}
	c.JSON(http.StatusOK, p)
}

// entriesAsked is which entries a request means.
func entriesAsked(c *gin.Context) (q logbook.Asked, ok bool) {
	q = logbook.Asked{Who: c.Query("who"), Address: c.Query("address"), Action: c.Query("action"), Outcome: c.Query("outcome")}
	if q.Outcome != "" && !slices.Contains(logbook.Outcomes, q.Outcome) {
		gate.WriteProblem(c, gate.Invalid("outcome", fmt.Sprintf("outcome is %q", q.Outcome), strings.Join(logbook.Outcomes, ", ")))
		return q, false
	}
	for name, to := range map[string]*time.Time{"since": &q.Since, "until": &q.Until} {
		if text := c.Query(name); text != "" {
			var err error
			if *to, err = time.Parse(time.RFC3339, text); err != nil {
				gate.WriteProblem(c, gate.Invalid(name, fmt.Sprintf("%s is %q", name, text), "a time such as 2026-11-23T08:00:00Z"))
				return q, false
			}
		}
	}
	return q, true
}

// undoEntry takes back what an entry tells, or only previews that.
func (s *Server) undoEntry(c *gin.Context) {
	id, ok := gate.NumberParam(c, "entry")
	if !ok {
		return
	}
	preview := gate.BoolQuery(c, "preview")
	p, err := s.Node.Declares.Undo(c, gate.Who(c), id, preview)
	gate.AnswerPreview(c, p, err, preview)
}

// linesPage is how many entries of a file are read at once.
const linesPage = 1000

// logbookLines answers with all entries that are meant, an entry a line. What breaks off in the
// middle breaks the connection off, so that no part passes for the whole.
func (s *Server) logbookLines(c *gin.Context) {
	q, ok := entriesAsked(c)
	if !ok {
		return
	}
	ctx, cancel := s.StreamContext(c)
	defer cancel()
	q.Limit = linesPage
	var w *gate.LineWriter
	for {
		rows, err := logbook.Entries(ctx, s.Node.Catalog, q)
		if err != nil && w != nil {
			panic(http.ErrAbortHandler)
		}
		if gate.Refuse(c, err) {
			return
		}
		if w == nil {
			c.Header("Content-Disposition", fmt.Sprintf(`attachment; filename="logbook-%s.ndjson"`, time.Now().UTC().Format("20060102T150405")))
			w = s.NewLineWriter(c, form.NDJSONType, time.Minute)
		}
		for i := range rows {
			if access.May(c, access.Logbook, rows[i].Address) {
				if w.Write(gate.LogbookEntry(c, &rows[i]), 0) != nil {
					return
				}
			}
		}
		if len(rows) < linesPage {
			w.Flush()
			return
		}
		q.Before = rows[len(rows)-1].ID
	}
}
