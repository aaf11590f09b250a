package term

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

// PrintJSON prints a value on one line.
func (c *Call) PrintJSON(v any) error {
	out := json.NewEncoder(c.Out)
	out.SetEscapeHTML(false)
	return out.Encode(v)
}

// Terminal returns whether the output is one, and how wide it is.
func (c *Call) Terminal() (width int, ok bool) {
	f, ok := TerminalOf(c.Out)
	if !ok {
		return 0, false
	}
	width, _, err := term.GetSize(int(f.Fd()))
	if err != nil || width < 40 {
		width = 80
	}
	return width, true
}

// Colour reports whether colours are wanted.
func (c *Call) Colour() bool {
	_, terminal := c.Terminal()
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
	"disk-full": {"■", text.FgRed},
	"failed":    {"■", text.FgRed},

	"keeping-up":         {"●", text.FgGreen},
	"catching-up":        {"◐", text.FgCyan},
	"not-getting-nearer": {"◐", text.FgCyan},
	"no-members":         {"○", text.FgHiBlack},
	"stopped":            {"▲", text.FgYellow},
	"waits":              {"▲", text.FgYellow},
	"halted":             {"▲", text.FgYellow},
	"falling-behind":     {"▲", text.FgYellow},
	"will-lose-data":     {"■", text.FgRed},
	"has-lost":           {"■", text.FgRed},

	"replicas-missing": {"▲", text.FgYellow},
	"no-leader":        {"■", text.FgRed},
	"end-lost":         {"■", text.FgRed},
	"no-majority":      {"■", text.FgRed},
	"away":             {"■", text.FgRed},
	"up":               {"●", text.FgGreen},
	"draining":         {"◐", text.FgCyan},
	"running":          {"◐", text.FgCyan},
	"cancelling":       {"◐", text.FgCyan},
	"done":             {"●", text.FgGreen},
	"cancelled":        {"○", text.FgHiBlack},
	"planned":          {"◌", text.FgHiBlack},

	"calm":    {"●", text.FgGreen},
	"warn":    {"▲", text.FgYellow},
	"alarm":   {"■", text.FgRed},
	"no-data": {"◌", text.FgHiBlack},
	"ended":   {"●", text.FgGreen},
	"idle":    {"○", text.FgHiBlack},

	"well":       {"●", text.FgGreen},
	"failing":    {"■", text.FgRed},
	"locked":     {"■", text.FgRed},
	"picking-up": {"◐", text.FgCyan},
	"again":      {"▲", text.FgYellow},
	"refused":    {"■", text.FgRed},
	"stop":       {"■", text.FgRed},
}

// Mark shows the mark of a state with its word.
func (c *Call) Mark(state string) string { return c.MarkAs(state, words.Of(state)) }

// MarkAs shows the mark of a state with other words.
func (c *Call) MarkAs(state, words string) string {
	m, ok := marks[state]
	if !ok {
		return "◌ " + words
	}
	if c.Colour() {
		return Steered(m.colour.Sprint(m.shape)) + " " + words
	}
	return m.shape + " " + words
}

// Table prints rows under headings; columns named in right are aligned so.
func (c *Call) Table(out io.Writer, headings []string, rows [][]string, right ...string) {
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
			row[i] = strings.ReplaceAll(Cell(text), Steer, "") // the table counts what it knows as escapes
		}
		t.AppendRow(row)
	}
	fmt.Fprintln(out, Steered(t.Render()))
}

// TableOf is how things are listed: one a row, under headings; columns named in
// Right are aligned so. Without any, none is printed instead.
type TableOf[T any] struct {
	None     string
	Headings []string
	Right    []string
	Row      func(T) []string
}

// PrintEach prints things as JSON, one a line.
func PrintEach[T any](c *Call, items []T) error {
	for _, item := range items {
		if err := c.PrintJSON(item); err != nil {
			return err
		}
	}
	return nil
}

// List prints things: as JSON one a line, else as a table. It reports whether
// there is a table, below which more may be said.
func List[T any](c *Call, out io.Writer, items []T, t TableOf[T]) (shown bool, err error) {
	if c.JSON {
		return false, PrintEach(c, items)
	}
	if len(items) == 0 && t.None != "" {
		fmt.Fprintln(out, t.None)
		return false, nil
	}
	rows := make([][]string, len(items))
	for i, item := range items {
		rows[i] = t.Row(item)
	}
	c.Table(out, t.Headings, rows, t.Right...)
	return true, nil
}

// To returns the same call, that prints to another place.
func (c *Call) To(out io.Writer) *Call {
	to := *c
	to.Out = out
	return &to
}

// Pairs prints names and values below each other.
func (c *Call) Pairs(rows [][2]string) {
	width := 0
	for _, r := range rows {
		width = max(width, len(r[0]))
	}
	for _, r := range rows {
		if r[1] != "" {
			fmt.Fprintf(c.Out, "%-*s  %s\n", width, Cell(r[0]), Cell(r[1]))
		}
	}
}

// Count prints a whole number with its thousands apart: 1,234,567.
func Count(n int64) string { return words.Count(n) }

// PerSecond prints a rate of messages, with a decimal when it is small.
func PerSecond(f float64) string {
	if f < 10 && f != math.Trunc(f) {
		return strconv.FormatFloat(f, 'f', 1, 64) + "/s"
	}
	return Count(int64(math.Round(f))) + "/s"
}

// Size prints a size in bytes.
func Size(n int64) string { return address.FormatSize(n) }

// SizePerSecond prints a rate of bytes.
func SizePerSecond(f float64) string { return Size(int64(f)) + "/s" }

// Age prints how long ago a time was, to its two largest units.
func Age(t *time.Time, now time.Time) string {
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

// OneLine makes a text fit a line of a width in characters: control
// characters become visible, and what is cut off is marked.
func OneLine(s string, width int) string {
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

// Repeat draws once, or with a pause again and again until ctx ends. On a
// terminal each drawing takes the place of the one before.
func (c *Call) Repeat(every time.Duration, draw func(out io.Writer) error) error {
	if every <= 0 {
		return draw(c.Out)
	}
	_, terminal := c.Terminal()
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
				fmt.Fprintf(c.Out, Steer+"\x1b[%dA", lines)
			}
			lines = strings.Count(shown, "\n")
			shown = strings.ReplaceAll(shown, "\n", Steer+"\x1b[K\n") + Steer + "\x1b[J"
		}
		fmt.Fprint(c.Out, shown)
		select {
		case <-ticker.C:
		case <-c.Ctx.Done():
			return ErrDone
		}
	}
}

// withTimeout bounds a short request.
func (c *Call) Short() (context.Context, context.CancelFunc) {
	return context.WithTimeout(c.Ctx, ShortTime)
}

// ShortTime bounds requests that are answered soon.
const ShortTime = 30 * time.Second

// Ask sends a request that is answered soon and returns its answer.
func Ask[T any](c *Call, method, path string, query url.Values, body any) (T, error) {
	return AskWithin[T](c, ShortTime, method, path, query, body)
}

// Within returns the context of a request that may take so long.
func (c *Call) Within(most time.Duration) (context.Context, context.CancelFunc) {
	return context.WithTimeout(c.Ctx, most)
}

// AskWithin sends a request that may take so long.
func AskWithin[T any](c *Call, time time.Duration, method, path string, query url.Values, body any) (answer T, err error) {
	ctx, cancel := context.WithTimeout(c.Ctx, time)
	defer cancel()
	return answer, c.API.Call(ctx, method, path, query, body, &answer)
}
