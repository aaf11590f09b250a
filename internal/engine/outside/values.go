package outside

import (
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"
	"unsafe"

	"github.com/tidwall/gjson"
)

// values are the rows of messages, in the text form of COPY: tabs between columns, a line a
// row. Of those that replace each other, the last one.
func (r *rows) values(lane *Lane, items []Item, of *tableForm) []byte {
	f := &reading{of, lane, make([]gjson.Result, len(r.columns))}
	text := make([]byte, 0, 64*len(items)*len(r.columns)/4+64)
	last := map[string]int{}
	var keys []string
	if len(r.place.KeyColumns) > 0 {
		keys = make([]string, len(items))
		for i := range items {
			if keys[i] = r.key(&items[i], f); keys[i] != "" {
				last[keys[i]] = i
			}
		}
	}
	for i := range items {
		if keys != nil && keys[i] != "" && last[keys[i]] != i {
			continue
		}
		f.fields(&items[i])
		for c := range r.columns {
			if c > 0 {
				text = append(text, '\t')
			}
			value, ok := f.value(&items[i], c)
			if !ok {
				text = append(text, `\N`...)
				continue
			}
			text = escaped(text, value)
		}
		text = append(text, '\n')
	}
	return text
}

// key is what names the row of a message; nothing, if a part of it is missing.
func (r *rows) key(i *Item, f *reading) (key string) {
	f.fields(i)
	for c, name := range r.columns {
		if !slices.Contains(r.place.KeyColumns, name) {
			continue
		}
		value, ok := f.value(i, c)
		if !ok {
			return ""
		}
		key += fmt.Sprintf("%d:%s", len(value), value)
	}
	return key
}

// escaped appends a value as COPY reads it.
func escaped(text []byte, value string) []byte {
	for i := range len(value) {
		switch c := value[i]; c {
		case '\\':
			text = append(text, `\\`...)
		case '\n':
			text = append(text, `\n`...)
		case '\r':
			text = append(text, `\r`...)
		case '\t':
			text = append(text, `\t`...)
		default:
			text = append(text, c)
		}
	}
	return text
}

// fields looks up what columns get of the body of a message: most in one pass.
func (f *reading) fields(i *Item) {
	clear(f.found)
	if len(f.found) == 0 || !gjson.ValidBytes(i.Body) {
		return
	}
	body := gjson.Parse(unsafe.String(unsafe.SliceData(i.Body), len(i.Body))) // nobody changes a body
	if body.IsObject() && len(f.names) > 0 {
		body.ForEach(func(name, value gjson.Result) bool {
			if c, wanted := f.names[name.Str]; wanted {
				f.found[c] = value
			}
			return true
		})
	}
	for c, path := range f.paths {
		if path != "" {
			f.found[c] = body.Get(path)
		}
	}
}

// value is what a column gets of a message, as text; without true it is NULL.
func (f *reading) value(i *Item, column int) (string, bool) {
	source := f.sources[column]
	name, isHeader := strings.CutPrefix(source, "header.")
	switch {
	case isHeader:
		v, ok := i.Header(name)
		return f.text(column, v), ok
	case strings.HasPrefix(source, "/"):
		return f.field(column, f.found[column])
	}
	switch source {
	case "key":
		return f.text(column, i.Key), true
	case "id":
		return f.text(column, i.ID), true
	case "time":
		at := i.Time
		if at.IsZero() {
			at = i.StoredAt
		}
		return f.text(column, at.UTC().Format(time.RFC3339Nano)), true
	case "partition":
		return strconv.Itoa(f.lane.Partition), true
	case "offset":
		return strconv.FormatInt(i.Offset, 10), true
	case "source":
		return f.text(column, f.lane.Source), true
	}
	if f.isJSON[column] && gjson.ValidBytes(i.Body) {
		return string(i.Body), true
	}
	return f.text(column, string(i.Body)), true
}

// text is a text as the column has texts.
func (f *tableForm) text(column int, s string) string {
	if f.isJSON[column] {
		b, _ := json.Marshal(s) // a text
		return string(b)
	}
	return s
}

// field is a field of a body as text.
func (f *tableForm) field(column int, v gjson.Result) (string, bool) {
	switch {
	case !v.Exists() || v.Type == gjson.Null:
		return "", false
	case v.Type == gjson.String && !f.isJSON[column]:
		return v.Str, true
	}
	return v.Raw, true
}

// pathOf is a JSON Pointer (RFC 6901) as gjson has paths.
func pathOf(pointer string) string {
	var path strings.Builder
	for n, token := range strings.Split(pointer[1:], "/") {
		if n > 0 {
			path.WriteByte('.')
		}
		token = strings.ReplaceAll(strings.ReplaceAll(token, "~1", "/"), "~0", "~")
		for _, c := range token {
			if !(c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || c == '_' || c > 0x7f) {
				path.WriteByte('\\')
			}
			path.WriteRune(c)
		}
	}
	return path.String()
}
