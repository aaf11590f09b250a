package gate

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/address"
	"steadyferry/internal/core/admit"
	"steadyferry/internal/core/expr"
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/engine/catalog"
)

// Whatever goes wrong is told with a status, a type, and what to do next where
// that is known; what nobody has expected is not told at all.
func TestErrorsAreTold(t *testing.T) {
	_, wrongAddress := address.Parse("coldchain//x")
	_, wrongCondition := expr.Compile("body.")
	for name, c := range map[string]struct {
		err    error
		status int
		told   form.Problem // of which each is a part
	}{
		"a problem":         {problem.New(problem.Conflict, "it moves").Field("to").Allowed("node-a").Next("wait"), 409, form.Problem{Type: "conflict", Detail: "it moves", Field: "to", Allowed: "node-a", Next: "wait"}},
		"one that is there": {&form.Problem{Status: 418, Detail: "as it is"}, 418, form.Problem{Detail: "as it is"}},
		"wrapped":           {fmt.Errorf("while it was made: %w", problem.New(problem.NotFound, "no such box")), 404, form.Problem{Type: "not-found", Detail: "no such box"}},
		"too much":          {&admit.Full{Retry: 1500 * time.Millisecond}, 429, form.Problem{Type: "busy", Next: "try again in 2s"}},
		"a condition":       {wrongCondition, 400, form.Problem{Type: "condition", Detail: "column", Field: "where"}},
		"an address":        {wrongAddress, 400, form.Problem{Type: "invalid", Detail: "coldchain//x"}},
		"no database":       {fmt.Errorf("%w: dial", catalog.ErrAway), 503, form.Problem{Type: "catalog-away", Next: "publishing and reading go on"}},
		"time":              {context.DeadlineExceeded, 408, form.Problem{Next: "try again"}},
		"a stalled body":    {os.ErrDeadlineExceeded, 408, form.Problem{Next: "try again"}},
		"cut off":           {io.ErrUnexpectedEOF, 400, form.Problem{Detail: "cut off"}},
		"nobody knows":      {errors.New("password=secret"), 500, form.Problem{Detail: "its log tells why"}},
	} {
		p := ProblemOf(c.err)
		assert.Equal(t, c.status, p.Status, name)
		assert.Contains(t, p.Type, c.told.Type, name)
		assert.Contains(t, p.Detail, c.told.Detail, name)
		assert.Contains(t, p.Field, c.told.Field, name)
		assert.Contains(t, p.Allowed, c.told.Allowed, name)
		assert.Contains(t, p.Next, c.told.Next, name)
		assert.NotContains(t, fmt.Sprint(*p), "secret", name)
	}
	for kind, title := range titleOf {
		assert.NotZero(t, statusOf[kind], "%s has a title (%s) and no status", kind, title)
	}
}

// asked runs handlers on a request.
func asked(method, target, body string, handlers ...gin.HandlerFunc) *httptest.ResponseRecorder {
	gin.SetMode(gin.ReleaseMode)
	w := httptest.NewRecorder()
	r := gin.New()
	r.Handle(method, "/boxes/:box", handlers...)
	r.ServeHTTP(w, httptest.NewRequest(method, target, strings.NewReader(body)))
	return w
}

func TestAProblemIsAnsweredOnce(t *testing.T) {
	w := asked("GET", "/boxes/7", "", func(c *gin.Context) {
		c.Header("Content-Type", "text/event-stream")
		assert.True(t, Refuse(c, &admit.Full{Retry: time.Second}))
		assert.True(t, Refuse(c, errors.New("another")), "it is refused, and told no more")
	}, func(*gin.Context) { t.Error("what is refused goes no further") })
	assert.Equal(t, http.StatusTooManyRequests, w.Code)
	assert.Equal(t, form.ProblemType, w.Header().Get("Content-Type"))
	assert.Equal(t, "1", w.Header().Get("Retry-After"))
	var p form.Problem
	require.NoError(t, json.Unmarshal(w.Body.Bytes(), &p))
	assert.Equal(t, 429, p.Status)
	w = asked("GET", "/boxes/7", "", func(c *gin.Context) {
		assert.False(t, Refuse(c, nil))
		WriteProblem(c, &form.Problem{Status: 404})
	})
	assert.Contains(t, w.Body.String(), `"type":"about:blank"`)
}

func TestValuesOfQueriesAndBodiesAreChecked(t *testing.T) {
	limit := func(c *gin.Context) {
		if n, ok := IntQuery(c, "limit", 50, 1, 500); ok {
			c.String(http.StatusOK, "%d %t", n, BoolQuery(c, "preview"))
		}
	}
	for query, wanted := range map[string]string{
		"": "50 false", "?limit=7&preview=true": "7 true", "?limit=0": `limit is \"0\"`, "?limit=501": "1 to 500", "?limit=many": `limit is \"many\"`, "?limit=1.5": "1 to 500",
	} {
		assert.Contains(t, asked("GET", "/boxes/7"+query, "", limit).Body.String(), wanted, query)
	}
	read := func(c *gin.Context) {
		var body struct {
			Celsius float64 `json:"celsius"`
		}
		if ReadJSON(c, &body) {
			c.String(http.StatusOK, "%g", body.Celsius)
		}
	}
	for body, wanted := range map[string]string{
		`{"celsius":4.5}`: "4.5", `{}`: "0", `{"fahrenheit":40}`: "fahrenheit", `[1]`: "not the JSON that is expected", ``: "not the JSON", `{"celsius":1}{`: "not the JSON",
		`{"celsius":` + strings.Repeat(" ", MaxJSON) + `1}`: "more than 1048576 bytes",
	} {
		assert.Contains(t, asked("POST", "/boxes/7", body, read).Body.String(), wanted, "%.40s", body)
	}
	for text, wanted := range map[string]time.Duration{"": 0, "90s": 90 * time.Second, "1m": time.Minute} {
		d, err := DurationOf("wait", text, 2*time.Minute)
		require.NoError(t, err)
		assert.Equal(t, wanted, d)
	}
	for _, text := range []string{"soon", "-1s", "3m"} {
		_, err := DurationOf("wait", text, 2*time.Minute)
		assert.ErrorContains(t, err, "0s to 2m", text)
	}
}

func TestAHandlerThatPanicsIsAnswered(t *testing.T) {
	g := &Gate{}
	w := asked("GET", "/boxes/7", "", g.Recover, func(*gin.Context) { panic("token=secret") })
	assert.Equal(t, http.StatusInternalServerError, w.Code)
	assert.NotContains(t, w.Body.String(), "secret")
	assert.Panics(t, func() { asked("GET", "/boxes/7", "", g.Recover, func(*gin.Context) { panic(http.ErrAbortHandler) }) }, "what is broken off stays so")
}
