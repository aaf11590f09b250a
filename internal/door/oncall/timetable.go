package oncall

import (
	"fmt"
	"net/http"
	"strconv"

	"github.com/gin-gonic/gin"

	"steadyferry/internal/core/address"
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/door/gate"
	"steadyferry/internal/engine/catalog"
)

// timetableRoutes are the paths of chores and their runs.
func (s *OnCall) timetableRoutes(a *gin.RouterGroup, search gin.HandlerFunc) {
	a.GET("/chores", s.listChores)
	a.GET("/chore-acts", func(c *gin.Context) { c.JSON(http.StatusOK, gin.H{"acts": s.Node.Timetable.Acts()}) })
	a.POST("/chores", search, s.newChore)
	c := a.Group("/chores/:space/:chore")
	c.GET("", search, s.showChore)
	c.PATCH("", s.setChore)
	c.DELETE("", s.removeChore)
	c.GET("/runs", s.listRuns)
	c.POST("/runs", s.startRun)
	a.GET("/runs/:run", s.showRun)
	a.PATCH("/runs/:run", s.setRun)
}

func (s *OnCall) listChores(c *gin.Context) {
	all, err := s.Node.Timetable.List(c, c.Query("space"))
	if !gate.Refuse(c, err) {
		gate.Page(c, all, func(one form.Chore) string { return one.Address }, func(one form.Chore) form.Chore { return one })
	}
}

func (s *OnCall) newChore(c *gin.Context) {
	var at string
	settings, ok := gate.ReadSettings(c, setting.Chores, gate.Others{"address": &at})
	if !ok {
		return
	}
	a, err := address.ParseChannel(at)
	if gate.Refuse(c, err) {
		return
	}
	preview := gate.BoolQuery(c, "preview")
	out, err := s.Node.Timetable.New(c, gate.Who(c), a, settings, preview)
	if gate.Refuse(c, err) {
		return
	}
	status := http.StatusCreated
	if preview {
		status = http.StatusOK
	}
	c.JSON(status, out)
}

func choreAt(c *gin.Context) (address.Address, error) {
	return address.ParseChannel(c.Param("space") + "/" + c.Param("chore"))
}

// chore is that in the path; without true it has answered.
func (s *OnCall) chore(c *gin.Context) (*catalog.Chore, bool) {
	a, err := choreAt(c)
	if gate.Refuse(c, err) {
		return nil, false
	}
	one, err := s.Node.Timetable.Of(c, a)
	return one, !gate.Refuse(c, err)
}

func (s *OnCall) showChore(c *gin.Context) {
	one, ok := s.chore(c)
	if !ok {
		return
	}
	out, err := s.Node.Timetable.Show(c, one)
	if gate.Refuse(c, err) {
		return
	}
	out.Declared = s.Node.Declares.Of(c, out.Address)
	c.JSON(http.StatusOK, out)
}

func (s *OnCall) setChore(c *gin.Context) {
	settings, ok := gate.ReadSettings(c, setting.Chores, nil)
	if !ok {
		return
	}
	a, err := choreAt(c)
	if gate.Refuse(c, err) {
		return
	}
	preview := gate.BoolQuery(c, "preview")
	p, err := s.Node.Timetable.Set(c, gate.Who(c), a, settings, preview)
	gate.AnswerPreview(c, p, err, preview)
}

func (s *OnCall) removeChore(c *gin.Context) {
	a, err := choreAt(c)
	if gate.Refuse(c, err) {
		return
	}
	preview := gate.BoolQuery(c, "preview")
	p, err := s.Node.Timetable.Remove(c, gate.Who(c), a, preview)
	gate.AnswerPreview(c, p, err, preview)
}

func (s *OnCall) listRuns(c *gin.Context) {
	limit, ok := gate.IntQuery(c, "limit", 50, 1, gate.MaxPage)
	if !ok {
		return
	}
	before, ok := gate.IntQuery(c, "cursor", 0, 0, 1<<62)
	if !ok {
		return
	}
	one, ok := s.chore(c)
	if !ok {
		return
	}
	all, err := s.Node.Timetable.Runs(c, one, int64(before), limit+1)
	if gate.Refuse(c, err) {
		return
	}
	p := form.Page[form.Run]{Items: all[:min(limit, len(all))]}
	if len(all) > limit {
		p.Next = strconv.FormatInt(all[limit-1].Run, 10)
	}
	c.JSON(http.StatusOK, p)
}

func (s *OnCall) startRun(c *gin.Context) {
	one, ok := s.chore(c)
	if !ok {
		return
	}
	r, err := s.Node.Timetable.Start(c, gate.Who(c), one)
	if !gate.Refuse(c, err) {
		c.JSON(http.StatusCreated, r)
	}
}

func (s *OnCall) showRun(c *gin.Context) {
	n, ok := gate.NumberParam(c, "run")
	if !ok {
		return
	}
	r, err := s.Node.Timetable.RunOf(c, n)
	if !gate.Refuse(c, err) {
		c.JSON(http.StatusOK, r)
	}
}

func (s *OnCall) setRun(c *gin.Context) {
	n, ok := gate.NumberParam(c, "run")
	var in form.RunChange
	if !ok || !gate.ReadJSON(c, &in) {
		return
	}
	if in.State != "cancelled" {
		gate.WriteProblem(c, gate.Invalid("state", fmt.Sprintf("state is %q", in.State), "cancelled"))
		return
	}
	r, err := s.Node.Timetable.Cancel(c, gate.Who(c), n)
	if !gate.Refuse(c, err) {
		c.JSON(http.StatusOK, r)
	}
}
