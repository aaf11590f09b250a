// Package mask hides fields of messages from who may not see them: the key, headers, and values
// of a JSON body. What it hides is as good as not there: it can be seen in no way out, and
// nothing can be chosen or changed by it.
package mask

import (
	"bytes"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

	"steadyferry/internal/core/edit"
	"steadyferry/internal/core/message"
)

// How a field is shown.
const (
	Hidden    = "hidden"    // as …
	Shortened = "shortened" // how it begins
	Hashed    = "hashed"    // as what is the same for equal values, and tells nothing of them
)

// Shows are the ways to show a field.
var Shows = []string{Hidden, Shortened, Hashed}

// Names of what is no value of a body.
const (
	Key          = "key"
	Headers      = "headers"
	HeaderPrefix = "header."
	Body         = "body"
)

// CheckField says why a text names no field: key, header.NAME, or a JSON Pointer (RFC 6901) into
// the body.
func CheckField(text string) error {
	name, isHeader := strings.CutPrefix(text, HeaderPrefix)
	if text == Key || isHeader && name != "" || len(text) > 1 && text[0] == '/' {
		return nil
	}
	return fmt.Errorf("%q is no field; allowed: key, header.NAME, a JSON Pointer such as /box", text)
}

// Mask is fields that are hidden together. It does not change.
type Mask struct {
	name     string
	show     string
	key      []byte
	fields   []string
	pointers []string
}

// New returns a mask of fields, shown in a way; with the key, values are hashed.
func New(name, show string, fields []string, key []byte) *Mask {
	m := &Mask{name: name, show: show, key: key, fields: fields}
	for _, f := range fields {
		if f[0] == '/' {
			m.pointers = append(m.pointers, f)
		}
	}
	return m
}

// Name is what the mask is called.
func (m *Mask) Name() string { return m.name }

// touches returns the field of the mask that something lies in, or that lies in it; empty for none.
func (m *Mask) touches(at string) string {
	for _, f := range m.fields {
		switch {
		case at == f, at == Headers && strings.HasPrefix(f, HeaderPrefix), at == Body && f[0] == '/':
			return f
		case f[0] == '/' && at != "" && at[0] == '/' && (strings.HasPrefix(at, f+"/") || strings.HasPrefix(f, at+"/")):
			return f
		}
	}
	return ""
}

const dots = "…"

// text is a value as it is shown.
func (m *Mask) text(is string) string {
	switch m.show {
	case Shortened:
		return begin(is) + dots
	case Hashed:
		h := hmac.New(sha256.New, m.key)
		h.Write([]byte(is))
		return "#" + hex.EncodeToString(h.Sum(nil)[:hashBytes])
	}
	return dots
}

// hashBytes of a hash tell values apart: two of a million are the same once in some 35,000 times.
const hashBytes = 7

// begin is the first quarter of a text, and at most three characters.
func begin(is string) string {
	most, end := min(utf8.RuneCountInString(is)/4, 3), 0
	for range most {
		_, size := utf8.DecodeRuneInString(is[end:])
		end += size
	}
	return is[:end]
}

// value is a value of a body as it is shown. That there is none stays to be seen.
func (m *Mask) value(_ string, is json.RawMessage) json.RawMessage {
	is = bytes.TrimSpace(is)
	var text string
	switch {
	case string(is) == "null":
		return is
	case is[0] == '{' || is[0] == '[':
		text = dots
		if m.show == Hashed {
			text = m.text(string(is))
		}
	case is[0] == '"':
		if err := json.Unmarshal(is, &text); err != nil {
			return json.RawMessage(`"` + dots + `"`)
		}
		text = m.text(text)
	default:
		text = m.text(string(is))
	}
	out, err := json.Marshal(text)
	if err != nil {
		panic(err) // a text
	}
	return out
}

// apply hides fields of a message, which shares nothing with another but its body.
func (m *Mask) apply(s *message.Stored) {
	for _, f := range m.fields {
		if f == Key && s.Key != "" {
			s.Key = m.text(s.Key)
			s.Masked = append(s.Masked, f)
		}
		if name, is := strings.CutPrefix(f, HeaderPrefix); is {
			for i, h := range s.Headers {
				if h.Name == name {
					s.Headers[i].Value = m.text(h.Value)
					s.Masked = append(s.Masked, f)
				}
			}
		}
	}
	if len(m.pointers) == 0 || slices.Contains(s.Masked, Body) || s.Size() == 0 {
		return
	}
	body, found, err := edit.Replace(s.Body, m.pointers, m.value)
	if err != nil || s.Whole > 0 {
		// What cannot be told apart is hidden as a whole.
		s.Whole, s.Body, s.Masked = s.Size(), nil, append(s.Masked, Body)
		return
	}
	s.Body, s.Masked = body, append(s.Masked, found...)
}
