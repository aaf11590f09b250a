// Package oncall is what the engineer on call works with over HTTP: watches and what they
// found.
package oncall

import (
	"context"
	"fmt"
	"net/http"
	"strconv"
	"time"

	"github.com/gin-gonic/gin"

	"steadyferry/internal/core/address"
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/core/watch"
	"steadyferry/internal/door/gate"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/ledger"
	"steadyferry/internal/engine/logbook"
)

// OnCall is that of one node. It may be used at once by many.
type OnCall struct{ *gate.Gate }

// New returns the door behind a gate.
func New(g *gate.Gate) *OnCall { return &OnCall{g} }

// Routes adds its paths; search bounds how many trials one caller has at once.
func (s *OnCall) Routes(a *gin.RouterGroup, search gin.HandlerFunc) {
	a.GET("/watches", s.listWatches)
	a.POST("/watches", s.newWatch)
	a.POST("/watches/trials", search, s.tryWatch)
	a.GET("/watch-values", s.listValues)
	w := a.Group("/watches/:space/:watch")
	w.GET("", s.showWatch)
	w.PATCH("", s.setWatch)
	w.DELETE("", s.removeWatch)
	w.POST("/notice-trials", s.tryTelling)
	s.timetableRoutes(a, search)
	a.GET("/chart", search, s.chart)
	a.GET("/outlook", search, s.outlook)
	a.GET("/reports/:space", search, s.report)
	a.GET("/incidents", s.listIncidents)
	a.GET("/incidents/:incident", s.showIncident)
	a.POST("/incidents/:incident/notes", s.sayOfIncident)
}

func (s *OnCall) listWatches(c *gin.Context) {
	all, err := s.Node.Watches.List(c, c.Query("space"))
	if !gate.Refuse(c, err) {
		gate.Page(c, all, func(w form.Watch) string { return w.Address }, func(w form.Watch) form.Watch { return w })
	}
}

// listValues tells what can be watched.
func (s *OnCall) listValues(c *gin.Context) {
	all := []form.WatchValue{}
	for i := range watch.Values {
		v := &watch.Values[i]
		all = append(all, form.WatchValue{Name: v.Name, Unit: v.Unit(), Below: v.Below, Kinds: v.Kinds(), Help: v.Help})
	}
	c.JSON(http.StatusOK, gin.H{"values": all})
}

// readWatch reads a request with the address and the settings of a watch. Without true it has
// answered.
func readWatch(c *gin.Context) (a address.Address, settings setting.Change, ok bool) {
	var at string
	if settings, ok = gate.ReadSettings(c, setting.Watches, gate.Others{"address": &at}); !ok {
		return a, nil, false
	}
	a, err := address.ParseChannel(at)
	return a, settings, !gate.Refuse(c, err)
}

func (s *OnCall) newWatch(c *gin.Context) {
	a, settings, ok := readWatch(c)
	if !ok {
		return
	}
	w, err := s.Node.Watches.New(c, gate.Who(c), a, settings)
	if !gate.Refuse(c, err) {
		s.answer(c, w, http.StatusCreated)
	}
}

func (s *OnCall) answer(c *gin.Context, w *catalog.Watch, status int) {
	out, err := s.Node.Watches.Show(c, w)
	if gate.Refuse(c, err) {
		return
	}
	out.Declared = s.Node.Declares.Of(c, out.Address)
	c.JSON(status, out)
}

// watchAt is the address in the path.
func watchAt(c *gin.Context) (address.Address, error) {
	return address.ParseChannel(c.Param("space") + "/" + c.Param("watch"))
}

func (s *OnCall) showWatch(c *gin.Context) {
	a, err := watchAt(c)
	if gate.Refuse(c, err) {
		return
	}
	w, err := s.Node.Watches.Of(c, a)
	if !gate.Refuse(c, err) {
		s.answer(c, w, http.StatusOK)
	}
}

func (s *OnCall) setWatch(c *gin.Context) {
	settings, ok := gate.ReadSettings(c, setting.Watches, nil)
	if !ok {
		return
	}
	a, err := watchAt(c)
	if gate.Refuse(c, err) {
		return
	}
	preview := gate.BoolQuery(c, "preview")
	p, err := s.Node.Watches.Set(c, gate.Who(c), a, settings, preview)
	gate.AnswerPreview(c, p, err, preview)
}

func (s *OnCall) removeWatch(c *gin.Context) {
	a, err := watchAt(c)
	if gate.Refuse(c, err) {
		return
	}
	preview := gate.BoolQuery(c, "preview")
	p, err := s.Node.Watches.Remove(c, gate.Who(c), a, preview)
	gate.AnswerPreview(c, p, err, preview)
}

// tryTelling sends a notice that says that it is a trial to all that a watch tells.
func (s *OnCall) tryTelling(c *gin.Context) {
	a, err := watchAt(c)
	if gate.Refuse(c, err) {
		return
	}
	all, err := s.Node.Watches.TryTelling(c, a)
	if !gate.Refuse(c, err) {
		c.JSON(http.StatusOK, gin.H{"answers": all})
	}
}

// The past on which a watch is tried.
const (
	usualPast = 30 * 24 * time.Hour
	leastPast = 10 * time.Minute
)

// tryWatch says what a watch with the settings would have said of the past.
func (s *OnCall) tryWatch(c *gin.Context) {
	a, settings, ok := readWatch(c)
	if !ok {
		return
	}
	span := usualPast
	if text := c.Query("span"); text != "" {
		var err error
		if span, err = address.ParseDuration(text); err != nil || span < leastPast || span > usualPast {
			gate.WriteProblem(c, gate.Invalid("span", fmt.Sprintf("span is %q", text), "10m to 30d"))
			return
		}
	}
	t, err := s.Node.Watches.CheckedTrial(c, a, settings, span)
	if !gate.Refuse(c, err) {
		c.JSON(http.StatusOK, t)
	}
}

func (s *OnCall) listIncidents(c *gin.Context) {
	limit, ok := gate.IntQuery(c, "limit", 100, 1, gate.MaxPage)
	if !ok {
		return
	}
	before, ok := gate.IntQuery(c, "cursor", 0, 0, 1<<62)
	if !ok {
		return
	}
	asked := ledger.IncidentsAsked{Open: gate.BoolQuery(c, "open"), Space: c.Query("space"), Watch: c.Query("watch"), Address: c.Query("address"), Before: int64(before), Limit: limit + 1}
	if text := c.Query("span"); text != "" {
		d, err := address.ParseDuration(text)
		if err != nil || d <= 0 {
			gate.WriteProblem(c, gate.Invalid("span", fmt.Sprintf("span is %q", text), "a duration, such as 7d"))
			return
		}
		asked.From = time.Now().Add(-d)
	}
	all, err := s.Node.Watches.Incidents(c, asked)
	if gate.Refuse(c, err) {
		return
	}
	p := form.Page[form.Incident]{Items: all[:min(limit, len(all))]}
	if len(all) > limit {
		p.Next = strconv.FormatInt(all[limit-1].Number, 10)
	}
	c.JSON(http.StatusOK, p)
}

// number is that of the incident in the path.
func number(c *gin.Context) (int64, bool) {
	n, err := strconv.ParseInt(c.Param("incident"), 10, 64)
	if err != nil || n < 1 {
		gate.WriteProblem(c, gate.Invalid("incident", fmt.Sprintf("the incident is %q", c.Param("incident")), "a number from 1"))
		return 0, false
	}
	return n, true
}

func (s *OnCall) showIncident(c *gin.Context) {
	if n, ok := number(c); ok {
		s.answerIncident(c, n)
	}
}

func (s *OnCall) answerIncident(c *gin.Context, n int64) {
	story, err := s.Node.Watches.Story(c, n)
	if gate.Refuse(c, err) {
		return
	}
	out := story.IncidentStory
	out.Before, out.During = entries(c, story.Before), entries(c, story.During)
	c.JSON(http.StatusOK, out)
}

func entries(ctx context.Context, rows []logbook.Row) []form.LogbookEntry {
	all := make([]form.LogbookEntry, len(rows))
	for i := range rows {
		all[i] = gate.LogbookEntry(ctx, &rows[i])
	}
	return all
}

func (s *OnCall) sayOfIncident(c *gin.Context) {
	n, ok := number(c)
	if !ok {
		return
	}
	var in form.IncidentSaying
	if !gate.ReadJSON(c, &in) {
		return
	}
	if !gate.Refuse(c, s.Node.Watches.Say(c, gate.Who(c), n, &in)) {
		s.answerIncident(c, n)
	}
}
