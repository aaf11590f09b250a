package gate

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/engine/logbook"
)

// LogbookEntry is a row of the logbook as it is told to whoever asks.
func LogbookEntry(ctx context.Context, r *logbook.Row) form.LogbookEntry {
	if !access.Sight(ctx, access.SeeContent, r.Address).Whole() {
		r.Before, r.After = withoutContents(r.Before), withoutContents(r.After)
	}
	return form.LogbookEntry{ID: r.ID, At: r.At.UTC(), Who: r.Who, Action: r.Action, Address: r.Address, Outcome: r.Outcome, Credential: r.Credential, From: r.CameFrom, Before: r.Before, After: r.After, Change: changeInWords(r.Before, r.After), Times: 1}
}

// ofContents are what an entry has that may tell of what is in messages: by what others chose
// them, what they made of them, and why that failed.
var ofContents = []string{"where", "edits", "failed"}

func withoutContents(raw json.RawMessage) json.RawMessage {
	fields, some := fieldsIn(raw), false
	for _, name := range ofContents {
		if v, there := fields[name]; there && v != nil && v != "" {
			fields[name], some = "hidden", true
		}
	}
	if !some {
		return raw
	}
	out, err := json.Marshal(fields)
	if err != nil {
		panic(err) // it was JSON
	}
	return out
}

// changeInWords says in a line what is another thing after than before, and which
// declaration made it so, if one did.
func changeInWords(before, after json.RawMessage) string {
	was, is := fieldsIn(before), fieldsIn(after)
	declaration, declared := is["declaration"].(string)
	if !declared {
		return fieldsInWords(was, is)
	}
	if delete(is, "declaration"); len(is) == 0 {
		is = nil
	}
	return strings.TrimSuffix("declared by "+declaration+": "+fieldsInWords(was, is), ": ")
}

func fieldsInWords(was, is map[string]any) string {
	names := slices.Collect(maps.Keys(was))
	for name := range is {
		if _, both := was[name]; !both {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	var parts []string
	for _, name := range names {
		old, now := settingInWords(name, was[name]), settingInWords(name, is[name])
		switch {
		case old == now:
		case was == nil:
			parts = append(parts, nameInWords(name)+" "+now)
		case is == nil:
			parts = append(parts, nameInWords(name)+" "+old)
		default:
			parts = append(parts, nameInWords(name)+" "+old+" → "+now)
		}
	}
	return strings.Join(parts, "; ")
}

func fieldsIn(raw json.RawMessage) map[string]any {
	var fields map[string]any
	d := json.NewDecoder(bytes.NewReader(raw))
	d.UseNumber()
	if d.Decode(&fields) != nil {
		return nil
	}
	return fields
}

const none = "none"

// nameInWords makes retain bytes of retainBytes.
func nameInWords(name string) string {
	var b strings.Builder
	for i, r := range name {
		if r >= 'A' && r <= 'Z' && i > 0 && name[i-1] >= 'a' && name[i-1] <= 'z' {
			b.WriteByte(' ')
			r += 'a' - 'A'
		}
		b.WriteRune(r)
	}
	return b.String()
}

// settingInWords is inWords for what may be a setting: sizes have a unit.
func settingInWords(name string, v any) string {
	number, isNumber := v.(json.Number)
	if s := setting.Channels.Named(name); s == nil || s.Form.Name != "size" || !isNumber {
		return inWords(v)
	}
	n, err := number.Int64()
	if err != nil {
		return inWords(v)
	}
	return address.FormatSize(n)
}

func inWords(v any) string {
	switch v := v.(type) {
	case nil:
		return none
	case string:
		if v == "" {
			return none
		}
		return v
	case bool:
		return map[bool]string{true: "yes", false: "no"}[v]
	case []any:
		if len(v) == 0 {
			return none
		}
		words := make([]string, len(v))
		for i, one := range v {
			words[i] = inWords(one)
		}
		return strings.Join(words, ", ")
	case map[string]any:
		if len(v) == 0 {
			return none
		}
		var words []string
		for _, name := range slices.Sorted(maps.Keys(v)) {
			words = append(words, nameInWords(name)+" "+inWords(v[name]))
		}
		return "(" + strings.Join(words, ", ") + ")"
	}
	return fmt.Sprint(v)
}
