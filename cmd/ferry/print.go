package main

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"math"
	"net/url"
	"os"
	"strconv"
	"strings"
	"time"
	"unicode"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
	"golang.org/x/term"

	"steadyferry/internal/core/address"
	"steadyferry/internal/core/words"
)

// printJSON prints a value on one line.
func (c *call) printJSON(v any) error {
	out := json.NewEncoder(c.out)
	out.SetEscapeHTML(false)
	return out.Encode(v)
}

// terminal returns whether the output is one, and how wide it is.
func (c *call) terminal() (width int, ok bool) {
	f, ok := terminalOf(c.out)
	if !ok {
		return 0, false
	}
	width, _, err := term.GetSize(int(f.Fd()))
	if err != nil || width < 40 {
		width = 80
	}
	return width, true
}

func (c *call) colour() bool {
	_, terminal := c.terminal()
	return terminal && os.Getenv("NO_COLOR") == ""
}

// marks tell a state by shape and word; colour comes on top.
var marks = map[string]struct {
	shape  string
	colour text.Color
}{
	"ready":     {"●", text.FgGreen},
	"paused":    {"○", text.FgHiBlack},
	"starting":  {"◐", text.FgCyan},
	"disk full": {"■", text.FgRed},
	"failed":    {"■", text.FgRed},

	"keeping up":         {"●", text.FgGreen},
	"catching up":        {"◐", text.FgCyan},
	"not getting nearer": {"◐", text.FgCyan},
	"no members":         {"○", text.FgHiBlack},
	"stopped":            {"▲", text.FgYellow},
	"falling behind":     {"▲", text.FgYellow},
	"will lose data":     {"■", text.FgRed},
	"has lost":           {"■", text.FgRed},

	"replicas missing": {"▲", text.FgYellow},
	"no leader":        {"■", text.FgRed},
	"end lost":         {"■", text.FgRed},
	"no majority":      {"■", text.FgRed},
	"away":             {"■", text.FgRed},
	"up":               {"●", text.FgGreen},
	"draining":         {"◐", text.FgCyan},
	"running":          {"◐", text.FgCyan},
	"cancelling":       {"◐", text.FgCyan},
	"done":             {"●", text.FgGreen},
	"cancelled":        {"○", text.FgHiBlack},
	"planned":          {"◌", text.FgHiBlack},
}

func (c *call) mark(state string) string { return c.markAs(state, state) }

// markAs shows the mark of a state with other words.
func (c *call) markAs(state, words string) string {
	m, ok := marks[state]
	if !ok {
		return "◌ " + words
	}
	if c.colour() {
		return steered(m.colour.Sprint(m.shape)) + " " + words
	}
	return m.shape + " " + words
}

// table prints rows under headings; columns named in right are aligned so.
func (c *call) table(out io.Writer, headings []string, rows [][]string, right ...string) {
	t := table.NewWriter()
	style := table.StyleDefault
	style.Options = table.Options{SeparateHeader: true}
	style.Box = table.BoxStyle{PaddingLeft: "", PaddingRight: "  ", MiddleHorizontal: "─", MiddleSeparator: "─"}
	style.Format.Header = text.FormatDefault
	t.SetStyle(style)
	header := make(table.Row, len(headings))
	var columns []table.ColumnConfig
	for i, h := range headings {
		header[i] = h
		for _, r := range right {
			if r == h {
				columns = append(columns, table.ColumnConfig{Number: i + 1, Align: text.AlignRight, AlignHeader: text.AlignRight})
			}
		}
	}
	t.SetColumnConfigs(columns)
	t.AppendHeader(header)
	for _, r := range rows {
		row := make(table.Row, len(r))
		for i, text := range r {
			row[i] = strings.ReplaceAll(cell(text), steer, "") // the table counts what it knows as escapes
		}
		t.AppendRow(row)
	}
	fmt.Fprintln(out, steered(t.Render()))
}

// tableOf is how things are listed: one a row, under headings; columns named in
// right are aligned so. Without any, none is printed instead.
type tableOf[T any] struct {
	none     string
	headings []string
	right    []string
	row      func(T) []string
}

// list prints things: as JSON one a line, else as a table. It reports whether
// there is a table, below which more may be said.
func list[T any](c *call, out io.Writer, items []T, t tableOf[T]) (shown bool, err error) {
	if c.json {
		for _, item := range items {
			if err := c.printJSON(item); err != nil {
				return false, err
			}
		}
		return false, nil
	}
	if len(items) == 0 && t.none != "" {
		fmt.Fprintln(out, t.none)
		return false, nil
	}
	rows := make([][]string, len(items))
	for i, item := range items {
		rows[i] = t.row(item)
	}
	c.table(out, t.headings, rows, t.right...)
	return true, nil
}

// pairs prints names and values below each other.
func (c *call) pairs(rows [][2]string) {
	width := 0
	for _, r := range rows {
		width = max(width, len(r[0]))
	}
	for _, r := range rows {
		if r[1] != "" {
			fmt.Fprintf(c.out, "%-*s  %s\n", width, cell(r[0]), cell(r[1]))
		}
	}
}

// count prints a whole number with its thousands apart: 1,234,567.
func count(n int64) string { return words.Count(n) }

// perSecond prints a rate of messages, with a decimal when it is small.
func perSecond(f float64) string {
	if f < 10 && f != math.Trunc(f) {
		return strconv.FormatFloat(f, 'f', 1, 64) + "/s"
	}
	return count(int64(math.Round(f))) + "/s"
}

func size(n int64) string { return address.FormatSize(n) }

func sizePerSecond(f float64) string { return size(int64(f)) + "/s" }

// age prints how long ago a time was, to its two largest units.
func age(t *time.Time, now time.Time) string {
	if t == nil {
		return "–"
	}
	d := max(now.Sub(*t), 0)
	switch {
	case d < time.Minute:
		d = d.Truncate(time.Second)
	case d < 24*time.Hour:
		d = d.Truncate(time.Minute)
	default:
		d = d.Truncate(time.Hour)
	}
	return address.FormatDuration(d)
}

// oneLine makes a text fit a line of a width in characters: control
// characters become visible, and what is cut off is marked.
func oneLine(s string, width int) string {
	var b strings.Builder
	n := 0
	for _, r := range s {
		if n == width-1 && len(s) > b.Len()+len(string(r)) {
			b.WriteRune('…')
			break
		}
		switch {
		case r == '\n':
			r = '⏎'
		case r == '\t':
			r = ' '
		case !unicode.IsPrint(r):
			r = '·'
		}
		b.WriteRune(r)
		n++
	}
	return b.String()
}

// repeat draws once, or with a pause again and again until ctx ends. On a
// terminal each drawing takes the place of the one before.
func (c *call) repeat(every time.Duration, draw func(out io.Writer) error) error {
	if every <= 0 {
		return draw(c.out)
	}
	_, terminal := c.terminal()
	lines := 0
	ticker := time.NewTicker(every)
	defer ticker.Stop()
	for {
		var b strings.Builder
		if err := draw(&b); err != nil {
			return err
		}
		shown := b.String()
		if terminal {
			if lines > 0 {
				fmt.Fprintf(c.out, steer+"\x1b[%dA", lines)
			}
			lines = strings.Count(shown, "\n")
			shown = strings.ReplaceAll(shown, "\n", steer+"\x1b[K\n") + steer + "\x1b[J"
		}
		fmt.Fprint(c.out, shown)
		select {
		case <-ticker.C:
		case <-c.ctx.Done():
			return errDone
		}
	}
}

// withTimeout bounds a short request.
func (c *call) withTimeout() (context.Context, context.CancelFunc) {
	return context.WithTimeout(c.ctx, shortTime)
}

// shortTime bounds requests that are answered soon.
const shortTime = 30 * time.Second

// ask sends a request that is answered soon and returns its answer.
func ask[T any](c *call, method, path string, query url.Values, body any) (T, error) {
	return askWithin[T](c, shortTime, method, path, query, body)
}

// askWithin sends a request that may take so long.
func askWithin[T any](c *call, time time.Duration, method, path string, query url.Values, body any) (answer T, err error) {
	ctx, cancel := context.WithTimeout(c.ctx, time)
	defer cancel()
	return answer, c.api.Call(ctx, method, path, query, body, &answer)
}
