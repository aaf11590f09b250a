package oncall

import (
	"fmt"
	"net/http"
	"time"

	"github.com/gin-gonic/gin"

	"steadyferry/internal/door/gate"
	"steadyferry/internal/service/chart"
)

// Bounds of charts.
const (
	usualSteps  = 2
	mostSteps   = 12
	usualThings = 60
	mostThings  = 1000
	mostOpen    = 50
	mostAgo     = 30 * 24 * time.Hour
)

// chart tells how things hang together.
func (s *OnCall) chart(c *gin.Context) {
	asked := chart.Asked{Space: c.Query("space"), Around: c.Query("around"), Open: c.QueryArray("open")}
	var ok bool
	if asked.Steps, ok = gate.IntQuery(c, "steps", usualSteps, 0, mostSteps); !ok {
		return
	}
	if asked.Most, ok = gate.IntQuery(c, "most", usualThings, 1, mostThings); !ok {
		return
	}
	if len(asked.Open) > mostOpen {
		gate.WriteProblem(c, gate.Invalid("open", fmt.Sprintf("open names %d", len(asked.Open)), fmt.Sprintf("up to %d", mostOpen)))
		return
	}
	if text := c.Query("at"); text != "" {
		at, err := time.Parse(time.RFC3339, text)
		if err != nil || time.Since(at) > mostAgo || time.Until(at) > time.Minute {
			gate.WriteProblem(c, gate.Invalid("at", fmt.Sprintf("at is %q", text), "a time of the last 30 days, such as 2026-11-23T08:00:00Z"))
			return
		}
		asked.At = at
	}
	out, err := s.Node.Charts.Draw(c, asked)
	if !gate.Refuse(c, err) {
		c.JSON(http.StatusOK, out)
	}
}
