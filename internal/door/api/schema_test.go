package api

import (
	"flag"
	"fmt"
	"os"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/setting"
)

var update = flag.Bool("update", false, "write what the tables of settings say into openapi.yaml")

// formSchemas are the forms of settings as schemas.
var formSchemas = map[string]string{
	"number": "type: integer", "size": "type: integer, format: int64", "duration": "type: string", "durations": "type: string", "switch": "type: boolean",
	"sentence": "type: string", "names": "type: array, items: { type: string }", "choice": "type: string, enum: [%s]",
	"condition": "type: string", "edits": "type: array, items: { type: string }", "address": "type: string",
	"url": "type: string", "level": "type: string", "addresses": "type: array, items: { type: string }", "pattern": "type: string", "position": "type: string", "cause": "type: string", "mailbox": "type: string", "mailboxes": "type: array, items: { type: string }", "keeps": "type: object, additionalProperties: { type: string }", "rate": "type: number", "table": "type: string", "headers": "type: object, additionalProperties: { type: string }", "columns": "type: object, additionalProperties: { type: string }",
}

// properties are the settings of a table as they stand in the document.
func properties[T any](table setting.Table[T]) string {
	var b strings.Builder
	for _, s := range table {
		schema, ok := formSchemas[s.Form.Name]
		switch {
		case s.Form.Name == "labels":
			fmt.Fprintf(&b, "        %s: { $ref: \"#/components/schemas/Labels\" }\n", s.Name)
			continue
		case s.Form.Name == "choice":
			schema = fmt.Sprintf(schema, strings.Join(s.Form.Choices, ", "))
		case !ok:
			panic("no schema for " + s.Form.Name)
		}
		about := strings.ReplaceAll(s.Help, "`", "")
		about = strings.ToUpper(about[:1]) + about[1:]
		if s.Form.Allowed != "true, false" {
			about += ". Allowed: " + s.Form.Allowed
		}
		if s.Default != "" {
			about += ". Unless set: " + s.Default
		}
		fmt.Fprintf(&b, "        %s: { %s, description: %q }\n", s.Name, schema, about)
	}
	return b.String()
}

// The document has what the tables of settings have; make docs writes it.
func TestTheDocumentHasTheSettingsOfTheTables(t *testing.T) {
	const path = "openapi.yaml"
	b, err := os.ReadFile(path)
	require.NoError(t, err)
	document := string(b)
	for name, wanted := range map[string]string{"channels": properties(setting.Channels), "groups": properties(setting.Groups), "spaces": properties(setting.Spaces), "principals": properties(setting.Principals), "endpoints": properties(setting.Endpoints), "watches": properties(setting.Watches), "chores": properties(setting.Chores), "nodes": properties(setting.Clusters)} {
		between := regexp.MustCompile(`(?s)(        # Settings of ` + name + `, from the table:\n)(.*?)(        # End of settings\.\n)`)
		have := between.FindStringSubmatch(document)
		require.NotNil(t, have, name)
		if *update {
			document = between.ReplaceAllLiteralString(document, have[1]+wanted+have[3])
			continue
		}
		assert.Equal(t, wanted, have[2], "%s: make docs writes it anew", name)
	}
	if *update {
		require.NoError(t, os.WriteFile(path, []byte(document), 0o644))
	}
}
