package declare

import (
	"encoding/json"
	"maps"
	"slices"
	"strings"

	"steadyferry/internal/core/setting"
)

type object = map[string]any

// Schema returns the JSON Schema (2020-12) of the files of a declaration, from the
// tables of settings: editors complete and check with it.
func Schema() []byte {
	const plain = "[a-z0-9][a-z0-9._-]{0,99}"
	name := object{"type": "string", "pattern": "^" + plain + "$"}
	// That of a route on dead letters is dead@NAME, or READER/dead@NAME.
	readerName := object{"type": "string", "pattern": "^(" + plain + "|(" + plain + "/)?dead@" + plain + "(/dead@" + plain + ")*)$"}
	use := object{"description": "blocks of settings; what is said here itself comes first", "anyOf": []any{object{"type": "string"}, object{"type": "array", "items": object{"type": "string"}}}}
	channel := func(kind string) object {
		beside := object{"use": use}
		for _, k := range readersOf(kind) {
			starts := object{"type": "string", "description": "where it starts when it is created: first, end, offset:N, time:T, ago:D", "default": setting.StartOf(k.Name, kind)}
			beside[k.Plural] = object{"type": "object", "propertyNames": readerName, "additionalProperties": settingsSchema(k.Name, object{"use": use, "from": starts})}
		}
		return object{"type": "object", "propertyNames": name, "additionalProperties": settingsSchema(kind, beside)}
	}
	properties := object{
		"declaration": object{"type": "string", "pattern": name["pattern"], "description": "the name of the declaration, the same in all files of a directory"},
		"include":     object{"description": "files whose blocks are used here", "anyOf": []any{object{"type": "string"}, object{"type": "array", "items": object{"type": "string"}}}},
		"blocks":      object{"type": "object", "description": "settings by a name, for use", "additionalProperties": object{"type": "object"}},
		"nodes":       settingsSchema("nodes", nil),
		"space":       object{"type": "string", "pattern": name["pattern"]},
		"topics":      channel("topic"),
		"queues":      channel("queue"),
	}
	for _, k := range slices.Concat(ofSpaces, ofNoSpace) {
		properties[k.Plural] = object{"type": "object", "propertyNames": name, "additionalProperties": settingsSchema(k.Name, object{"use": use})}
	}
	maps.Copy(properties, settingsSchema("space", nil)["properties"].(object))
	b, err := json.MarshalIndent(object{"$schema": "https://json-schema.org/draft/2020-12/schema", "title": "A declaration of Steady Ferry", "type": "object", "additionalProperties": false, "properties": properties}, "", "  ")
	if err != nil {
		panic(err) // maps and texts
	}
	return append(b, '\n')
}

// settingsSchema is that of the settings of a kind, which may be empty.
func settingsSchema(kind string, beside object) object {
	properties := object{}
	for _, row := range Named(kind).Rows {
		properties[row.Name] = rowSchema(row)
	}
	maps.Copy(properties, beside)
	return object{"type": []any{"object", "null"}, "additionalProperties": false, "properties": properties}
}

// variableSchema lets a value come from the environment.
var variableSchema = object{"type": "string", "pattern": `^\$\{[^}]+\}$`}

func rowSchema(row setting.Row) object {
	var one object
	switch row.Form {
	case "number":
		one = object{"type": "integer"}
	case "size":
		one = object{"type": []any{"string", "integer"}}
	case "switch":
		one = object{"type": "boolean"}
	case "choice":
		one = object{"enum": row.Choices}
	case "names", "addresses", "edits", "verbs", "fields":
		one = object{"type": "array", "items": object{"type": "string"}}
	case "labels", "headers", "columns":
		return object{"type": "object", "additionalProperties": object{"type": "string"}, "description": row.Label + ": " + row.Allowed}
	default:
		one = object{"type": "string"}
	}
	about := row.Label
	if row.Form != "switch" && row.Form != "sentence" {
		about += ": " + row.Allowed
	}
	schema := object{"description": strings.TrimSuffix(about, ": "), "anyOf": []any{one, variableSchema}}
	if row.Default != "" {
		schema["default"] = fromDefault(row)
	}
	return schema
}
