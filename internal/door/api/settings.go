package api

import (
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strings"

	"github.com/gin-gonic/gin"

	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/core/strict"
	"steadyferry/internal/door/gate"
)

// others is what a request has beside settings, by name: pointers to what it goes
// into.
type others map[string]any

// readSettings reads a request whose body is settings of a table, beside what is
// its own. Without true it has answered.
func readSettings[T any](c *gin.Context, table setting.Table[T], beside others) (setting.Change, bool) {
	var values map[string]json.RawMessage
	if !gate.ReadJSON(c, &values) {
		return nil, false
	}
	for name, into := range beside {
		raw, given := values[name]
		delete(values, name)
		if !given {
			continue
		}
		if err := strict.Unmarshal(raw, into); err != nil {
			gate.WriteProblem(c, gate.Invalid(name, fmt.Sprintf("%s: %v", name, err), "see /api/v1/openapi.json"))
			return nil, false
		}
	}
	settings, err := table.Read(values)
	var p *problem.Problem
	if errors.As(err, &p) && table.Named(p.Of) == nil {
		p.Range = strings.Join(append(slices.Sorted(maps.Keys(beside)), p.Range), ", ")
	}
	return settings, !gate.Refuse(c, err)
}

// listSettings tells what can be set, for pages that let it be set.
func (s *Server) listSettings(c *gin.Context) {
	c.JSON(http.StatusOK, gin.H{"channels": setting.Channels.Rows(), "groups": setting.Groups.Rows(), "spaces": setting.Spaces.Rows(), "endpoints": setting.Endpoints.Rows()})
}
