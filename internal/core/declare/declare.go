// Package declare is configuration that is declared in files: it reads and writes
// the files, says with file, line and column what is wrong in them, and compares
// what is declared with what is there. It knows no files, network or catalog.
package declare

import (
	"cmp"
	"encoding/json"
	"maps"
	"reflect"
	"slices"
	"strings"

	"steadyferry/internal/core/address"
	"steadyferry/internal/core/setting"
)

// Thing is one that can be declared, with the settings that are declared of it, as
// their tables show them.
type Thing struct {
	Kind     string         `json:"kind"` // space, topic, queue, endpoint, group, route, role, mask, nodes
	Address  string         `json:"address"`
	Settings map[string]any `json:"settings"`
	From     string         `json:"from,omitempty"` // of a group or a route: where it starts when it is created

	Itself bool `json:"-"` // it came by itself, and is as it came: it need not be declared to stay

	Place Place `json:"-"` // in the files
}

// Nodes is the address of what is set on all nodes together.
const Nodes = address.Nodes

// Kind is a sort of things: what can be set on them.
type Kind struct {
	Name   string
	Plural string // the section of a file
	Rows   []setting.Row
	normal func(values map[string]any) (map[string]any, error)
	read   func(values map[string]json.RawMessage) (setting.Change, error)
	parsed func(texts map[string]string) (map[string]any, error)
}

func kindOf[T any](name, plural, of string, table setting.Table[T]) *Kind {
	k := &Kind{Name: name, Plural: plural, normal: func(values map[string]any) (map[string]any, error) { return table.Normal(values, of) }, read: table.Read, parsed: func(texts map[string]string) (map[string]any, error) { return table.Parsed(texts, of) }}
	for _, row := range table.Rows() {
		if len(row.Kinds) == 0 || slices.Contains(row.Kinds, of) {
			k.Rows = append(k.Rows, row)
		}
	}
	return k
}

// Kinds are all kinds, in the order in which things are made: those that others
// need come first.
var Kinds = []*Kind{
	kindOf("space", "spaces", "", setting.Spaces),
	kindOf("topic", "topics", setting.Topic, setting.Channels),
	kindOf("queue", "queues", setting.Queue, setting.Channels),
	kindOf("nodes", "nodes", "", setting.Clusters),
	kindOf("endpoint", "endpoints", setting.AnEndpoint, setting.Endpoints),
	kindOf(setting.AWatch, "watches", "", setting.Watches),
	kindOf("group", "groups", setting.Consumer, setting.Groups),
	kindOf("route", "routes", setting.Route, setting.Groups),
	kindOf(setting.AChore, "chores", "", setting.Chores),
	kindOf(setting.ARole, "roles", "", setting.Roles),
	kindOf(setting.AMask, "masks", "", setting.Masks),
}

// ofNoSpace are the kinds that stand in no space: the first name of their addresses is that of
// their section.
var ofNoSpace = []*Kind{Named(setting.ARole), Named(setting.AMask)}

// ofSpaces are the kinds that stand in a space beside its channels.
var ofSpaces = []*Kind{Named("endpoint"), Named(setting.AWatch), Named(setting.AChore)}

// readersOf are the kinds of those that read a channel of a kind, which stand below
// it in a file.
func readersOf(channel string) []*Kind {
	switch channel {
	case "topic":
		return []*Kind{Named("group"), Named("route")}
	case "queue":
		return []*Kind{Named("route")}
	}
	return nil
}

// Named returns the kind with the name, or nil.
func Named(name string) *Kind {
	if i := slices.IndexFunc(Kinds, func(k *Kind) bool { return k.Name == name }); i >= 0 {
		return Kinds[i]
	}
	return nil
}

// Parsed reads settings as flags are written, and returns them as Normal does. What is fixed
// cannot be among them.
func (k *Kind) Parsed(texts map[string]string) (map[string]any, error) { return k.parsed(texts) }

// Texts are settings, which are as Normal returns them, as a file has them.
func (k *Kind) Texts(settings map[string]any) map[string]string {
	out := map[string]string{}
	for _, row := range k.Rows {
		if value, ok := settings[row.Name]; ok {
			out[row.Name] = Text(row, value)
		}
	}
	return out
}

func (k *Kind) row(name string) *setting.Row {
	if i := slices.IndexFunc(k.Rows, func(r setting.Row) bool { return r.Name == name }); i >= 0 {
		return &k.Rows[i]
	}
	return nil
}

// Declarable leaves out of the settings of a thing, as they are shown, those that
// are not set and could not be declared so: sizes that come of something else.
func (k *Kind) Declarable(shown map[string]any) map[string]any {
	maps.DeleteFunc(shown, func(name string, value any) bool {
		n, isSize := value.(int64)
		return isSize && n == 0
	})
	return shown
}

// Normal returns the settings of a thing as their table shows them.
func (k *Kind) Normal(values map[string]any) (map[string]any, error) { return k.normal(values) }

// Change returns the settings, which are as Normal returns them, as a change of
// what is there. Labels that are not declared are taken away.
func (k *Kind) Change(settings, is map[string]any) (setting.Change, error) {
	raw := map[string]json.RawMessage{}
	for name, value := range k.Back(settings, is) {
		b, err := json.Marshal(value)
		if err != nil {
			return nil, err
		}
		raw[name] = b
	}
	return k.read(raw)
}

// Back returns the values that make the settings of what is there: labels that are
// not declared have an empty value, which takes them away.
func (k *Kind) Back(settings, is map[string]any) map[string]any {
	back := maps.Clone(settings)
	for name, value := range back {
		if row := k.row(name); row != nil && isPairs(*row) {
			back[name] = withoutOthers(labelsOf(value), labelsOf(is[name]))
		}
	}
	return back
}

// isPairs reports whether a setting is names with values, of which a change says only what
// changes.
func isPairs(row setting.Row) bool {
	return slices.Contains([]string{"labels", "headers", "columns"}, row.Form)
}

func labelsOf(value any) map[string]string {
	labels, _ := value.(map[string]string)
	return labels
}

func withoutOthers(declared, is map[string]string) map[string]string {
	change := maps.Clone(declared)
	if change == nil {
		change = map[string]string{}
	}
	for name := range is {
		if _, kept := declared[name]; !kept {
			change[name] = ""
		}
	}
	return change
}

// Sort orders things by what needs what, and by address.
func Sort(things []Thing) {
	slices.SortFunc(things, func(a, b Thing) int {
		return cmp.Or(cmp.Compare(order(a.Kind), order(b.Kind)), cmp.Compare(a.Address, b.Address))
	})
}

func order(kind string) int {
	return slices.IndexFunc(Kinds, func(k *Kind) bool { return k.Name == kind })
}

// What a Change does.
const (
	Create   = "create"
	Set      = "set"
	Remove   = "remove"
	TakeOver = "take-over" // nothing of the thing changes, but whose it is
)

// Change is what a declaration would change of one thing.
type Change struct {
	Op      string         `json:"op"`
	Kind    string         `json:"kind"`
	Address string         `json:"address"`
	Before  map[string]any `json:"before,omitempty"` // of what differs
	After   map[string]any `json:"after,omitempty"`
	From    string         `json:"from,omitempty"`
}

// Compare returns the changes that make what is declared of what is there, in an
// order that works: what others need is made first and removed last. With remove,
// what is there and not declared, in the spaces that are, goes.
func Compare(declared, there []Thing, remove bool) []Change {
	have := map[string]Thing{}
	for _, t := range there {
		have[t.key()] = t
	}
	wanted := slices.Clone(declared)
	Sort(wanted)
	var changes []Change
	meant, spaces := map[string]bool{}, map[string]bool{}
	for _, t := range wanted {
		meant[t.key()] = true
		if t.Kind == "space" {
			spaces[t.Address] = true
		}
		is, known := have[t.key()]
		if !known {
			changes = append(changes, Change{Op: Create, Kind: t.Kind, Address: t.Address, After: t.Settings, From: t.From})
			continue
		}
		before, after := map[string]any{}, map[string]any{}
		for name, value := range t.Settings {
			if !reflect.DeepEqual(value, is.Settings[name]) {
				before[name], after[name] = is.Settings[name], value
			}
		}
		if len(after) > 0 {
			changes = append(changes, Change{Op: Set, Kind: t.Kind, Address: t.Address, Before: before, After: after})
		}
	}
	if !remove {
		return changes
	}
	gone := slices.DeleteFunc(slices.Clone(there), func(t Thing) bool {
		space, _, _ := strings.Cut(t.Address, "/")
		return meant[t.key()] || t.Itself || t.Kind == "nodes" || !spaces[space]
	})
	Sort(gone)
	slices.Reverse(gone)
	for _, t := range gone {
		changes = append(changes, Change{Op: Remove, Kind: t.Kind, Address: t.Address, Before: t.Settings})
	}
	return changes
}

func (t *Thing) key() string { return t.Kind + " " + t.Address }

// SpaceOf returns the space of the thing with the address; empty of what is in none.
func SpaceOf(t Thing) string {
	a, err := address.Parse(t.Address)
	if err != nil || a.Space == Nodes || slices.Contains(ofNoSpace, Named(t.Kind)) {
		return ""
	}
	return a.Space
}
