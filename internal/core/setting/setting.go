// Package setting is what can be set on things, one row a setting: its form,
// range and default, where it lies, and what a change of it means. Checking,
// JSON, flags, forms, previews and the logbook all come from the rows.
package setting

import (
	"cmp"
	"encoding/json"
	"fmt"
	"reflect"
	"slices"
	"strings"

	"steadyferry/internal/core/address"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/strict"
)

// Setting is one thing that can be set on a T.
type Setting[T any] struct {
	Name    string   // in JSON
	AsFlag  string   // the flag; empty: its name's words with hyphens
	Kinds   []string // of T that have it; none: all
	Label   string   // over its field in a form
	Help    string   // of its flag, with the value's name in backquotes
	Default string   // as text; empty: the zero value, or what the maker of a T finds
	Form    Form
	Fixed   bool // it is chosen when the thing is made, and stays

	// Get and Put read and write it. Put takes what Form.Read returns; a change
	// of labels may need what is there.
	Get func(t *T) any
	Put func(t *T, value any)

	// Effects says in words what a change of it means, if it means more than
	// its new value; nil: nothing.
	Effects func(was, is *T) []string
	// Careful says that a change of it loses something, brings a loss nearer, or
	// moves replicas or keys: it is previewed first.
	Careful func(was, is *T) bool
	// Refuse says why that of the thing with the address cannot be changed so.
	Refuse func(was, is *T, address string) *problem.Problem
}

// Of reports whether things of a kind have the setting.
func (s *Setting[T]) Of(kind string) bool { return len(s.Kinds) == 0 || slices.Contains(s.Kinds, kind) }

// Flag is the setting's name as a flag: id-window of idWindow.
func (s *Setting[T]) Flag() string { return cmp.Or(s.AsFlag, Flag(s.Name)) }

// Flag is a name in JSON as a flag.
func Flag(name string) string {
	var b strings.Builder
	for _, r := range name {
		if r >= 'A' && r <= 'Z' {
			b.WriteByte('-')
			r += 'a' - 'A'
		}
		b.WriteRune(r)
	}
	return b.String()
}

// Table is all that can be set on a T, in the order in which it is shown.
type Table[T any] []*Setting[T]

// Change is new values by the names of settings, as Form.Read returns them.
type Change map[string]any

// Named returns the setting with the name, or nil.
func (t Table[T]) Named(name string) *Setting[T] {
	for _, s := range t {
		if s.Name == name {
			return s
		}
	}
	return nil
}

// names lists the settings of a kind.
func (t Table[T]) names(kind string) string {
	var names []string
	for _, s := range t {
		if s.Of(kind) {
			names = append(names, s.Name)
		}
	}
	return strings.Join(names, ", ")
}

// Read reads a change from values in JSON, and checks each value for itself. A
// name that no kind has is refused; whether the kind has it, Fits tells.
func (t Table[T]) Read(values map[string]json.RawMessage) (Change, error) {
	change := Change{}
	for name, raw := range values {
		s := t.Named(name)
		if s == nil {
			return nil, unknown(name, t.names(""))
		}
		value, err := s.read(raw)
		if err != nil {
			return nil, err
		}
		change[name] = value
	}
	return change, nil
}

func unknown(name, allowed string) *problem.Problem {
	return problem.New(problem.Invalid, "unknown field %q", name).Field(name).Allowed(allowed)
}

func (s *Setting[T]) read(raw json.RawMessage) (any, error) {
	var value any
	if err := strict.Unmarshal(raw, &value); err != nil {
		return nil, problem.New(problem.Invalid, "%s: %v", s.Name, err).Field(s.Name)
	}
	return s.Form.Read(s.Name, value)
}

// Fits says which setting of a change things of the kind do not have.
func (t Table[T]) Fits(change Change, kind, address string) error {
	for _, s := range t {
		if _, given := change[s.Name]; given && !s.Of(kind) {
			return problem.New(problem.Invalid, "%s is a %s, which has no %s", address, kind, s.Name).Field(s.Name).Allowed(t.names(kind))
		}
	}
	return nil
}

// Apply makes a change.
func (t Table[T]) Apply(to *T, change Change) {
	for _, s := range t {
		if value, given := change[s.Name]; given {
			s.Put(to, value)
		}
	}
}

// SetDefaults sets what things of a kind have unless somebody says otherwise.
func (t Table[T]) SetDefaults(to *T, kind string) {
	for _, s := range t {
		if s.Default == "" || !s.Of(kind) {
			continue
		}
		value, err := s.Form.Parse(s.Name, s.Default)
		if err != nil {
			panic(err) // a row with a wrong default
		}
		s.Put(to, value)
	}
}

// Show returns the settings of a thing as JSON and the logbook have them.
func (t Table[T]) Show(of *T, kind string) map[string]any {
	all := map[string]any{}
	for _, s := range t {
		if s.Of(kind) {
			all[s.Name] = s.Form.Show(s.Get(of))
		}
	}
	return all
}

// Diff returns what differs between two, as Show has it, and what that means
// in words.
func (t Table[T]) Diff(was, is *T, kind string) (before, after map[string]any, effects []string) {
	before, after = map[string]any{}, map[string]any{}
	for _, s := range t {
		if !s.Of(kind) {
			continue
		}
		a, b := s.Form.Show(s.Get(was)), s.Form.Show(s.Get(is))
		if reflect.DeepEqual(a, b) {
			continue
		}
		before[s.Name], after[s.Name] = a, b
		if s.Effects != nil {
			effects = append(effects, s.Effects(was, is)...)
		}
	}
	return before, after, effects
}

// Careful reports whether a change has something that is previewed first.
func (t Table[T]) Careful(was, is *T, kind string) bool {
	return slices.ContainsFunc(t, func(s *Setting[T]) bool { return s.Careful != nil && s.Of(kind) && s.Careful(was, is) })
}

// Refuse says which change is none that can be made.
func (t Table[T]) Refuse(was, is *T, kind, address string) error {
	for _, s := range t {
		if s.Refuse == nil || !s.Of(kind) {
			continue
		}
		if p := s.Refuse(was, is, address); p != nil {
			return p.Field(s.Name)
		}
	}
	return nil
}

// Row is a setting as a form of a page needs it.
type Row struct {
	Name    string   `json:"name"`
	Flag    string   `json:"flag"`
	Kinds   []string `json:"kinds"` // of things that have it; empty: all
	Label   string   `json:"label"`
	Form    string   `json:"form"`              // number, size, duration, durations, switch, sentence, names, labels, choice, condition, edits, address
	Allowed string   `json:"allowed"`           // in words
	Choices []string `json:"choices,omitempty"` // of a choice
	Fixed   bool     `json:"fixed"`             // it cannot be changed later
	Default string   `json:"default"`
}

// Rows lists the table for pages.
func (t Table[T]) Rows() []Row {
	rows := make([]Row, len(t))
	for i, s := range t {
		rows[i] = Row{Name: s.Name, Flag: s.Flag(), Kinds: slices.Clone(s.Kinds), Label: s.Label, Form: s.Form.Name, Allowed: s.Form.Allowed, Choices: s.Form.Choices, Fixed: s.Fixed, Default: s.Default}
		if rows[i].Kinds == nil {
			rows[i].Kinds = []string{}
		}
	}
	return rows
}

// MaxDescription and MaxLabel are how many bytes a description, and the value
// of a label, may have.
const (
	MaxDescription = 500
	MaxLabel       = 100
	maxLabels      = 20
)

// CheckLabels says what is wrong with labels.
func CheckLabels(labels map[string]string) error {
	if len(labels) > maxLabels {
		return problem.New(problem.Invalid, "%d labels", len(labels)).Field("labels").Allowed(fmt.Sprintf("up to %d", maxLabels))
	}
	for name, value := range labels {
		if strings.ContainsRune(name+value, 0) {
			return problem.New(problem.Invalid, "label %q has the character U+0000", name).Field("labels").Allowed("text without it")
		}
		if err := address.CheckName(name); err != nil || len(value) > MaxLabel {
			return problem.New(problem.Invalid, "label %q=%q", name, value).Field("labels").Allowed(fmt.Sprintf("names of a-z 0-9 . _ - and values of up to %d characters", MaxLabel))
		}
	}
	return nil
}

// Normal reads values as JSON has them, and returns them as Show has them. A name
// that things of the kind do not have is refused.
func (t Table[T]) Normal(values map[string]any, kind string) (map[string]any, error) {
	normal := make(map[string]any, len(values))
	for name, value := range values {
		s := t.Named(name)
		if s == nil || !s.Of(kind) {
			return nil, unknown(name, t.names(kind))
		}
		read, err := s.Form.Read(name, value)
		if err != nil {
			return nil, err
		}
		normal[name] = s.Form.Show(read)
	}
	return normal, nil
}

// Parsed reads settings of things of a kind as flags are written, and returns them as Show
// does. What is fixed cannot be among them.
func (t Table[T]) Parsed(texts map[string]string, kind string) (map[string]any, error) {
	shown := make(map[string]any, len(texts))
	for name, text := range texts {
		s := t.Named(name)
		if s == nil || !s.Of(kind) || s.Fixed {
			return nil, unknown(name, t.names(kind))
		}
		value, err := s.Form.Parse(name, text)
		if err != nil {
			return nil, err
		}
		shown[name] = s.Form.Show(value)
	}
	return shown, nil
}
