package declare

import (
	"encoding/json"
	"fmt"
	"maps"
	"reflect"
	"regexp"
	"slices"
	"strings"

	"steadyferry/internal/core/address"
	"steadyferry/internal/core/setting"
)

// SchemaFile is the name of the JSON Schema beside the files of a declaration:
// editors find it by the first line of each.
const SchemaFile = "declaration.schema.json"

// NodesFile is the file of what is in no space, such as what is set on all nodes together.
const NodesFile = "nodes.yaml"

// FileOf returns the name of the file that a thing stands in when it is written.
func FileOf(t Thing) string {
	if space := SpaceOf(t); space != "" {
		return space + ".yaml"
	}
	return NodesFile
}

// always are settings that are written also when they are as without them: how
// much is kept, on how many nodes, and for how long.
var always = []string{"partitionCount", "replicas", "retain", "retainBytes", "lease", "attemptLimit", "retainDead", "spreadLeaders"}

// Write returns files that declare the things, by their names. What it writes of
// the same things is the same, byte for byte. With all, settings that are as
// without them stand there too.
func Write(name string, things []Thing, all bool) map[string]string {
	things = slices.DeleteFunc(slices.Clone(things), func(t Thing) bool { return t.Itself })
	Sort(things)
	files := map[string]*strings.Builder{}
	begin := func(t Thing) *strings.Builder {
		b := files[FileOf(t)]
		if b == nil {
			b = &strings.Builder{}
			fmt.Fprintf(b, "# yaml-language-server: $schema=%s\ndeclaration: %s\n", SchemaFile, name)
			if space := SpaceOf(t); space != "" {
				fmt.Fprintf(b, "\nspace: %s\n", space)
			}
			files[FileOf(t)] = b
		}
		return b
	}
	readers := map[string][]Thing{} // by kind and channel
	for _, t := range things {
		if a, err := address.Parse(t.Address); err == nil && a.Group != "" {
			key := t.Kind + a.ChannelPart().String()
			readers[key] = append(readers[key], t)
		}
	}
	section := map[*strings.Builder]string{}
	for _, t := range things {
		b := begin(t)
		switch t.Kind {
		case "nodes":
			fmt.Fprint(b, "\nnodes:\n")
			writeSettings(b, t, "  ", all)
		case "space":
			writeSettings(b, t, "", all)
		case "topic", "queue", "endpoint", setting.AWatch, setting.AChore, setting.ARole, setting.AMask:
			if plural := Named(t.Kind).Plural; section[b] != plural {
				section[b] = plural
				fmt.Fprintf(b, "\n%s:\n", plural)
			}
			a, _ := address.Parse(t.Address)
			fmt.Fprintf(b, "  %s:\n", a.Channel)
			writeSettings(b, t, "    ", all)
			for _, k := range readersOf(t.Kind) {
				writeReaders(b, k, readers[k.Name+t.Address], all)
			}
		}
	}
	out := map[string]string{}
	for file, b := range files {
		out[file] = b.String()
	}
	return out
}

// writeReaders writes the readers of a channel that are of a kind.
func writeReaders(b *strings.Builder, k *Kind, of []Thing, all bool) {
	if len(of) > 0 {
		fmt.Fprintf(b, "    %s:\n", k.Plural)
	}
	for _, t := range of {
		a, _ := address.Parse(t.Address)
		name := a.Group
		var own strings.Builder
		writeSettings(&own, t, "        ", all)
		if own.Len() == 0 {
			fmt.Fprintf(b, "      %s: {}\n", name)
			continue
		}
		fmt.Fprintf(b, "      %s:\n%s", name, own.String())
	}
}

func writeSettings(b *strings.Builder, t Thing, indent string, all bool) {
	k := Named(t.Kind)
	for _, row := range k.Rows {
		value, known := t.Settings[row.Name]
		if !known || !all && !slices.Contains(always, row.Name) && k.isDefault(row, value) {
			continue
		}
		b.WriteString(Line(row, value, indent))
	}
}

// isDefault reports whether a setting is as it is when it is left out.
func (k *Kind) isDefault(row setting.Row, value any) bool {
	if row.Default != "" {
		if normal, err := k.Normal(map[string]any{row.Name: fromDefault(row)}); err == nil {
			return reflect.DeepEqual(normal[row.Name], value)
		}
	}
	switch v := value.(type) {
	case string:
		return v == "" || v == "0s"
	case bool:
		return !v
	case int:
		return v == 0
	case int64:
		return v == 0
	}
	return reflect.ValueOf(value).Len() == 0
}

// fromDefault is the default of a row as JSON would have it.
func fromDefault(row setting.Row) any {
	switch row.Form {
	case "number":
		var n float64
		fmt.Sscan(row.Default, &n)
		return n
	case "switch":
		return row.Default == "true"
	}
	return row.Default
}

// Line is a setting as a file has it, with what is allowed.
func Line(row setting.Row, value any, indent string) string {
	text, name := Text(row, value), row.Name
	if slices.Contains(notTexts, name) {
		name = `"` + name + `"` // not a yes or no, to readers of older versions
	}
	if slices.Contains([]string{"sentence", "labels", "switch", "condition", "edits", "address", "verbs"}, row.Form) {
		return fmt.Sprintf("%s%s: %s\n", indent, name, text)
	}
	return fmt.Sprintf("%s%s: %s  # %s\n", indent, name, text, row.Allowed)
}

// Text is the value of a setting as a file has it, in one line.
func Text(row setting.Row, value any) string {
	if n, ok := value.(int64); ok && row.Form == "size" {
		if text := address.FormatSize(n); sizeOf(text) == n {
			return text
		}
	}
	switch v := value.(type) {
	case string:
		if row.Form == "duration" || row.Form == "durations" || row.Form == "choice" {
			return v
		}
		return quoted(v)
	case []string:
		all := make([]string, len(v))
		for i, one := range v {
			all[i] = quoted(one)
		}
		return "[" + strings.Join(all, ", ") + "]"
	case map[string]string:
		var all []string
		for _, name := range slices.Sorted(maps.Keys(v)) {
			all = append(all, quoted(name)+": "+quoted(v[name]))
		}
		return "{" + strings.Join(all, ", ") + "}"
	}
	return fmt.Sprint(value)
}

// plain are texts that no reader of YAML, of any version, takes for something else.
var plain = regexp.MustCompile(`^\pL[\pL\pN_./@-]*( [\pL\pN_./@-]+)*$`)

var notTexts = []string{"true", "false", "null", "yes", "no", "on", "off", "y", "n"}

// quoted writes a text: as it is, or as JSON has it, which YAML reads too.
func quoted(text string) string {
	if plain.MatchString(text) && !slices.Contains(notTexts, strings.ToLower(text)) {
		return text
	}
	var b strings.Builder
	enc := json.NewEncoder(&b)
	enc.SetEscapeHTML(false)
	// ${ alone would be a value of the environment.
	if err := enc.Encode(strings.ReplaceAll(text, "${", "$${")); err != nil {
		panic(err) // a text
	}
	return strings.TrimSuffix(b.String(), "\n")
}

func sizeOf(text string) int64 {
	n, err := address.ParseSize(text)
	if err != nil {
		return -1
	}
	return n
}
