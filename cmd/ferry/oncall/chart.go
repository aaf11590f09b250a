package oncall

import (
	"fmt"
	"io"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"steadyferry/client"
	"steadyferry/cmd/ferry/term"
	"steadyferry/internal/core/address"
)

// mostDrawn is how many things of a chart are listed: all that the service tells.
const mostDrawn = "1000"

// Chart lists how the things of a space hang together, or what is near one thing: what is in
// trouble first.
func Chart(to *term.Call, out io.Writer, a address.Address) error {
	c := own(to)
	query := url.Values{"space": {a.Space}, "most": {mostDrawn}}
	if a.Kind() != address.KindSpace {
		query.Set("around", a.String())
	}
	chart, err := term.Ask[client.Chart](c.Call, http.MethodGet, "/chart", query, nil)
	if err != nil {
		return err
	}
	if c.JSON {
		return c.PrintJSON(chart)
	}
	rank := map[string]int{"alarm": 0, "warn": 1}
	of := func(t client.ChartThing) int {
		if r, bad := rank[t.Level]; bad {
			return r
		}
		return len(rank)
	}
	slices.SortStableFunc(chart.Things, func(a, b client.ChartThing) int { return of(a) - of(b) })
	rows := make([][]string, len(chart.Things))
	for i, t := range chart.Things {
		state := t.State
		if t.Level != "calm" {
			state = t.Level
		}
		rate := "-"
		if t.Rate > 0 {
			rate = term.PerSecond(t.Rate)
		}
		rows[i] = []string{t.ID, t.Kind, c.Mark(state), rate, ends(chart.Links, func(l client.ChartLink) (string, string) { return l.To, l.From }, t.ID), ends(chart.Links, func(l client.ChartLink) (string, string) { return l.From, l.To }, t.ID), term.OneLine(t.Says, 60)}
	}
	if len(rows) == 0 {
		fmt.Fprintf(out, "nothing hangs together in %s yet; ferry new topic %s/NAME makes a topic\n", a.Space, a.Space)
		return nil
	}
	c.Table(out, []string{"thing", "kind", "state", "rate", "comes from", "goes to", "how it is"}, rows, "rate")
	return nil
}

// ends are the other ends of the links of a thing.
func ends(links []client.ChartLink, of func(l client.ChartLink) (own, other string), id string) string {
	var all []string
	for _, l := range links {
		if own, other := of(l); own == id {
			all = append(all, other)
		}
	}
	if len(all) == 0 {
		return "-"
	}
	return term.OneLine(strings.Join(all, ", "), 60)
}
