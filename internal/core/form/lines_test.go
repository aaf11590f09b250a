package form

import (
	"bytes"
	"encoding/json"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/address"
	"steadyferry/internal/core/cloudevent"
	"steadyferry/internal/core/message"
)

var oddBodies = []string{"", "x", `"x"`, "46 F", "{}", "[]", " {}", "{} ", `{"a": 1}`, "{\n}", `{"a":1,"a":2}`, `{"a":"<&>"}`, `"\ud800"`, `{"a":"\ud800"}`, "null", "true", "1.0", "1e400",
	"\xff\xfe", "{\"a\":\"\xff\"}", "a\x00b", "\u2028", `{"a":"` + "\u2028" + `"}`, "\ufffd", `{"a":`, "\r\n", `"` + "\n" + `"`, `"\u0041"`, "\u0085"}

var oddTypes = []string{"", "application/json", "text/plain", "application/vnd.box+json", "application/octet-stream", "text/plain; charset=utf-8", "jsonish"}

func odd(r *rand.Rand) message.Stored {
	pick := func(from []string) string { return from[r.IntN(len(from))] }
	m := message.Stored{Offset: r.Int64N(1000), StoredAt: time.Now().UTC().Truncate(time.Microsecond)}
	m.ID, m.Key, m.ContentType, m.Body = "id-"+pick(oddTypes), pick([]string{"", "box-7", "ä\n\x01", `"`, "<&>"}), pick(oddTypes), []byte(pick(oddBodies))
	if r.IntN(4) == 0 {
		m.Body = make([]byte, r.IntN(30))
		for i := range m.Body {
			m.Body[i] = "{}[]\",:\\u0dc8 \n\xff1"[r.IntN(16)]
		}
	}
	for _, name := range []string{"a", "B", "ce-type", "ünï"}[:r.IntN(5)] {
		m.Headers = append(m.Headers, message.Header{Name: name, Value: pick([]string{"", "1", "two\nlines", "<&>\u2028", `"`})})
	}
	slices.SortFunc(m.Headers, func(a, b message.Header) int { return strings.Compare(a.Name, b.Name) })
	if r.IntN(2) == 0 {
		m.Message.Time = time.UnixMicro(r.Int64N(4e15)).UTC()
	}
	return m
}

// Whatever is exported comes back as it was, byte for byte, in both forms.
func TestWhatIsExportedComesBackAsItWas(t *testing.T) {
	a, err := address.ParseChannel("coldchain/readings")
	require.NoError(t, err)
	same := func(want message.Message, got *message.Message, from []byte) {
		require.Equal(t, want.Key, got.Key)
		require.Equal(t, want.ID, got.ID)
		require.Equal(t, want.ContentType, got.ContentType, "%s", from)
		require.Equal(t, string(want.Body), string(got.Body), "%s of %q", from, want.ContentType)
		require.True(t, want.Time.Equal(got.Time), "%s", from)
		require.ElementsMatch(t, want.Headers, got.Headers, "%s", from)
	}
	check := func(s message.Stored) {
		line := MessageOf(a, &s)
		line.KeepExact(s.Body)
		var out bytes.Buffer
		e := json.NewEncoder(&out)
		e.SetEscapeHTML(false)
		require.NoError(t, e.Encode(QueueMessage{Message: line}))
		back, err := ParseMessage(bytes.TrimSpace(out.Bytes()))
		require.NoError(t, err, out.String())
		same(s.Message, back, out.Bytes())
		event, err := cloudevent.Encode(a.String(), &s.Message)
		require.NoError(t, err)
		back, err = cloudevent.Parse(event)
		require.NoError(t, err, "%s", event)
		same(s.Message, back, event)
	}
	for _, body := range oddBodies {
		for _, contentType := range oddTypes {
			check(message.Stored{Message: message.Message{ID: "1", ContentType: contentType, Body: []byte(body)}})
		}
	}
	r := rand.New(rand.NewPCG(7, 10))
	for range 20000 {
		check(odd(r))
	}
}

func TestAMessageIsReadAsItSays(t *testing.T) {
	for text, want := range map[string]string{
		`{"n":1}`:                        `unknown field "n"`,
		`{"Key":"a"}`:                    `it is spelled "key"`,
		`{"key":"a","key":"b"}`:          "comes twice",
		`{"body":"\ud800"}`:              "half of a surrogate pair",
		"{\"body\":\"\xff\"}":            "byte 10 is not UTF-8",
		`{"body":1,"bodyBase64":"MQ=="}`: "both body and bodyBase64",
		`{"body":1}{}`:                   "more after the JSON value",
		`{"shortened":true,"body":"a"}`:  "was shortened",
		`{"after":"soon"}`:               "soon",
		`[]`:                             "an object is expected",
	} {
		_, err := ParseMessage([]byte(text))
		assert.ErrorContains(t, err, want, text)
	}
}
