package gate

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestAChangeIsSaidInWords(t *testing.T) {
	for _, c := range []struct{ before, after, want string }{
		{`{"retain":"7d","paused":false,"hold":null}`, `{"retain":"3d","paused":false,"hold":["compliance","billing"]}`, "hold none → compliance, billing; retain 7d → 3d"},
		{`{"labels":{}}`, `{"labels":{"team":"logistics"}}`, "labels none → (team logistics)"},
		{`null`, `{"retainBytes":1048576,"description":"","partitionCount":3}`, "partition count 3; retain bytes 1MiB"},
		{`{"partitionCount":3}`, `null`, "partition count 3"},
		{`{"paused":false}`, `{"paused":true}`, "paused no → yes"},
		{`{"a":1}`, `{"a":1}`, ""},
		{`{"hold":["a"]}`, `{}`, "hold a → none"},
		{`{"retain":"3d"}`, `{"retain":"1h","declaration":"northlight 7f3a"}`, "declared by northlight 7f3a: retain 3d → 1h"},
		{`{"expire":"7d"}`, `{"declaration":"northlight"}`, "declared by northlight: expire 7d"},
		{`null`, `{"declaration":"northlight"}`, "declared by northlight"},
		{``, ``, ""},
		{`"text"`, `[]`, ""},
	} {
		assert.Equal(t, c.want, changeInWords(json.RawMessage(c.before), json.RawMessage(c.after)), "%s to %s", c.before, c.after)
	}
}
