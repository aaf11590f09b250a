// Package replay is what is computed when messages are sent again: how they
// are edited on the way, and at what pace they go.
package replay

import (
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	jsonpatch "github.com/evanphx/json-patch/v5"

	"steadyferry/internal/core/expr"
	"steadyferry/internal/core/message"
)

// Edit changes one place of a message: a JSON Pointer into its body (RFC
// 6901), header.NAME, key, or body as a whole.
type Edit struct {
	Op    string          `json:"op"` // set, remove, rename
	At    string          `json:"at"`
	To    string          `json:"to,omitempty"`    // of a rename
	Value json.RawMessage `json:"value,omitempty"` // of set: a constant
	CEL   string          `json:"cel,omitempty"`   // of set: computed from the message as it was
}

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

// String prints the edit as ParseEdit reads it.
func (e Edit) String() string {
	switch {
	case e.Op == "rename":
		return "rename " + e.At + "=" + e.To
	case e.CEL != "":
		return e.Op + " " + e.At + ":=" + e.CEL
	case e.Op == "set":
		return "set " + e.At + "=" + string(e.Value)
	}
	return e.Op + " " + e.At
}

// ParseEdit reads an edit as it is typed: set AT=VALUE, set AT:=EXPRESSION,
// remove AT, or rename AT=TO. A VALUE that is not JSON is text.
func ParseEdit(source string) (Edit, error) {
	op, rest, _ := strings.Cut(strings.TrimSpace(source), " ")
	rest = strings.TrimSpace(rest)
	e := Edit{Op: op, At: rest}
	switch op {
	case "remove":
	case "rename", "set":
		at, value, ok := strings.Cut(rest, "=")
		if !ok {
			return e, fmt.Errorf("%q: there is no =", source)
		}
		e.At = strings.TrimSpace(at)
		value = strings.TrimSpace(value)
		switch computed := strings.TrimSuffix(e.At, ":"); {
		case op == "rename":
			e.To = value
		case computed != e.At:
			e.At, e.CEL = strings.TrimSpace(computed), value
		case json.Valid([]byte(value)):
			e.Value = json.RawMessage(value)
		default:
			e.Value, _ = json.Marshal(value)
		}
	default:
		return e, fmt.Errorf("%q: it begins with %q; allowed: set, remove, rename", source, op)
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
		if err == nil && e.CEL != "" {
			ed.values[i], err = expr.CompileValue(e.CEL)
		}
		if err != nil {
			return nil, &EditError{i + 1, e, err}
		}
	}
	return ed, nil
}

func (e *Edit) check() error {
	inBody := func(at string) bool { return strings.HasPrefix(at, "/") }
	header, isHeader := strings.CutPrefix(e.At, "header.")
	switch {
	case e.Op != "set" && e.Op != "remove" && e.Op != "rename":
		return fmt.Errorf("op is %q; allowed: set, remove, rename", e.Op)
	case isHeader && header == "":
		return errors.New("the header has no name")
	case !inBody(e.At) && !isHeader && e.At != "key" && e.At != "body":
		return fmt.Errorf("at is %q; allowed: a JSON Pointer such as /celsius, header.NAME, key, body", e.At)
	case e.Op == "set" && (e.CEL == "") == (len(e.Value) == 0):
		return errors.New("one of value and cel is needed")
	case e.Op == "rename" && inBody(e.At) != inBody(e.To):
		return fmt.Errorf("%s cannot become %s; allowed: a place in the body, or a header to a header", e.At, e.To)
	case e.Op == "rename" && !inBody(e.At) && !(isHeader && strings.HasPrefix(e.To, "header.") && e.To != "header."):
		return fmt.Errorf("%s cannot become %s", e.At, e.To)
	case e.Op == "remove" && e.At == "body":
		return errors.New("the body cannot be removed")
	}
	return nil
}

// Apply returns the edited message; the one given stays as it is. The error is
// an *EditError.
func (ed *Editor) Apply(s *message.Stored, f expr.Facts) (*message.Stored, error) {
	out := *s
	out.Headers = append([]message.Header(nil), s.Headers...)
	for i, e := range ed.edits {
		value := e.Value
		var err error
		if ed.values[i] != nil {
			value, err = ed.values[i].Of(s, f)
		}
		if err == nil {
			err = apply(&out, e, value)
		}
		if err != nil {
			return nil, &EditError{i + 1, e, err}
		}
	}
	return &out, nil
}

func apply(m *message.Stored, e Edit, value json.RawMessage) (err error) {
	name, isHeader := strings.CutPrefix(e.At, "header.")
	switch {
	case isHeader:
		return editHeader(m, e, name, plainText(value))
	case e.At == "key":
		m.Key = ""
		if e.Op == "set" {
			m.Key = plainText(value)
		}
		return nil
	case e.At == "body":
		m.Body = []byte(value)
		if !strings.Contains(m.ContentType, "json") {
			m.Body = []byte(plainText(value))
		}
		return nil
	}
	if !json.Valid(m.Body) {
		return errors.New("the body is not JSON")
	}
	switch e.Op {
	case "remove":
		m.Body, err = patch(m.Body, map[string]any{"op": "remove", "path": e.At})
	case "rename":
		m.Body, err = patch(m.Body, map[string]any{"op": "move", "from": e.At, "path": e.To})
	default:
		var changed []byte
		if changed, err = patch(m.Body, map[string]any{"op": "replace", "path": e.At, "value": value}); err != nil {
			changed, err = patch(m.Body, map[string]any{"op": "add", "path": e.At, "value": value})
		}
		if err == nil {
			m.Body = changed
		}
	}
	return err
}

// patch applies one operation of RFC 6902.
func patch(body []byte, op map[string]any) ([]byte, error) {
	b, err := json.Marshal([]any{op})
	if err != nil {
		return nil, err
	}
	p, err := jsonpatch.DecodePatch(b)
	if err != nil {
		return nil, err
	}
	out, err := p.Apply(body)
	if err != nil {
		missing := op["path"]
		if from, moved := op["from"]; moved {
			missing = from
		}
		return nil, fmt.Errorf("the body has no %s", missing)
	}
	return out, nil
}

func editHeader(m *message.Stored, e Edit, name, value string) error {
	at := -1
	for i, h := range m.Headers {
		if h.Name == name {
			at = i
		}
	}
	switch {
	case e.Op == "set" && at >= 0:
		m.Headers[at].Value = value
	case e.Op == "set":
		m.Headers = append(m.Headers, message.Header{Name: name, Value: value})
	case at < 0:
		return fmt.Errorf("there is no header %s", name)
	case e.Op == "remove":
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
