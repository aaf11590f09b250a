// Package notice is how a notice reads: as a letter for people, or as an expression of the
// place that gets it makes of it.
package notice

import (
	"encoding/json"
	"fmt"
	"html"
	"reflect"
	"strings"

	"cel.dev/cel-go/cel"
	"google.golang.org/protobuf/types/known/structpb"

	"steadyferry/internal/core/form"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/words"
)

// Letter is a notice as mail.
type Letter struct {
	Subject string `json:"subject"`
	Text    string `json:"text"`
	HTML    string `json:"html,omitempty"`
}

// maxSubject bounds a subject.
const maxSubject = 160

// LetterOf writes a notice as mail.
func LetterOf(n *form.Notice) *Letter {
	var text, page strings.Builder
	l := &Letter{Subject: n.Says}
	if len(n.Incidents) > 0 {
		first := &n.Incidents[0]
		l.Subject = fmt.Sprintf("%s %s: %s", first.State, first.Word, first.Address)
		if more := len(n.Incidents) - 1; more > 0 {
			l.Subject += ", and " + words.Many(more, "more incident")
		}
	}
	for i := range n.Incidents {
		one := &n.Incidents[i]
		number := fmt.Sprintf("incident %d", one.Number)
		if one.Number == 0 {
			number = "its number comes when the records are back"
		}
		fmt.Fprintf(&text, "%s (%s, %s)\n  %s\n  %s\n\n", one.Says, one.Word, number, one.Next, one.Link)
		fmt.Fprintf(&page, "<p><strong>%s</strong><br>%s, %s<br><code>%s</code><br><a href=\"%s\">%s</a></p>", html.EscapeString(one.Says), html.EscapeString(one.Word), number, html.EscapeString(one.Next), html.EscapeString(one.Link), html.EscapeString(one.Link))
	}
	if r := n.Run; r != nil {
		fmt.Fprintf(&text, "%s: run %d is %s: %s\n", r.Chore, r.Run, r.State, r.Says)
		fmt.Fprintf(&page, "<p>%s: run %d is %s: %s</p>", html.EscapeString(r.Chore), r.Run, html.EscapeString(r.State), html.EscapeString(r.Says))
	}
	if t := n.Text; t != nil {
		fmt.Fprintf(&text, "\n%s\n\n%s\n", t.Link, t.Markdown)
		fmt.Fprintf(&page, "<p><a href=\"%s\">%s</a></p>", html.EscapeString(t.Link), html.EscapeString(t.Link))
	}
	if text.Len() == 0 {
		text.WriteString(n.Says)
		page.WriteString("<p>" + html.EscapeString(n.Says) + "</p>")
	}
	l.Text, l.HTML = text.String(), page.String()
	l.tidy()
	return l
}

// tidy makes the subject one line of a bounded length.
func (l *Letter) tidy() {
	l.Subject = strings.Join(strings.Fields(l.Subject), " ")
	if len(l.Subject) > maxSubject {
		l.Subject = strings.ToValidUTF8(l.Subject[:maxSubject-3], "") + "..."
	}
}

// Bounds of an expression.
const (
	MaxExpression = 2000 // characters
	maxNesting    = 40
	maxCost       = 200_000
)

var environment = func() *cel.Env {
	env, err := cel.NewEnv(cel.ParserRecursionLimit(maxNesting), cel.ParserExpressionSizeLimit(MaxExpression), cel.Variable("notice", cel.DynType))
	if err != nil {
		panic(err)
	}
	return env
}()

// Words is an expression over a notice, which makes of it what a place gets.
type Words struct{ program cel.Program }

// Compile reads an expression.
func Compile(source string) (*Words, error) {
	wrong := func(format string, args ...any) error {
		return problem.New(problem.Invalid, format, args...).Field("notice").Allowed(`CEL over notice, such as {"text": notice.says}, or a text`)
	}
	checked, issues := environment.Compile(source)
	if issues.Err() != nil {
		text := issues.Err().Error()
		if all := issues.Errors(); len(all) > 0 {
			text = fmt.Sprintf("column %d: %s", all[0].Location.Column()+1, all[0].Message)
		}
		return nil, wrong("notice: %s", text)
	}
	program, err := environment.Program(checked, cel.CostLimit(maxCost))
	if err != nil {
		return nil, wrong("notice: %v", err)
	}
	return &Words{program}, nil
}

// Of makes something of a notice, as JSON: a text, or an object.
func (w *Words) Of(body []byte) (any, error) {
	var n any
	if err := json.Unmarshal(body, &n); err != nil {
		return nil, err
	}
	out, _, err := w.program.Eval(map[string]any{"notice": n})
	if err != nil {
		return nil, err
	}
	if text, is := out.Value().(string); is {
		return text, nil
	}
	native, err := out.ConvertToNative(reflect.TypeFor[*structpb.Value]())
	if err != nil {
		return nil, err
	}
	return native.(*structpb.Value).AsInterface(), nil
}

// Posted is the body that a place gets of a notice, and its type; with no words it is the
// notice itself. Where they fail it is that too: no notice is kept back for its words.
func Posted(w *Words, body []byte) (contentType string, out []byte) {
	if w != nil {
		made, err := w.Of(body)
		if text, is := made.(string); err == nil && is {
			return "text/plain; charset=utf-8", []byte(text)
		}
		if out, marshalErr := json.Marshal(made); err == nil && marshalErr == nil {
			return "application/json", out
		}
	}
	return "application/json", body
}

// Mailed is the letter that a place gets of a notice: words may be its text, or an object with
// its subject, text and html.
func Mailed(w *Words, body []byte) (*Letter, error) {
	var n form.Notice
	if err := json.Unmarshal(body, &n); err != nil {
		return nil, err
	}
	l := LetterOf(&n)
	if w == nil {
		return l, nil
	}
	made, err := w.Of(body)
	switch x := made.(type) {
	case string:
		l.Text, l.HTML = x, ""
	case map[string]any:
		part := func(name string, to *string) {
			if text, is := x[name].(string); is {
				*to = text
			}
		}
		if _, own := x["text"]; own {
			l.HTML = ""
		}
		part("subject", &l.Subject)
		part("text", &l.Text)
		part("html", &l.HTML)
	}
	l.tidy()
	_ = err // the letter as it is without them
	return l, nil
}
