// Package api is the HTTP interface of a node: it checks who asks, reads
// requests, calls the node and writes answers. openapi.yaml describes it.
package api

import (
	_ "embed"
	"encoding/json"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strings"
	"sync"

	"github.com/gin-gonic/gin"
	"github.com/goccy/go-yaml"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/words"
	"steadyferry/internal/door/flow"
	"steadyferry/internal/door/gate"
	"steadyferry/internal/door/metrics"
	"steadyferry/internal/door/oncall"
	"steadyferry/internal/door/people"
	"steadyferry/internal/service"
)

//go:embed openapi.yaml
var openAPI []byte

// Version of the service.
const Version = "0.1.0"

// Server answers HTTP requests for a node.
type Server struct {
	*gate.Gate
	flow    *flow.Flow
	console http.Handler
	openapi []byte // as JSON

	snapMu sync.Mutex
	snap   *snapshot
}

// New returns a server; console serves everything that is not the API, and
// names are the hosts under which callers may reach it, besides IP addresses
// and localhost.
func New(n *service.Services, console http.Handler, names ...string) (*Server, error) {
	var document map[string]any
	if err := yaml.Unmarshal(openAPI, &document); err != nil {
		return nil, fmt.Errorf("openapi.yaml: %w", err)
	}
	asJSON, err := json.Marshal(document)
	if err != nil {
		return nil, fmt.Errorf("openapi.yaml: %w", err)
	}
	g, err := gate.New(n, document, names)
	if err != nil {
		return nil, fmt.Errorf("openapi.yaml: %w", err)
	}
	return &Server{Gate: g, flow: flow.New(g), console: console, openapi: asJSON}, nil
}

// Handler returns the handler for all paths.
func (s *Server) Handler() http.Handler {
	gin.SetMode(gin.ReleaseMode)
	r := gin.New()
	s.Gate.Handler = r
	r.HandleMethodNotAllowed = true
	r.UseRawPath = true
	r.ContextWithFallback = true
	// The address that counts is that of the connection: what a header says of
	// it anybody can write.
	if err := r.SetTrustedProxies(nil); err != nil {
		panic(err) // none
	}
	r.Use(s.Recover, s.NoteRefused, s.NoteRead, s.SecurityHeaders, s.KnownHost, s.KnownQuery)
	r.GET("/healthz", func(c *gin.Context) { c.JSON(http.StatusOK, gin.H{"up": true}) })
	r.GET("/readyz", s.ready)
	r.GET("/metrics", s.Authenticate, s.Allowed, gin.WrapH(metrics.Handler(s.Node)))

	v1 := r.Group("/api/v1")
	a := v1.Group("", s.Authenticate, s.Allowed, s.SameOrigin, s.Bounded)
	stream, search := s.Stream, gate.Within(s.Node.Searches)
	people.New(s.Gate).Routes(v1, a)
	a.GET("/openapi.json", func(c *gin.Context) { c.Data(http.StatusOK, "application/json", s.openapi) })
	a.GET("/status", s.status)
	a.GET("/live", stream, s.live)
	a.GET("/lookup", s.lookup)
	a.GET("/conditions/check", search, s.checkCondition)
	a.GET("/logbook", s.logbook)
	a.GET("/logbook/lines", stream, s.logbookLines)
	a.POST("/logbook/entries/:entry/undo", s.undoEntry)

	a.GET("/lag", s.lag)
	a.GET("/measured", s.measured)
	a.GET("/trace", search, s.traceID)

	a.GET("/replays", s.listReplays)
	a.POST("/replays", search, s.newReplay)
	a.GET("/replays/:replay", s.showReplay)
	a.PATCH("/replays/:replay", s.setReplay)

	a.GET("/servers", s.listServers)
	a.GET("/nodes", s.listNodes)
	a.GET("/nodes/changes", s.leaderChanges)
	a.GET("/nodes/what-if", s.whatIf)
	a.POST("/nodes/recover", s.forceRecover)
	a.PATCH("/nodes", s.setNodes)
	a.POST("/nodes/:node/drain", s.drainNode)
	a.DELETE("/nodes/:node", s.removeNode)
	a.POST("/moves", s.movePartition)
	a.GET("/set-aside", s.listSetAside)
	a.POST("/set-aside/:id/adopt", s.adopt)
	a.DELETE("/set-aside/:id", s.throwAway)
	a.GET("/jobs", s.listJobs)
	a.POST("/jobs/:job/cancel", s.cancelJob)

	a.GET("/settings", s.listSettings)
	s.declareRoutes(a, search)
	a.GET("/spaces", s.listSpaces)
	a.POST("/spaces", s.newSpace)
	a.GET("/spaces/:space", s.showSpace)
	a.PATCH("/spaces/:space", s.setSpace)
	a.DELETE("/spaces/:space", s.removeSpace)

	s.endpointRoutes(a)
	oncall.New(s.Gate).Routes(a, search)
	a.GET("/channels", s.listChannels)
	a.POST("/channels", s.newChannel)
	ch := a.Group("/channels/:space/:channel")
	ch.GET("", s.showChannel)
	ch.PATCH("", s.setChannel)
	ch.DELETE("", s.removeChannel)
	ch.POST("/restore", s.restoreChannel)
	ch.GET("/rates", s.rates)
	ch.GET("/verify", search, s.verify)
	s.groupRoutes(ch, search)
	ch.GET("/trace/:partition/:offset", search, s.trace)
	s.deadRoutes(ch, search)
	s.flow.Routes(ch, stream, search)

	r.NoMethod(func(c *gin.Context) {
		gate.WriteProblem(c, &form.Problem{Status: http.StatusMethodNotAllowed, Title: "Method not allowed", Detail: c.Request.Method + " is not possible here"})
	})
	r.NoRoute(func(c *gin.Context) {
		if strings.HasPrefix(c.Request.URL.Path, "/api/") {
			gate.WriteProblem(c, &form.Problem{Status: http.StatusNotFound, Title: "Not found", Detail: "there is no " + c.Request.URL.Path, Next: "GET /api/v1/openapi.json lists what there is"})
			return
		}
		c.Status(http.StatusOK) // Gin begins with 404 here
		s.console.ServeHTTP(c.Writer, c.Request)
	})
	return gate.Compressed(r)
}

func (s *Server) ready(c *gin.Context) {
	if !s.Node.Parts.Serving() {
		gate.WriteProblem(c, &form.Problem{Status: http.StatusServiceUnavailable, Title: "Not ready", Detail: "the node is stopping"})
		return
	}
	if p := s.Node.Parts.Starting(); p != "" {
		gate.WriteProblem(c, &form.Problem{Status: http.StatusServiceUnavailable, Title: "Not ready", Detail: p + " is starting"})
		return
	}
	refusing, leads := s.Node.Parts.Refusing()
	if len(refusing) == 0 {
		c.JSON(http.StatusOK, gin.H{"ready": true})
		return
	}
	p := &form.Problem{Type: "urn:steady-ferry:problem:refusing", Status: http.StatusServiceUnavailable, Title: "Not ready",
		Next: "ferry status and ferry nodes tell more; with a token this answer names them"}
	count, states := 0, []string{}
	for _, state := range slices.Sorted(maps.Keys(refusing)) {
		count += len(refusing[state])
		states = append(states, fmt.Sprintf("%d %s", len(refusing[state]), words.Of(state)))
	}
	p.Detail = fmt.Sprintf("%d of the %s that this node leads take nothing: %s", count, words.Many(leads, "partition"), strings.Join(states, ", "))
	// Names of channels are for those who may see how nodes do.
	if s.KnownMay(c, access.SeeCounts, address.Nodes) {
		p.Partitions = refusing
	}
	gate.WriteProblem(c, p)
}
