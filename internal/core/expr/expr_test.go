package expr

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/message"
)

func reading(body string) *message.Stored {
	return &message.Stored{
		Message:   message.Message{ID: "m-1", Key: "box-7", Body: []byte(body), Headers: []message.Header{{Name: "source", Value: "truck"}, {Name: "x-run", Value: "3"}}},
		Partition: 3, Offset: 1200, StoredAt: time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC),
	}
}

func TestConditions(t *testing.T) {
	body := `{"box":"box-7","celsius":8.5,"battery":71,"tags":["a","b"],"at":{"lat":59}}`
	for source, want := range map[string]bool{
		`body.celsius > 8`:                               true,
		`body.celsius > 8.4 && body.battery == 71`:       true,
		`body.battery < 71.5`:                            true,
		`body.celsius > 9`:                               false,
		`body.missing > 1`:                               false,
		`!(body.missing > 1)`:                            false,
		`body.missing > 1 || key == "box-7"`:             true,
		`has(body.missing)`:                              false,
		`!has(body.missing)`:                             true,
		`body.box == key`:                                true,
		`body.celsius == "8.5"`:                          false,
		`"a" in body.tags`:                               true,
		`body.at.lat == 59`:                              true,
		`headers.source == "truck"`:                      true,
		`headers["x-run"] == "3"`:                        true,
		`headers.nothing == "3"`:                         false,
		`text.contains("celsius")`:                       true,
		`size > 10 && partition == 3 && offset == 1200`:  true,
		`time >= timestamp("2026-11-23T08:00:00Z")`:      true,
		`time < timestamp("2026-11-23T08:00:00Z")`:       false,
		`id == "m-1" && reason == "" && attempts == 0`:   true,
		`body.tags.exists(t, t == "b") && body != null`:  true,
		`key.matches("^box-[0-9]+$") && size(text) > 10`: true,
	} {
		c, err := Compile(source)
		require.NoError(t, err, source)
		got, err := c.Matcher(t.Context()).Match(reading(body))
		require.NoError(t, err, source)
		assert.Equal(t, want, got, source)
	}
}

func TestABodyThatIsNotJSONIsNull(t *testing.T) {
	c, err := Compile(`body == null && text == "47.3 F"`)
	require.NoError(t, err)
	got, err := c.Matcher(t.Context()).Match(reading("47.3 F"))
	require.NoError(t, err)
	assert.True(t, got)
	got, _ = c.Matcher(t.Context()).Match(reading("\xff\xfe"))
	assert.False(t, got)
}

func TestWrongConditionsAreRefusedWithPlaceAndHint(t *testing.T) {
	for source, want := range map[string]struct {
		column int
		hint   string
	}{
		`bodi.celsius > 8`:          {1, `"body"`},
		`key == "a" && celsius > 8`: {15, "body.celsius"},
		`body.celsius >`:            {15, "example"},
		`key = "a"`:                 {5, "=="},
		`size == "5"`:               {6, "same type"},
		`size`:                      {1, "compare"},
	} {
		_, err := Compile(source)
		var e *Error
		require.ErrorAs(t, err, &e, source)
		assert.Equal(t, want.column, e.Column, "%s: %v", source, e)
		assert.Contains(t, e.Hint, want.hint, source)
	}
	_, err := Compile(strings.Repeat("a", MaxLength+1))
	assert.ErrorContains(t, err, "limit")
}

func BenchmarkMatch(b *testing.B) {
	s := reading(`{"box":"box-0007","celsius":8.5,"battery":71,"at":"2026-11-23T08:00:00Z","items":[{"n":1},{"n":2},{"n":3}]}`)
	for _, source := range []string{`body.celsius > 8`, `headers["x-run"] == "3"`, `key.startsWith("box-")`, `text.contains("F")`, `has(body.box) && body.box in ["box-1", "box-0007"]`, `body.items.exists(i, i.n == 3)`, `key.matches("^box-[0-9]+$")`} {
		b.Run(source, func(b *testing.B) {
			c, err := Compile(source)
			require.NoError(b, err)
			m := c.Matcher(b.Context())
			b.ReportAllocs()
			for b.Loop() {
				m.Match(s)
			}
		})
	}
}
