package cloudevent

import (
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/message"
)

// told collects what Binary says of a message.
func told(m *message.Message) (attributes, own map[string]string) {
	attributes, own = map[string]string{}, map[string]string{}
	Binary("coldchain/recalls", m, Headers{Attribute: func(name, value string) { attributes[name] = value }, Own: func(name, value string) { own[name] = value }})
	return attributes, own
}

func TestAMessageAsHeaders(t *testing.T) {
	at := time.Date(2026, 11, 23, 8, 0, 0, 5000, time.UTC)
	attributes, own := told(&message.Message{ID: "r 1", Key: "box-7", Time: at, Headers: []message.Header{{Name: "firmware", Value: "4.3 \"é\""}}})
	assert.Equal(t, map[string]string{"specversion": "1.0", "source": "/coldchain/recalls", "type": "message", "id": "r%201", "partitionkey": "box-7", "time": "2026-11-23T08:00:00.000005Z"}, attributes)
	assert.Equal(t, map[string]string{"firmware": "4.3%20%22%C3%A9%22"}, own)

	attributes, own = told(&message.Message{ID: "1", Headers: []message.Header{{Name: "ce-source", Value: "/boxes"}, {Name: "ce-type", Value: "reading"}, {Name: "ce-specversion", Value: "1.0"}, {Name: "ce-depot", Value: "north"}}})
	assert.Equal(t, map[string]string{"specversion": "1.0", "source": "/boxes", "type": "reading", "id": "1", "depot": "north"}, attributes, "an event stays what it was")
	assert.Empty(t, own)
}

// Any value can be a header of HTTP, and comes back as it was.
func FuzzEscape(f *testing.F) {
	for _, seed := range []string{"", "plain", "a b", `"`, "%", "%20", "é✓", "\r\nInjected: yes", "\x00"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, value string) {
		escaped := Escape(value)
		require.False(t, strings.ContainsFunc(escaped, func(r rune) bool { return r < 0x21 || r > 0x7e || r == '"' }), escaped)
		back, err := url.PathUnescape(escaped)
		require.NoError(t, err)
		require.Equal(t, value, back)
	})
}
