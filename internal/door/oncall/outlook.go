package oncall

import (
	"fmt"
	"net/http"
	"time"

	"github.com/gin-gonic/gin"

	"steadyferry/internal/core/address"
	"steadyferry/internal/core/report"
	"steadyferry/internal/door/gate"
	"steadyferry/internal/service/outlook"
)

// outlook tells what is wrong, what will go wrong, what was changed and what is being done.
func (s *OnCall) outlook(c *gin.Context) {
	seen, err := s.Node.Outlook.Now(c, c.Query("space"))
	if gate.Refuse(c, err) {
		return
	}
	seen.Outlook.Changed = entries(c, seen.Changed)
	c.JSON(http.StatusOK, seen.Outlook)
}

// report answers with the report of a space.
func (s *OnCall) report(c *gin.Context) {
	span := 24 * time.Hour
	if text := c.Query("span"); text != "" {
		var err error
		if span, err = address.ParseDuration(text); err != nil || span < outlook.LeastReported || span > outlook.MostReported {
			gate.WriteProblem(c, gate.Invalid("span", fmt.Sprintf("span is %q", text), "10m to 31d"))
			return
		}
	}
	format := c.DefaultQuery("format", "json")
	if format != "json" && format != "html" && format != "markdown" {
		gate.WriteProblem(c, gate.Invalid("format", fmt.Sprintf("format is %q", format), "json, html, markdown"))
		return
	}
	r, err := s.Node.Outlook.Report(c, c.Param("space"), span)
	if gate.Refuse(c, err) {
		return
	}
	switch format {
	case "html":
		page, err := report.HTML(r)
		if !gate.Refuse(c, err) {
			c.Header("Content-Security-Policy", "default-src 'none'; style-src "+report.StyleSource+"; frame-ancestors 'none'")
			c.Data(http.StatusOK, "text/html; charset=utf-8", page)
		}
	case "markdown":
		text, err := report.Markdown(r)
		if !gate.Refuse(c, err) {
			c.Data(http.StatusOK, "text/markdown; charset=utf-8", []byte(text))
		}
	default:
		c.JSON(http.StatusOK, r)
	}
}
