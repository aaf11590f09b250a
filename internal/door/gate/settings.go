package gate

import (
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"sort"
	"strings"

	"github.com/gin-gonic/gin"

	"steadyferry/internal/core/form"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/core/strict"
)

// Others is what a request has beside settings, by name: pointers to what it goes
// into.
type Others map[string]any

// ReadSettings reads a request whose body is settings of a table, beside what is
// its own. Without true it has answered.
func ReadSettings[T any](c *gin.Context, table setting.Table[T], beside Others) (setting.Change, bool) {
	var values map[string]json.RawMessage
	if !ReadJSON(c, &values) {
		return nil, false
	}
	for name, into := range beside {
		raw, given := values[name]
		delete(values, name)
		if !given {
			continue
		}
		if err := strict.Unmarshal(raw, into); err != nil {
			WriteProblem(c, Invalid(name, fmt.Sprintf("%s: %v", name, err), "see /api/v1/openapi.json"))
			return nil, false
		}
	}
	settings, err := table.Read(values)
	var p *problem.Problem
	if errors.As(err, &p) && table.Named(p.Of) == nil {
		p.Range = strings.Join(append(slices.Sorted(maps.Keys(beside)), p.Range), ", ")
	}
	return settings, !Refuse(c, err)
}

// Lists come in pages of DefaultPage unless asked otherwise.
const (
	DefaultPage = 200
	MaxPage     = 1000
)

// Page answers with the page of a list that the query asks for: items are in
// the order of their names, and only those of the page are shown.
func Page[T, Shown any](c *gin.Context, items []T, name func(T) string, show func(T) Shown) {
	limit, ok := IntQuery(c, "limit", DefaultPage, 1, MaxPage)
	if !ok {
		return
	}
	if cursor := c.Query("cursor"); cursor != "" {
		items = items[sort.Search(len(items), func(i int) bool { return name(items[i]) > cursor }):]
	}
	p := form.Page[Shown]{Items: []Shown{}}
	for _, item := range items[:min(limit, len(items))] {
		p.Items = append(p.Items, show(item))
	}
	if len(items) > limit {
		p.Next = name(items[limit-1])
	}
	c.JSON(http.StatusOK, p)
}

// AnswerPreview answers with what a change does, or with preview would do.
func AnswerPreview(c *gin.Context, p *form.Preview, err error, preview bool) {
	if !Refuse(c, err) {
		p.Done = !preview
		c.JSON(http.StatusOK, p)
	}
}
