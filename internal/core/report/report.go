// Package report writes what happened in a space as a page: HTML, or Markdown, both with their
// pictures inside, so that they can be kept, sent and read anywhere.
package report

import (
	"bytes"
	"crypto/sha256"
	_ "embed"
	"encoding/base64"
	"fmt"
	"html/template"
	"math"
	"strings"
	texts "text/template"
	"time"

	"steadyferry/internal/core/address"
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/words"
)

//go:embed page.html
var pageHTML string

//go:embed page.md
var pageMarkdown string

//go:embed page.css
var pageCSS string

// StyleSource is what a content security policy must allow for the page's own style.
var StyleSource = func() string {
	sum := sha256.Sum256([]byte(pageCSS))
	return "'sha256-" + base64.StdEncoding.EncodeToString(sum[:]) + "'"
}()

var helpers = map[string]any{
	"count": words.Count[int64],
	"size":  address.FormatSize,
	"time":  func(t time.Time) string { return t.UTC().Format("2006-01-02 15:04 UTC") },
	"rate":  rate,
	"age": func(s float64) string {
		return address.FormatDuration(time.Duration(s * float64(time.Second)).Round(time.Second))
	},
	"lasted": func(i form.Incident) string {
		if i.EndedAt == nil {
			return "goes on"
		}
		return address.FormatDuration(i.EndedAt.Sub(i.BegunAt).Round(time.Second))
	},
	"join": strings.Join,
	"cell": cell,
	"inline": func(figures []*float64) string {
		return "data:image/svg+xml;base64," + base64.StdEncoding.EncodeToString([]byte(picture(figures, `xmlns="http://www.w3.org/2000/svg" `)))
	},
	"drawn": func(figures []*float64) template.HTML { return template.HTML(picture(figures, "")) }, // of numbers alone
	"style": func() template.HTML { return template.HTML("<style>" + pageCSS + "</style>") },
}

var (
	asHTML     = template.Must(template.New("page").Funcs(template.FuncMap(helpers)).Parse(pageHTML))
	asMarkdown = texts.Must(texts.New("page").Funcs(texts.FuncMap(helpers)).Parse(pageMarkdown))
)

// HTML writes a report as a page.
func HTML(r *form.Report) ([]byte, error) {
	var b bytes.Buffer
	err := asHTML.Execute(&b, r)
	return b.Bytes(), err
}

// Markdown writes a report as text with tables.
func Markdown(r *form.Report) (string, error) {
	var b strings.Builder
	err := asMarkdown.Execute(&b, r)
	return b.String(), err
}

func rate(x float64) string {
	switch {
	case x == 0:
		return "0/s"
	case x < 10:
		return fmt.Sprintf("%.2f/s", x)
	}
	return words.Count(int64(math.Round(x))) + "/s"
}

// cell makes a text one cell of a table.
func cell(text string) string {
	text = strings.Join(strings.Fields(text), " ")
	if len(text) > 120 {
		text = strings.ToValidUTF8(text[:117], "") + "..."
	}
	for _, special := range []string{`\`, "|", "<", ">", "[", "]", "*", "_", "`", "#", "!"} {
		text = strings.ReplaceAll(text, special, `\`+special)
	}
	return text
}

// Size of a picture.
const width, height = 160, 28

// picture draws a curve, with gaps where nothing was measured.
func picture(figures []*float64, attributes string) string {
	top := 0.0
	for _, x := range figures {
		if x != nil {
			top = max(top, *x)
		}
	}
	var d strings.Builder
	pen := "M"
	for i, x := range figures {
		if x == nil {
			pen = "M"
			continue
		}
		y := float64(height) - 2
		if top > 0 {
			y -= (float64(height) - 4) * *x / top
		}
		fmt.Fprintf(&d, "%s%.1f %.1f", pen, float64(i)*width/float64(max(len(figures)-1, 1)), y)
		pen = "L"
	}
	return fmt.Sprintf(`<svg %swidth="%d" height="%d" viewBox="0 0 %d %d" role="img" aria-label="curve"><path d="%s" fill="none" stroke="#0b5566" stroke-width="1.5"/></svg>`, attributes, width, height, width, height, d.String())
}
