package api

import (
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/endpoint"
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/door/gate"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/ledger"
	"steadyferry/internal/service/endpoints"
)

// endpointRoutes are the paths of places outside.
func (s *Server) endpointRoutes(a *gin.RouterGroup) {
	a.GET("/endpoints", s.listEndpoints)
	a.POST("/endpoints", s.newEndpoint)
	e := a.Group("/endpoints/:space/:channel")
	e.GET("", s.showEndpoint)
	e.PATCH("", s.setEndpoint)
	e.DELETE("", s.removeEndpoint)
	e.POST("/trials", s.tryEndpoint)
	e.POST("/table", s.makeTable)
	a.GET("/events", s.listEvents)
}

// endpointJSON describes an endpoint, with what all nodes know of it.
func (s *Server) endpointJSON(e *catalog.Endpoint, h *endpoints.Here) form.Endpoint {
	secrets, locked := s.Node.Endpoints.SecretNames(e)
	out := form.Endpoint{Address: e.Address(), Kind: e.Kind(), URL: e.URL, Description: e.Description, Paused: e.Paused, CreatedAt: e.CreatedAt.UTC(), Revision: e.Revision,
		Secrets: secrets, Settings: setting.Endpoints.Show(&e.Endpoint, e.Kind()), Routes: s.Node.Catalog.View().RoutesTo(e.ID),
		FailingSince: timeOrNull(h.Health.FailingSince), LastGood: timeOrNull(h.Health.LastGood), NextTry: timeOrNull(h.Health.NextTry), Rate: rounded(h.Rate),
		CertificateEnds: timeOrNull(s.Node.Endpoints.CertificateEnds(e, h.Health)),
		Delivered:       h.Delivered, Failed: h.Failed, Refused: h.Refused}
	if out.Routes == nil {
		out.Routes = []string{}
	}
	out.State, out.Severity, out.Verdict = endpoint.State(&h.Health, e.Paused, locked, h.Rate, time.Now())
	for i := range h.Answers {
		out.Answers = append(out.Answers, answerJSON(&h.Answers[i]))
	}
	return out
}

func timeOrNull(t time.Time) *time.Time {
	if t.IsZero() {
		return nil
	}
	t = t.UTC()
	return &t
}

func answerJSON(a *endpoint.Answer) form.EndpointAnswer {
	return form.EndpointAnswer{At: a.At.UTC(), Status: a.Status, Says: a.Says(), Took: a.Took.Seconds(), Verdict: a.Means.String()}
}

// endpointsJSON lists the endpoints of a space, or of all.
func (s *Server) endpointsJSON(space string) []form.Endpoint {
	healths := s.Node.Endpoints.Healths()
	all := []form.Endpoint{}
	for _, e := range s.Node.Catalog.View().Endpoints {
		if space == "" || e.Space == space {
			all = append(all, s.endpointJSON(e, &endpoints.Here{Health: healths[e.ID]}))
		}
	}
	slices.SortFunc(all, func(a, b form.Endpoint) int { return strings.Compare(a.Address, b.Address) })
	return all
}

func (s *Server) listEndpoints(c *gin.Context) {
	gate.Page(c, access.Only(c, access.SeeCounts, s.endpointsJSON(c.Query("space")), func(e form.Endpoint) string { return e.Address }), func(e form.Endpoint) string { return e.Address }, func(e form.Endpoint) form.Endpoint { return e })
}

func (s *Server) newEndpoint(c *gin.Context) {
	var in struct {
		address string
		secrets map[string]string
	}
	settings, ok := gate.ReadSettings(c, setting.Endpoints, gate.Others{"address": &in.address, "secrets": &in.secrets})
	if !ok {
		return
	}
	a, err := address.ParseChannel(in.address)
	if gate.Refuse(c, err) {
		return
	}
	if _, err := s.Node.Endpoints.New(c, gate.Who(c), a, settings, in.secrets); !gate.Refuse(c, err) {
		s.answerEndpoint(c, a, http.StatusCreated)
	}
}

func (s *Server) answerEndpoint(c *gin.Context, a address.Address, status int) {
	e, err := s.Node.Endpoints.Of(c, a)
	if gate.Refuse(c, err) {
		return
	}
	h := s.Node.Endpoints.Status(c, e.ID)
	out := s.endpointJSON(e, &h)
	out.Declared = s.Node.Declares.Of(c, a.String())
	c.JSON(status, out)
}

func (s *Server) showEndpoint(c *gin.Context) {
	a, err := gate.ChannelAddress(c)
	if !gate.Refuse(c, err) {
		s.answerEndpoint(c, a, http.StatusOK)
	}
}

func (s *Server) setEndpoint(c *gin.Context) {
	var given map[string]string
	settings, ok := gate.ReadSettings(c, setting.Endpoints, gate.Others{"secrets": &given})
	if !ok {
		return
	}
	a, err := gate.ChannelAddress(c)
	if gate.Refuse(c, err) {
		return
	}
	preview := gate.BoolQuery(c, "preview")
	p, err := s.Node.Endpoints.Set(c, gate.Who(c), a, settings, given, preview)
	gate.AnswerPreview(c, p, err, preview)
}

func (s *Server) removeEndpoint(c *gin.Context) {
	a, err := gate.ChannelAddress(c)
	if gate.Refuse(c, err) {
		return
	}
	preview := gate.BoolQuery(c, "preview")
	p, err := s.Node.Endpoints.Remove(c, gate.Who(c), a, preview)
	gate.AnswerPreview(c, p, err, preview)
}

// tryEndpoint sends one message that says that it is a trial.
func (s *Server) tryEndpoint(c *gin.Context) {
	a, err := gate.ChannelAddress(c)
	if gate.Refuse(c, err) {
		return
	}
	answer, err := s.Node.Endpoints.Try(c, gate.Who(c), a)
	if !gate.Refuse(c, err) {
		c.JSON(http.StatusOK, answerJSON(answer))
	}
}

// makeTable makes the table of an endpoint, or only shows the statements that do.
func (s *Server) makeTable(c *gin.Context) {
	a, err := gate.ChannelAddress(c)
	if gate.Refuse(c, err) {
		return
	}
	preview := gate.BoolQuery(c, "preview")
	all, err := s.Node.Endpoints.Statements(c, gate.Who(c), a, !preview)
	if gate.Refuse(c, err) {
		return
	}
	if all == nil {
		all = []string{}
	}
	c.JSON(http.StatusOK, form.TableStatements{Statements: all, Done: !preview && len(all) > 0})
}

// listEvents lists what happened to an endpoint or a route, the newest first.
func (s *Server) listEvents(c *gin.Context) {
	limit, ok := gate.IntQuery(c, "limit", 50, 1, gate.MaxPage)
	if !ok {
		return
	}
	before := int64(0)
	if text := c.Query("cursor"); text != "" {
		if _, err := fmt.Sscan(text, &before); err != nil || before < 1 {
			gate.WriteProblem(c, gate.Invalid("cursor", fmt.Sprintf("cursor is %q", text), "what a page before has as next"))
			return
		}
	}
	a, err := address.Parse(c.Query("address"))
	if gate.Refuse(c, err) || gate.Refuse(c, access.Check(c, access.SeeCounts, a.String())) {
		return
	}
	rows, err := ledger.Of(s.Node.Catalog).Events(c, a.String(), before, limit)
	if gate.Refuse(c, err) {
		return
	}
	p := form.Page[form.HappenedAt]{Items: []form.HappenedAt{}}
	for _, r := range rows {
		p.Items = append(p.Items, form.HappenedAt{Number: r.ID, At: r.At.UTC(), Event: r.What, Detail: r.Detail})
	}
	if len(rows) == limit {
		p.Next = fmt.Sprint(rows[len(rows)-1].ID)
	}
	c.JSON(http.StatusOK, p)
}
