package strict

import (
	"encoding/json"
	"reflect"
	"testing"
	"time"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

type inner struct {
	Lease string `json:"lease"`
}

type common struct {
	Key string `json:"key"`
}

type sample struct {
	common
	Settle  []inner           `json:"settle"`
	Headers map[string]string `json:"headers"`
	Body    json.RawMessage   `json:"body"`
	At      *time.Time        `json:"at"`
	Any     any               `json:"any"`
	Count   int               `json:"count"`
}

func TestWhatIsRefused(t *testing.T) {
	for text, want := range map[string]string{
		`{"key":"a","key":"b"}`:                  `"key" comes twice`,
		`{"Key":"a"}`:                            `"Key" is not known; it is spelled "key"`,
		`{"n":1}`:                                `unknown field "n"`,
		`{"settle":[{"lease":"1"},{"LEASE":1}]}`: `settle`,
		`{"settle":[{},{"Lease":"1"}]}`:          `.settle[1]: "Lease" is not known; it is spelled "lease"`,
		`{"headers":{"a":"1","\u0061":"2"}}`:     `.headers: "a" comes twice`,
		`{"any":[1,{"b":2,"b":3}]}`:              `.any[1]: "b" comes twice`,
		`{"key":"\ud800"}`:                       `.key: \ud800 is half`,
		`{"key":"\udc00\ud800"}`:                 `.key: \udc00 is half`,
		`{"body":"\ud83d"}`:                      `.body: \ud83d is half`,
		`{"headers":{"a":"\uD83dx"}}`:            `.headers.a: \uD83d is half`,
		"{\"key\":\"a\xff\"}":                    `byte 10 is not UTF-8`,
		`{"key":"a"} {}`:                         `more after the JSON value, at byte 13`,
		`{"count":"x"}`:                          `.count: a string stands there; a number in its range is expected`,
		`{"key":`:                                `it ends in the middle`,
		``:                                       `nothing came`,
		`{"key" 1}`:                              `at byte 8`,
		`{"at":"yesterday"}`:                     `parsing time`,
	} {
		var into sample
		err := Unmarshal([]byte(text), &into)
		var wrong *Error
		require.ErrorAs(t, err, &wrong, text)
		assert.Contains(t, wrong.Error(), want, text)
	}
}

func TestWhatIsTaken(t *testing.T) {
	for _, text := range []string{
		`{}`, ` { "key" : "\ud83d\ude00\\ud800" , "settle" : [ { "lease" : "1" } , { } ] , "count" : -1 } `,
		`{"body":{"a":1,"a":"\ud800","}":"]\""},"any":[1,{"b":2,"c":3}],"at":"2026-11-23T08:00:00Z","key":null}`,
		`{"settle":[],"headers":{}}`, `null`,
	} {
		var into, plain sample
		require.NoError(t, Unmarshal([]byte(text), &into), text)
		require.NoError(t, json.Unmarshal([]byte(text), &plain))
		assert.Equal(t, plain, into)
	}
}

// What is taken means what encoding/json makes of it, and writing it again
// changes nothing in it.
func FuzzUnmarshal(f *testing.F) {
	f.Add(`{"key":"a","settle":[{"lease":"1"}],"headers":{"a":"b"},"body":{"x":[1,"}"]},"count":3}`)
	f.Add(`{"headers":{"\ud83d\ude00":"\\\""},"any":[[],{}],"key":"\u0000"}`)
	f.Add(`[1,2]`)
	f.Fuzz(func(t *testing.T, text string) {
		var into, plain sample
		if Unmarshal([]byte(text), &into) != nil {
			return
		}
		require.True(t, utf8.ValidString(text))
		require.NoError(t, json.Unmarshal([]byte(text), &plain))
		require.True(t, reflect.DeepEqual(plain, into))
		written, err := json.Marshal(into)
		require.NoError(t, err)
		var again sample
		require.NoError(t, Unmarshal(written, &again), "%s", written)
		require.Equal(t, into.Headers, again.Headers)
		require.Equal(t, into.Key, again.Key)
	})
}

func BenchmarkUnmarshal(b *testing.B) {
	text := []byte(`{"key":"box-7","headers":{"a":"b","source":"sensor"},"body":{"celsius":8.5,"door":"open","notes":["a","b"]},"count":3}`)
	for name, read := range map[string]func([]byte, any) error{"strict": Unmarshal, "plain": json.Unmarshal} {
		b.Run(name, func(b *testing.B) {
			for b.Loop() {
				var into sample
				if err := read(text, &into); err != nil {
					b.Fatal(err)
				}
			}
		})
	}
}
