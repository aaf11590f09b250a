package cloudevent

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/message"
)

func TestAMessageComesBackAsItWas(t *testing.T) {
	at := time.Date(2026, 11, 23, 8, 0, 0, 5000, time.UTC)
	for name, m := range map[string]message.Message{
		"JSON":             {ID: "1", Key: "box-7", ContentType: "application/json", Time: at, Body: []byte(`{"celsius":8.5}`), Headers: []message.Header{{Name: "ferry-replay", Value: "3"}, {Name: "source", Value: "boxes"}}},
		"text":             {ID: "2", ContentType: "text/plain", Body: []byte("46.4 F")},
		"text with quotes": {ID: "3", ContentType: "text/plain", Body: []byte(`"46.4 F"`)},
		"bytes":            {ID: "4", ContentType: "application/octet-stream", Body: []byte{0xff, 0, 1}},
		"no type":          {ID: "5", Body: []byte(`{"a":1}`)},
		"broken JSON":      {ID: "6", ContentType: "application/json", Body: []byte(`{"a":`)},
		"nothing":          {ID: "7", Key: "k", ContentType: "application/json"},
		"an event":         {ID: "8", ContentType: "application/json", Body: []byte(`1`), Headers: []message.Header{{Name: "ce-source", Value: "/boxes"}, {Name: "ce-specversion", Value: "1.0"}, {Name: "ce-type", Value: "reading"}}},
	} {
		b, err := Encode("coldchain/readings", &m)
		require.NoError(t, err, name)
		back, err := Parse(b)
		require.NoError(t, err, "%s: %s", name, b)
		require.Equal(t, &m, back, "%s: %s", name, b)
	}
}

func TestWhatIsWrongWithAnEventIsNamed(t *testing.T) {
	for text, field := range map[string]string{
		`[]`: "body",
		`{"specversion":"1.0","id":"1","type":"t"}`:                                          "source",
		`{"specversion":"0.3","id":"1","type":"t","source":"s"}`:                             "specversion",
		`{"specversion":"1.0","type":"t","source":"s"}`:                                      "id",
		`{"specversion":"1.0","id":"1","type":"t","source":"s","time":"x"}`:                  "time",
		`{"specversion":"1.0","id":"1","type":"t","source":"s","data":1,"data_base64":""}`:   "data",
		`{"specversion":"1.0","id":"1","type":"t","source":"s","data_base64":"%"}`:           "data_base64",
		`{"specversion":"1.0","id":"1","type":"t","source":"s","ferryheaders":"{\"a\": 1}"}`: "ferryheaders",
	} {
		_, err := Parse([]byte(text))
		var wrong *Error
		require.ErrorAs(t, err, &wrong, text)
		require.Equal(t, field, wrong.Field, text)
	}
}
