// Package edit changes messages: fields of a JSON body, headers and the key, by
// edits that are typed as text and kept as JSON.
package edit

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"steadyferry/internal/core/expr"
	"steadyferry/internal/core/message"
)

// Edit changes one place of a message: a JSON Pointer into its body (RFC
// 6901), header.NAME, key, or body as a whole.
type Edit struct {
	Op         string          `json:"op"` // one of Ops
	At         string          `json:"at"`
	To         string          `json:"to,omitempty"`         // of rename
	Value      json.RawMessage `json:"value,omitempty"`      // of set: a constant
	Expression string          `json:"expression,omitempty"` // of compute: CEL over the message as it was
}

// The operations.
const (
	Set     = "set"
	Compute = "compute"
	Remove  = "remove"
	Rename  = "rename"
)

// Ops are all of them, as they are listed for people.
var Ops = []string{Set, Compute, Remove, Rename}

func allowedOps() string { return strings.Join(Ops, ", ") }

// MaxEdits is how many edits one list has.
const MaxEdits = 50

// Editor applies a list of edits. It can be used by many goroutines.
type Editor struct {
	edits  []Edit
	values []*expr.Value
}

// EditError names the edit that is wrong, or does not apply.
type EditError struct {
	Number int // from 1
	Edit   Edit
	Err    error
}

func (e *EditError) Error() string {
	return fmt.Sprintf("edit %d (%s): %v", e.Number, e.Edit, e.Err)
}
func (e *EditError) Unwrap() error { return e.Err }

// String prints the edit as Parse reads it.
func (e Edit) String() string {
	switch e.Op {
	case Rename:
		return "rename " + e.At + "=" + e.To
	case Compute:
		return "compute " + e.At + "=" + e.Expression
	case Set:
		return "set " + e.At + "=" + string(e.Value)
	}
	return e.Op + " " + e.At
}

// Parse reads an edit as it is typed: set AT=VALUE, compute AT=EXPRESSION,
// remove AT, or rename AT=TO. A VALUE that is not JSON is text.
func Parse(source string) (Edit, error) {
	op, rest, _ := strings.Cut(strings.TrimSpace(source), " ")
	rest = strings.TrimSpace(rest)
	e := Edit{Op: op, At: rest}
	if !slices.Contains(Ops, op) {
		return e, fmt.Errorf("%q: it begins with %q; allowed: %s", source, op, allowedOps())
	}
	if op == Remove {
		return e, nil
	}
	at, value, ok := strings.Cut(rest, "=")
	if !ok {
		return e, fmt.Errorf("%q: there is no =", source)
	}
	e.At, value = strings.TrimSpace(at), strings.TrimSpace(value)
	switch {
	case op == Rename:
		e.To = value
	case op == Compute:
		e.Expression = value
	case json.Valid([]byte(value)):
		e.Value = json.RawMessage(value)
	default:
		e.Value, _ = json.Marshal(value)
	}
	return e, nil
}

// NewEditor checks a list of edits.
func NewEditor(edits []Edit) (*Editor, error) {
	if len(edits) > MaxEdits {
		return nil, fmt.Errorf("%d edits; allowed: up to %d", len(edits), MaxEdits)
	}
	ed := &Editor{edits: edits, values: make([]*expr.Value, len(edits))}
	for i, e := range edits {
		err := e.check()
		if err == nil && e.Op == Compute {
			ed.values[i], err = expr.CompileValue(e.Expression)
		}
		if err != nil {
			return nil, &EditError{i + 1, e, err}
		}
	}
	return ed, nil
}

// puts reports whether the edit puts a value there.
func (e *Edit) puts() bool { return e.Op == Set || e.Op == Compute }

func (e *Edit) check() error {
	inBody := func(at string) bool { return strings.HasPrefix(at, "/") }
	header, isHeader := strings.CutPrefix(e.At, "header.")
	switch {
	case !slices.Contains(Ops, e.Op):
		return fmt.Errorf("op is %q; allowed: %s", e.Op, allowedOps())
	case isHeader && header == "":
		return errors.New("the header has no name")
	case !inBody(e.At) && !isHeader && e.At != "key" && e.At != "body":
		return fmt.Errorf("at is %q; allowed: a JSON Pointer such as /celsius, header.NAME, key, body", e.At)
	case (e.Op == Set) != (len(e.Value) > 0):
		return errors.New("set has a value, and no other has one")
	case (e.Op == Compute) != (e.Expression != ""):
		return errors.New("compute has an expression, and no other has one")
	case e.Op == Rename && inBody(e.At) != inBody(e.To):
		return fmt.Errorf("%s cannot become %s; allowed: a place in the body, or a header to a header", e.At, e.To)
	case e.Op == Rename && !inBody(e.At) && !(isHeader && strings.HasPrefix(e.To, "header.") && e.To != "header."):
		return fmt.Errorf("%s cannot become %s", e.At, e.To)
	case e.Op == Remove && e.At == "body":
		return errors.New("the body cannot be removed")
	}
	return nil
}

// Editing applies an editor's list to one message after another. It is for
// one goroutine.
type Editing struct {
	editor    *Editor
	computers []*expr.Computer
}

// Begin returns what applies the edits, until ctx ends.
func (ed *Editor) Begin(ctx context.Context) *Editing {
	e := &Editing{editor: ed, computers: make([]*expr.Computer, len(ed.edits))}
	for i, v := range ed.values {
		if v != nil {
			e.computers[i] = v.Computer(ctx)
		}
	}
	return e
}

// Apply returns the edited message; the one given stays as it is. The error is
// an *EditError.
func (e *Editing) Apply(s *message.Stored, f expr.Facts) (*message.Stored, error) {
	out := edited{Stored: *s}
	out.Headers = append([]message.Header(nil), s.Headers...)
	for i, edit := range e.editor.edits {
		value := edit.Value
		var err error
		if c := e.computers[i]; c != nil {
			value, err = c.Of(s, f)
		}
		if err == nil {
			err = out.apply(edit, value)
		}
		if err != nil {
			return nil, &EditError{i + 1, edit, err}
		}
	}
	out.write()
	return &out.Stored, nil
}

// edited is a message under edit; its body is parsed once for all of them.
type edited struct {
	message.Stored
	document *document
}

// write brings the body up to date.
func (m *edited) write() {
	if m.document != nil {
		m.Body = m.document.write(make([]byte, 0, len(m.Body)+64))
		m.document = nil
	}
}

func (m *edited) apply(e Edit, value json.RawMessage) (err error) {
	name, isHeader := strings.CutPrefix(e.At, "header.")
	switch {
	case isHeader:
		return editHeader(&m.Stored, e, name, plainText(value))
	case e.At == "key":
		m.Key = ""
		if e.puts() {
			m.Key = plainText(value)
		}
		return nil
	case e.At == "body":
		m.document = nil
		m.Body = []byte(value)
		if !strings.Contains(m.ContentType, "json") {
			m.Body = []byte(plainText(value))
		}
		return nil
	}
	if m.document == nil {
		if m.document, err = parseDocument(m.Body); err != nil {
			return err
		}
	}
	switch e.Op {
	case Remove:
		_, err = m.document.remove(e.At)
	case Rename:
		err = m.document.rename(e.At, e.To)
	default:
		err = m.document.set(e.At, &document{raw: value})
	}
	return err
}

func editHeader(m *message.Stored, e Edit, name, value string) error {
	at := -1
	for i, h := range m.Headers {
		if h.Name == name {
			at = i
		}
	}
	switch {
	case e.puts() && at >= 0:
		m.Headers[at].Value = value
	case e.puts():
		m.Headers = append(m.Headers, message.Header{Name: name, Value: value})
	case at < 0:
		return fmt.Errorf("there is no header %s", name)
	case e.Op == Remove:
		m.Headers = append(m.Headers[:at], m.Headers[at+1:]...)
	default:
		m.Headers[at].Name = strings.TrimPrefix(e.To, "header.")
	}
	return nil
}

// plainText is a JSON value as text: of a string what it says.
func plainText(value json.RawMessage) string {
	var s string
	if json.Unmarshal(value, &s) == nil {
		return s
	}
	return string(value)
}
