// Package strict reads JSON that callers wrote, and refuses what
// encoding/json takes silently: names that come twice or in another spelling,
// names that nobody knows, text that is not UTF-8, halves of surrogate pairs,
// and anything behind the value. RFC 8259 leaves all of them to the reader; a
// reader that picks one meaning would keep other bytes than were sent.
package strict

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"reflect"
	"strings"
	"sync"
	"unicode/utf8"
)

// Error says what is wrong, and where.
type Error struct {
	Place  string // such as .settle[2].lease; empty: the whole
	Detail string
}

func (e *Error) Error() string {
	if e.Place == "" {
		return e.Detail
	}
	return e.Place + ": " + e.Detail
}

// Unmarshal reads a value as encoding/json does, or returns an *Error. What
// goes into a json.RawMessage is taken as it is, but for texts in it that do
// not stand for characters.
func Unmarshal(data []byte, into any) error {
	if !utf8.Valid(data) {
		return &Error{Detail: fmt.Sprintf("byte %d is not UTF-8", invalidAt(data)+1)}
	}
	d := json.NewDecoder(bytes.NewReader(data))
	d.DisallowUnknownFields()
	if err := d.Decode(into); err != nil {
		return inWords(data, err)
	}
	if rest := bytes.TrimLeft(data[d.InputOffset():], " \t\r\n"); len(rest) > 0 {
		return &Error{Detail: fmt.Sprintf("there is more after the JSON value, at byte %d", len(data)-len(rest)+1)}
	}
	return (&walk{data: data}).value(reflect.TypeOf(into))
}

func invalidAt(data []byte) (i int) {
	for i < len(data) {
		r, size := utf8.DecodeRune(data[i:])
		if r == utf8.RuneError && size == 1 {
			return i
		}
		i += size
	}
	return i
}

func inWords(data []byte, err error) error {
	var wrongType *json.UnmarshalTypeError
	var syntax *json.SyntaxError
	switch {
	case errors.As(err, &wrongType):
		place := ""
		if wrongType.Field != "" {
			place = "." + wrongType.Field
		}
		return &Error{place, fmt.Sprintf("a %s stands there; %s is expected", wrongType.Value, kindOf(wrongType.Type))}
	case errors.As(err, &syntax):
		return &Error{Detail: fmt.Sprintf("%v, at byte %d", syntax, syntax.Offset)}
	case errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF):
		if len(bytes.TrimSpace(data)) == 0 {
			return &Error{Detail: "nothing came; a JSON value is expected"}
		}
		return &Error{Detail: "it ends in the middle"}
	}
	return &Error{Detail: strings.TrimPrefix(err.Error(), "json: ")}
}

func kindOf(t reflect.Type) string {
	switch t.Kind() {
	case reflect.Struct, reflect.Map:
		return "an object"
	case reflect.Slice, reflect.Array:
		return "an array"
	case reflect.String:
		return "text"
	case reflect.Bool:
		return "true or false"
	}
	return "a number in its range"
}

// walk goes once over JSON that is known to be well-formed.
type walk struct {
	data []byte
	at   int
	path []string
}

func (w *walk) wrong(detail string, args ...any) error {
	return &Error{strings.Join(w.path, ""), fmt.Sprintf(detail, args...)}
}

var (
	rawType         = reflect.TypeFor[json.RawMessage]()
	unmarshalerType = reflect.TypeFor[json.Unmarshaler]()
)

// value checks a value that goes into a type; nil is any.
func (w *walk) value(t reflect.Type) error {
	for t != nil && t.Kind() == reflect.Pointer {
		t = t.Elem()
	}
	if t != nil && t.Kind() == reflect.Interface {
		t = nil
	}
	opaque := t != nil && (t == rawType || reflect.PointerTo(t).Implements(unmarshalerType))
	w.space()
	switch w.data[w.at] {
	case '{':
		if opaque {
			w.skip()
			return nil
		}
		return w.object(t)
	case '[':
		if opaque {
			w.skip()
			return nil
		}
		return w.array(t)
	case '"':
		_, err := w.text()
		return err
	}
	for w.at < len(w.data) && !strings.ContainsRune(",]} \t\r\n", rune(w.data[w.at])) {
		w.at++
	}
	return nil
}

func (w *walk) space() {
	for w.at < len(w.data) && (w.data[w.at] == ' ' || w.data[w.at] == '\n' || w.data[w.at] == '\t' || w.data[w.at] == '\r') {
		w.at++
	}
}

// skip passes an object or array.
func (w *walk) skip() {
	depth := 0
	for ; w.at < len(w.data); w.at++ {
		switch w.data[w.at] {
		case '{', '[':
			depth++
		case '}', ']':
			if depth--; depth == 0 {
				w.at++
				return
			}
		case '"':
			for w.at++; w.data[w.at] != '"'; w.at++ {
				if w.data[w.at] == '\\' {
					w.at++
				}
			}
		}
	}
}

func (w *walk) array(t reflect.Type) error {
	var element reflect.Type
	if t != nil && (t.Kind() == reflect.Slice || t.Kind() == reflect.Array) {
		element = t.Elem()
	}
	w.at++
	for i := 0; ; i++ {
		w.space()
		switch w.data[w.at] {
		case ']':
			w.at++
			return nil
		case ',':
			w.at++
			w.space()
		}
		w.path = append(w.path, fmt.Sprintf("[%d]", i))
		if err := w.value(element); err != nil {
			return err
		}
		w.path = w.path[:len(w.path)-1]
	}
}

func (w *walk) object(t reflect.Type) error {
	var known map[string]field
	var element reflect.Type
	switch {
	case t == nil:
	case t.Kind() == reflect.Struct:
		known = fieldsOf(t)
	case t.Kind() == reflect.Map:
		element = t.Elem()
	}
	var seen uint64 // fields by their number
	var names map[string]bool
	w.at++
	for {
		w.space()
		switch w.data[w.at] {
		case '}':
			w.at++
			return nil
		case ',':
			w.at++
			w.space()
		}
		name, err := w.text()
		if err != nil {
			return err
		}
		w.space()
		w.at++ // the colon
		repeated := false
		if known != nil {
			f, ok := known[name]
			if !ok {
				for right := range known {
					if strings.EqualFold(right, name) {
						return w.wrong("%q is not known; it is spelled %q", name, right)
					}
				}
				return w.wrong("%q is not known", name)
			}
			bit := uint64(1) << (f.number % 64)
			repeated, seen, element = seen&bit != 0, seen|bit, f.of
		} else {
			if names == nil {
				names = map[string]bool{}
			}
			repeated, names[name] = names[name], true
		}
		if repeated {
			return w.wrong("%q comes twice", name)
		}
		w.path = append(w.path, "."+name)
		if err := w.value(element); err != nil {
			return err
		}
		w.path = w.path[:len(w.path)-1]
	}
}

// text reads a string.
func (w *walk) text() (string, error) {
	start := w.at
	escaped := false
	for w.at++; w.data[w.at] != '"'; w.at++ {
		if w.data[w.at] == '\\' {
			escaped = true
			w.at++
		}
	}
	w.at++
	raw := w.data[start:w.at]
	if !escaped {
		return string(raw[1 : len(raw)-1]), nil
	}
	if half := Half(raw); half != "" {
		return "", w.wrong("%s is half of a surrogate pair, and no character", half)
	}
	var s string
	err := json.Unmarshal(raw, &s)
	return s, err
}

// Verbatim reports whether JSON can stand in other JSON and come back byte for
// byte, from a writer that compacts and a reader that is strict.
func Verbatim(data []byte) bool {
	var compact bytes.Buffer
	return utf8.Valid(data) && json.Compact(&compact, data) == nil && bytes.Equal(compact.Bytes(), data) && (data[0] != '"' || Half(data) == "")
}

// Half returns the first escape in JSON that is one half of a surrogate pair
// without the other, or an empty text.
func Half(data []byte) string {
	high := func(i int) (unit rune, ok bool) {
		if i+6 > len(data) || data[i] != '\\' || data[i+1] != 'u' {
			return 0, false
		}
		var u rune
		if _, err := fmt.Sscanf(string(data[i+2:i+6]), "%04x", &u); err != nil {
			return 0, false
		}
		return u, u >= 0xd800 && u <= 0xdfff
	}
	for i := 0; i+1 < len(data); i++ {
		if data[i] != '\\' {
			continue
		}
		unit, surrogate := high(i)
		if !surrogate {
			i++
			continue
		}
		next, pair := high(i + 6)
		if unit >= 0xdc00 || !pair || next < 0xdc00 {
			return string(data[i : i+6])
		}
		i += 11
	}
	return ""
}

type field struct {
	number int
	of     reflect.Type
}

var fieldsByType sync.Map // reflect.Type: map[string]field

// fieldsOf returns what a struct takes, by the names in JSON. Structs have
// fewer than 64 fields.
func fieldsOf(t reflect.Type) map[string]field {
	if known, ok := fieldsByType.Load(t); ok {
		return known.(map[string]field)
	}
	known := map[string]field{}
	addFields(known, t)
	fieldsByType.Store(t, known)
	return known
}

func addFields(known map[string]field, t reflect.Type) {
	var embedded []reflect.Type
	for i := range t.NumField() {
		f := t.Field(i)
		tag, _, _ := strings.Cut(f.Tag.Get("json"), ",")
		switch {
		case f.Anonymous && tag == "":
			embedded = append(embedded, f.Type)
			continue
		case tag == "-" || !f.IsExported():
			continue
		case tag == "":
			tag = f.Name
		}
		if _, outer := known[tag]; !outer {
			known[tag] = field{len(known), f.Type}
		}
	}
	for _, e := range embedded {
		addFields(known, e)
	}
}
