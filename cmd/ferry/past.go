package main

import (
	"fmt"
	"io"
	"net/http"
	"net/url"
	"time"

	"steadyferry/client"
	"steadyferry/cmd/ferry/term"
	"steadyferry/internal/core/address"
)

// past shows what was measured of a thing over a time.
func (c *call) past(out io.Writer, a address.Address, span string) error {
	m, err := term.Ask[client.Measured](c.Call, http.MethodGet, "/measured", url.Values{"address": {a.String()}, "span": {span}}, nil)
	if err != nil {
		return err
	}
	if c.JSON {
		return c.PrintJSON(m)
	}
	var rows [][]string
	for _, v := range m.Values {
		known, least, most, sum := 0, 0.0, 0.0, 0.0
		last := "-"
		for _, f := range v.Figures {
			if f == nil {
				continue
			}
			if known == 0 {
				least = *f
			}
			least, most, sum = min(least, *f), max(most, *f), sum+*f
			known++
			last = figure(*f, v.Unit)
		}
		if known > 0 && v.Name != "severity" { // which is for programs
			rows = append(rows, []string{v.Name, last, figure(least, v.Unit), figure(sum/float64(known), v.Unit), figure(most, v.Unit), term.Curve(v.Figures)})
		}
	}
	if len(rows) == 0 {
		fmt.Fprintf(out, "nothing was measured of %s in %s; things are measured every 10 s\n", a, span)
		return nil
	}
	fmt.Fprintf(out, "%s since %s, in steps of %s\n", m.Address, m.Begin.Local().Format("2006-01-02 15:04"), address.FormatDuration(time.Duration(m.StepSeconds)*time.Second))
	c.Table(out, []string{"value", "last", "least", "mean", "most", "curve"}, rows, "last", "least", "mean", "most")
	return nil
}

// figure is a measured value with its unit.
func figure(x float64, unit string) string {
	switch unit {
	case "B":
		return term.Size(int64(x))
	case "B/s":
		return term.Size(int64(x)) + "/s"
	case "/s":
		return term.PerSecond(x)
	case "s":
		return address.FormatDuration((time.Duration(x*10) * time.Second / 10).Round(100 * time.Millisecond))
	}
	return term.Count(int64(x))
}
