// Package api is the HTTP interface of a node: it checks who asks, reads
// requests, calls the node and writes answers. openapi.yaml describes it.
package api

import (
	"context"
	_ "embed"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"maps"
	"math"
	"net/http"
	"os"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/goccy/go-yaml"
	"golang.org/x/sync/semaphore"

	"steadyferry/internal/core/address"
	"steadyferry/internal/core/admit"
	"steadyferry/internal/core/cloudevent"
	"steadyferry/internal/core/expr"
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/strict"
	"steadyferry/internal/core/words"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/service"
)

//go:embed openapi.yaml
var openAPI []byte

// Version of the service.
const Version = "0.1.0"

// Server answers HTTP requests for a node.
type Server struct {
	node     *service.Services
	console  http.Handler
	stopping chan struct{}
	openapi  []byte // as JSON
	queries  map[operation]map[string]string
	names    []string // hosts that are this node
	origin   *http.CrossOriginProtection
	wrong    *admit.Rates        // secrets that are not in force, by address
	signIns  *admit.Rates        // by principal
	fetching *semaphore.Weighted // bytes of fetch buffers in use
	encoding *semaphore.Weighted // of those who turn large answers into JSON

	snapMu sync.Mutex
	snap   form.Live
	snapAt time.Time
}

// fetchBytes is how many bytes of fetch answers are in memory at once.
const fetchBytes = 64 << 20

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
	return &Server{node: n, console: console, stopping: make(chan struct{}), openapi: asJSON, queries: queriesOf(document), names: names, origin: http.NewCrossOriginProtection(),
		wrong: admit.NewRates("secrets that are not in force", wrongBurst, wrongEvery), signIns: admit.NewRates("sign-ins", signInBurst, signInEvery),
		fetching: semaphore.NewWeighted(fetchBytes), encoding: semaphore.NewWeighted(int64(max(1, runtime.GOMAXPROCS(0)-1)))}, nil
}

// Stop ends the streams that would otherwise stay open.
func (s *Server) Stop() { close(s.stopping) }

// WriteTimeout is how long an answer may take from the request on, unless it is
// a stream, or the request took long to come.
const WriteTimeout = maxWait + requestTimeout + answerTime

// Limits of time of one request.
const (
	requestTimeout = 30 * time.Second
	maxWait        = 30 * time.Second
	bodyStall      = 20 * time.Second // a body that brings nothing for so long is given up
	answerTime     = 30 * time.Second // for an answer to be taken
	maxJSON        = 1 << 20          // bytes of a JSON request that is not a message
)

// Handler returns the handler for all paths.
func (s *Server) Handler() http.Handler {
	gin.SetMode(gin.ReleaseMode)
	r := gin.New()
	r.HandleMethodNotAllowed = true
	r.UseRawPath = true
	r.ContextWithFallback = true
	// The address that counts is that of the connection: what a header says of
	// it anybody can write.
	if err := r.SetTrustedProxies(nil); err != nil {
		panic(err) // none
	}
	r.Use(s.recover, securityHeaders, s.knownHost, s.knownQuery)
	r.GET("/healthz", func(c *gin.Context) { c.JSON(http.StatusOK, gin.H{"up": true}) })
	r.GET("/readyz", s.ready)
	r.GET("/metrics", s.authenticate, s.metrics)

	v1 := r.Group("/api/v1")
	v1.POST("/session", s.sameOrigin, s.signIn)
	a := v1.Group("", s.authenticate, s.sameOrigin)
	stream, search := within(s.node.Streams), within(s.node.Searches)
	a.GET("/session", s.session)
	a.DELETE("/session", s.signOut)
	a.POST("/links", s.newLink)
	s.secretRoutes(a)
	a.GET("/openapi.json", func(c *gin.Context) { c.Data(http.StatusOK, "application/json", s.openapi) })
	a.GET("/status", s.status)
	a.GET("/live", stream, s.live)
	a.GET("/lookup", s.lookup)
	a.GET("/conditions/check", search, s.checkCondition)
	a.GET("/logbook", s.logbook)

	a.GET("/lag", s.lag)
	a.GET("/trace", search, s.traceID)

	a.GET("/replays", s.listReplays)
	a.POST("/replays", search, s.newReplay)
	a.GET("/replays/:replay", s.showReplay)
	a.PATCH("/replays/:replay", s.setReplay)

	a.GET("/nodes", s.listNodes)
	a.GET("/nodes/changes", s.leaderChanges)
	a.GET("/nodes/what-if", s.whatIf)
	a.POST("/nodes/recover", s.forceRecover)
	a.PUT("/nodes/spread", s.setSpread)
	a.POST("/nodes/:node/drain", s.drainNode)
	a.DELETE("/nodes/:node", s.removeNode)
	a.POST("/moves", s.movePartition)
	a.GET("/set-aside", s.listSetAside)
	a.POST("/set-aside/:id/adopt", s.adopt)
	a.DELETE("/set-aside/:id", s.throwAway)
	a.GET("/jobs", s.listJobs)
	a.POST("/jobs/:job/cancel", s.cancelJob)

	a.GET("/settings", s.listSettings)
	a.GET("/spaces", s.listSpaces)
	a.POST("/spaces", s.newSpace)
	a.GET("/spaces/:space", s.showSpace)
	a.PATCH("/spaces/:space", s.setSpace)
	a.DELETE("/spaces/:space", s.removeSpace)

	a.GET("/channels", s.listChannels)
	a.POST("/channels", s.newChannel)
	ch := a.Group("/channels/:space/:channel")
	ch.GET("", s.showChannel)
	ch.PATCH("", s.setChannel)
	ch.DELETE("", s.removeChannel)
	ch.POST("/restore", s.restoreChannel)
	ch.GET("/rates", s.rates)
	ch.GET("/verify", search, s.verify)
	ch.POST("/messages", s.publish)
	ch.GET("/publish", stream, s.publishStream)
	s.queueRoutes(ch, stream, search)
	ch.GET("/messages", search, s.browse)
	ch.GET("/tail", stream, s.tail)
	ch.GET("/export", search, s.export)
	s.groupRoutes(ch)
	ch.GET("/partitions/:partition/records", s.fetch)
	ch.GET("/partitions/:partition/messages/:offset", s.message)

	r.NoMethod(func(c *gin.Context) {
		writeProblem(c, &form.Problem{Status: http.StatusMethodNotAllowed, Title: "Method not allowed", Detail: c.Request.Method + " is not possible here"})
	})
	r.NoRoute(func(c *gin.Context) {
		if strings.HasPrefix(c.Request.URL.Path, "/api/") {
			writeProblem(c, &form.Problem{Status: http.StatusNotFound, Title: "Not found", Detail: "there is no " + c.Request.URL.Path, Next: "GET /api/v1/openapi.json lists what there is"})
			return
		}
		c.Status(http.StatusOK) // Gin begins with 404 here
		s.console.ServeHTTP(c.Writer, c.Request)
	})
	return compressed(r)
}

// within lets a caller begin something for which there are so many slots.
func within(slots *admit.Slots) gin.HandlerFunc {
	return func(c *gin.Context) {
		leave, err := slots.Enter(who(c))
		if refuse(c, err) {
			return
		}
		defer leave()
		c.Next()
	}
}

func (s *Server) recover(c *gin.Context) {
	defer func() {
		if v := recover(); v != nil {
			if v == http.ErrAbortHandler {
				panic(v)
			}
			stack := make([]byte, 8<<10)
			slog.Error("a request failed unexpectedly", "path", c.FullPath(), "panic", fmt.Sprint(v), "stack", string(stack[:runtime.Stack(stack, false)]))
			writeProblem(c, &form.Problem{Status: http.StatusInternalServerError, Title: "Internal error", Detail: "the service made a mistake; its log tells more"})
		}
	}()
	c.Next()
}

// Values of headers that every answer has, made once: at one message a
// request they would be a good part of the work.
var (
	nosniff    = []string{"nosniff"}
	noReferrer = []string{"no-referrer"}
	noStore    = []string{"no-store"}
	jsonType   = []string{"application/json"}
	noContent  = []string{"default-src 'none'; frame-ancestors 'none'"}
	sameOrigin = []string{"same-origin"}
)

func securityHeaders(c *gin.Context) {
	h := c.Writer.Header()
	h["X-Content-Type-Options"] = nosniff
	h["Cross-Origin-Resource-Policy"] = sameOrigin
	if strings.HasPrefix(c.Request.URL.Path, "/api/") {
		h["Cache-Control"] = noStore
		h["Content-Security-Policy"] = noContent
	} else {
		h["Referrer-Policy"] = noReferrer
		h["Cross-Origin-Opener-Policy"] = sameOrigin
	}
	c.Next()
}

var statusOf = map[problem.Kind]int{
	problem.Invalid: http.StatusBadRequest, problem.NotFound: http.StatusNotFound, problem.Conflict: http.StatusConflict,
	problem.Paused: http.StatusConflict, problem.TooLarge: http.StatusRequestEntityTooLarge, problem.DiskFull: http.StatusInsufficientStorage,
	problem.RecordsAway: http.StatusServiceUnavailable, problem.Unavailable: http.StatusServiceUnavailable, problem.NoMajority: http.StatusServiceUnavailable, problem.Gone: http.StatusGone,
	problem.Damaged: http.StatusUnprocessableEntity, problem.NoMember: http.StatusConflict, problem.NotHeld: http.StatusConflict, problem.OldGeneration: http.StatusConflict,
	problem.NotYet: http.StatusNotImplemented,
}

var titleOf = map[problem.Kind]string{
	problem.Invalid: "Something in the request is wrong", problem.NotFound: "It does not exist", problem.Conflict: "It does not go with what is there",
	problem.Paused: "The channel is paused", problem.TooLarge: "It is too large", problem.DiskFull: "The disk is full",
	problem.RecordsAway: "The records are away", problem.Unavailable: "It cannot be served now", problem.NoMajority: "Too few replicas answer", problem.Gone: "Retention has passed it",
	problem.Damaged: "It is damaged on disk", problem.NoMember: "The group has no such member", problem.NotHeld: "The member does not hold the partition",
	problem.OldGeneration: "The share is another one now", problem.NotYet: "It is not there yet",
}

// problemOf turns any error into what the client is told.
func problemOf(err error) *form.Problem {
	var p *form.Problem
	if errors.As(err, &p) {
		return p
	}
	var np *problem.Problem
	if errors.As(err, &np) {
		return &form.Problem{Type: "urn:steady-ferry:problem:" + string(np.Kind), Title: titleOf[np.Kind], Status: statusOf[np.Kind],
			Detail: np.Detail, Field: np.Of, Allowed: np.Range, Next: np.Then}
	}
	var full *admit.Full
	if errors.As(err, &full) {
		p := &form.Problem{Type: "urn:steady-ferry:problem:busy", Title: "Too much at once", Status: http.StatusTooManyRequests, Detail: full.Error(),
			RetryAfter: int(math.Ceil(full.Retry.Seconds()))}
		p.Next = fmt.Sprintf("try again in %ds", p.RetryAfter)
		return p
	}
	var ce *expr.Error
	if errors.As(err, &ce) {
		return &form.Problem{Type: "urn:steady-ferry:problem:condition", Title: "The condition does not compile", Status: http.StatusBadRequest,
			Detail: fmt.Sprintf("condition, column %d: %s", ce.Column, ce.Problem), Field: "where", Column: ce.Column, Next: ce.Hint}
	}
	var ev *cloudevent.Error
	if errors.As(err, &ev) {
		return invalid(ev.Field, err.Error(), ev.Allowed)
	}
	var ae *address.Error
	if errors.As(err, &ae) {
		return &form.Problem{Type: "urn:steady-ferry:problem:invalid", Title: titleOf[problem.Invalid], Status: http.StatusBadRequest,
			Detail: fmt.Sprintf("%q: %s", ae.Text, ae.Problem), Allowed: ae.Allowed}
	}
	if errors.Is(err, catalog.ErrAway) {
		return &form.Problem{Type: "urn:steady-ferry:problem:records-away", Title: titleOf[problem.RecordsAway], Status: http.StatusServiceUnavailable,
			Detail: catalog.ErrAway.Error(), Next: "publishing and reading go on; try again when it is back"}
	}
	if errors.Is(err, context.DeadlineExceeded) || errors.Is(err, os.ErrDeadlineExceeded) {
		return &form.Problem{Status: http.StatusRequestTimeout, Title: "Time is up", Detail: "the request took longer than it may", Next: "try again"}
	}
	if errors.Is(err, context.Canceled) || errors.Is(err, io.ErrUnexpectedEOF) {
		return &form.Problem{Status: http.StatusBadRequest, Title: "The request ended early", Detail: "the request was cut off"}
	}
	slog.Error("a request failed", "error", err)
	return &form.Problem{Status: http.StatusInternalServerError, Title: "Internal error", Detail: "the service could not do it; its log tells why"}
}

func writeProblem(c *gin.Context, p *form.Problem) {
	c.Abort()
	if c.Writer.Written() {
		return
	}
	if p.Type == "" {
		p.Type = "about:blank"
	}
	b, err := json.Marshal(p)
	if err != nil {
		panic(err) // plain fields
	}
	c.Writer.Header().Set("Content-Type", form.ProblemType) // a stream may have set its own
	if p.RetryAfter > 0 {
		c.Writer.Header().Set("Retry-After", strconv.Itoa(p.RetryAfter))
	}
	c.Data(p.Status, form.ProblemType, b)
}

// refuse answers with an error; it reports whether there was one.
func refuse(c *gin.Context, err error) bool {
	if err == nil {
		return false
	}
	writeProblem(c, problemOf(err))
	return true
}

func invalid(field, detail, allowed string) *form.Problem {
	return &form.Problem{Type: "urn:steady-ferry:problem:invalid", Title: titleOf[problem.Invalid], Status: http.StatusBadRequest, Detail: detail, Field: field, Allowed: allowed}
}

func (s *Server) ready(c *gin.Context) {
	if !s.node.Parts.Serving() {
		writeProblem(c, &form.Problem{Status: http.StatusServiceUnavailable, Title: "Not ready", Detail: "the node is stopping"})
		return
	}
	if p := s.node.Parts.Starting(); p != "" {
		writeProblem(c, &form.Problem{Status: http.StatusServiceUnavailable, Title: "Not ready", Detail: p + " is starting"})
		return
	}
	refusing, leads := s.node.Parts.Refusing()
	if len(refusing) == 0 {
		c.JSON(http.StatusOK, gin.H{"ready": true})
		return
	}
	p := &form.Problem{Type: "urn:steady-ferry:problem:refusing", Status: http.StatusServiceUnavailable, Title: "Not ready",
		Next: "ferry status and ferry nodes tell more; with a token this answer names them"}
	count, states := 0, []string{}
	for _, state := range slices.Sorted(maps.Keys(refusing)) {
		count += len(refusing[state])
		states = append(states, fmt.Sprintf("%d %s", len(refusing[state]), state))
	}
	p.Detail = fmt.Sprintf("%d of the %s that this node leads take nothing: %s", count, words.Many(leads, "partition"), strings.Join(states, ", "))
	// Names of channels are for those who may get in.
	if _, ok := s.principal(c); ok {
		p.Partitions = refusing
	}
	writeProblem(c, p)
}

// readJSON reads a small JSON body, refusing fields that do not exist.
func readJSON(c *gin.Context, into any) bool {
	data, err := io.ReadAll(http.MaxBytesReader(c.Writer, c.Request.Body, maxJSON))
	if err == nil {
		err = strict.Unmarshal(data, into)
	}
	if errors.As(err, new(*http.MaxBytesError)) {
		return !refuse(c, tooLarge(maxJSON))
	}
	if err != nil {
		writeProblem(c, invalid("", "the body is not the JSON that is expected: "+err.Error(), "see /api/v1/openapi.json"))
		return false
	}
	return true
}
