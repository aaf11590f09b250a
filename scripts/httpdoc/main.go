// Command httpdoc writes docs/http.md from the OpenAPI document.
package main

import (
	"fmt"
	"log"
	"maps"
	"os"
	"slices"
	"strings"

	"github.com/getkin/kin-openapi/openapi3"
)

func main() {
	loader := openapi3.NewLoader()
	doc, err := loader.LoadFromFile("internal/door/api/openapi.yaml")
	if err != nil {
		log.Fatal(err)
	}
	var b strings.Builder
	b.WriteString("# HTTP\n\nMade by `make docs` from the OpenAPI document, which a node serves at `/api/v1/openapi.json`.\n\n" + doc.Info.Description + "\n")
	for _, path := range doc.Paths.InMatchingOrder() {
		item := doc.Paths.Value(path)
		for _, method := range []string{"GET", "POST", "PATCH", "DELETE"} {
			operation := item.GetOperation(method)
			if operation == nil {
				continue
			}
			fmt.Fprintf(&b, "\n## %s %s\n\n%s.\n", method, path, operation.Summary)
			if operation.Description != "" {
				fmt.Fprintf(&b, "\n%s\n", operation.Description)
			}
			writeParameters(&b, append(item.Parameters, operation.Parameters...))
			if operation.RequestBody != nil {
				fmt.Fprintf(&b, "\nBody: %s\n", content(operation.RequestBody.Value.Content))
			}
			b.WriteString("\n")
			for _, status := range []string{"200", "201", "204", "503"} {
				if r := operation.Responses.Value(status); r != nil {
					fmt.Fprintf(&b, "- **%s** %s%s\n", status, *r.Value.Description, dash(content(r.Value.Content)))
				}
			}
		}
	}
	b.WriteString("\n# Shapes\n")
	for _, name := range slices.Sorted(maps.Keys(doc.Components.Schemas)) {
		writeSchema(&b, name, doc.Components.Schemas[name].Value)
	}
	os.Stdout.WriteString(b.String())
}

func writeParameters(b *strings.Builder, parameters openapi3.Parameters) {
	header := false
	for _, ref := range parameters {
		p := ref.Value
		if p.In != "query" {
			continue
		}
		if !header {
			b.WriteString("\n| query | meaning | default |\n|---|---|---|\n")
			header = true
		}
		fallback := ""
		if p.Schema.Value.Default != nil {
			fallback = fmt.Sprintf("`%v`", p.Schema.Value.Default)
		}
		fmt.Fprintf(b, "| `%s` | %s | %s |\n", p.Name, p.Description, fallback)
	}
}

func content(c openapi3.Content) string {
	var parts []string
	for _, mediaType := range slices.Sorted(maps.Keys(c)) {
		text := "`" + mediaType + "`"
		if schema := c[mediaType].Schema; schema != nil {
			if name := shape(schema); name != "" {
				text += " " + name
			}
		}
		parts = append(parts, text)
	}
	return strings.Join(parts, ", ")
}

func dash(text string) string {
	if text == "" {
		return ""
	}
	return " — " + text
}

// shape names a schema: a link to one of the shapes, or its type.
func shape(s *openapi3.SchemaRef) string {
	if s.Ref != "" {
		name := s.Ref[strings.LastIndex(s.Ref, "/")+1:]
		return fmt.Sprintf("[%s](#%s)", name, strings.ToLower(name))
	}
	if s.Value.Type == nil {
		return ""
	}
	types := strings.Join(s.Value.Type.Slice(), " or ")
	switch {
	case s.Value.Type.Is("array"):
		return "array of " + shape(s.Value.Items)
	case s.Value.Items == nil && s.Value.Properties["items"] != nil:
		return "page of " + shape(s.Value.Properties["items"].Value.Items)
	case len(s.Value.Enum) > 0:
		var values []string
		for _, v := range s.Value.Enum {
			values = append(values, fmt.Sprintf("`%v`", v))
		}
		return strings.Join(values, ", ")
	}
	return types
}

func writeSchema(b *strings.Builder, name string, s *openapi3.Schema) {
	fmt.Fprintf(b, "\n## %s\n", name)
	if s.Description != "" {
		fmt.Fprintf(b, "\n%s.\n", s.Description)
	}
	if len(s.Properties) == 0 {
		return
	}
	b.WriteString("\n| member | type | meaning |\n|---|---|---|\n")
	for _, member := range slices.Sorted(maps.Keys(s.Properties)) {
		p := s.Properties[member]
		always := ""
		if !slices.Contains(s.Required, member) {
			always = " (may be left out)"
		}
		fmt.Fprintf(b, "| `%s` | %s | %s%s |\n", member, shape(p), p.Value.Description, always)
	}
}
