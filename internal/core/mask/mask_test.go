package mask

import (
	"encoding/json"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/edit"
	"steadyferry/internal/core/expr"
	"steadyferry/internal/core/message"
)

var secret = []byte("a key of tests")

func sight(show string, fields ...string) *Sight {
	return Through([]*Mask{New("boxes", show, fields, secret)})
}

func reading(body string) *message.Stored {
	return &message.Stored{Message: message.Message{Key: "PK-20117", ContentType: "application/json", Body: []byte(body),
		Headers: []message.Header{{Name: "box", Value: "PK-20117"}, {Name: "origin", Value: "north"}, {Name: message.HeaderDetail, Value: "box PK-20117 is wet"}},
		Terms:   &message.Terms{Reason: "wet", Detail: "box PK-20117 is wet"}}, Offset: 7}
}

func header(m *message.Stored, name string) string {
	v, _ := m.Header(name)
	return v
}

func TestFieldsAreHidden(t *testing.T) {
	m := reading(`{"box": "PK-20117", "celsius": 5.50, "at": {"box": 12345678, "none": null}}`)
	got := sight(Hidden, Key, "header.box", "/box", "/at/box", "/at/none", "/missing", "/celsius/deeper").Show(m)
	assert.Equal(t, "…", got.Key)
	assert.Equal(t, "…", header(got, "box"))
	assert.Equal(t, "north", header(got, "origin"))
	assert.Equal(t, "…", header(got, message.HeaderDetail), "the details of a failure may tell")
	assert.Equal(t, "", got.Terms.Detail)
	assert.Equal(t, "wet", got.Terms.Reason)
	assert.Equal(t, `{"box":"…","celsius":5.50,"at":{"box":"…","none":null}}`, string(got.Body))
	assert.Equal(t, []string{"/at/box", "/at/none", "/box", "header.box", "key"}, got.Masked)
	assert.Equal(t, len(m.Body), got.Size(), "how large it is stays known")
	assert.Equal(t, "PK-20117", m.Key, "and the message stays as it is")
	assert.Equal(t, "PK-20117", header(m, "box"))
	assert.Contains(t, string(m.Body), "PK-20117")
	assert.Equal(t, "box PK-20117 is wet", m.Terms.Detail)
}

func TestFieldsAreShortened(t *testing.T) {
	got := sight(Shortened, Key, "/box", "/n", "/list").Show(reading(`{"box": "Ärö-4455-66-77", "n": 12345678, "list": ["PK-20117"]}`))
	assert.Equal(t, "PK…", got.Key)
	assert.JSONEq(t, `{"box": "Ärö…", "n": "12…", "list": "…"}`, string(got.Body))
	assert.Equal(t, "…", sight(Shortened, Key).Show(&message.Stored{Message: message.Message{Key: "abc"}}).Key)
}

func TestEqualValuesHaveOneHash(t *testing.T) {
	got := sight(Hashed, Key, "header.box", "/box", "/n").Show(reading(`{"box": "PK-20117", "n": 20117}`))
	var body map[string]string
	require.NoError(t, json.Unmarshal(got.Body, &body))
	assert.Regexp(t, `^#[0-9a-f]{14}$`, got.Key)
	assert.Equal(t, got.Key, body["box"])
	assert.Equal(t, got.Key, header(got, "box"))
	assert.NotEqual(t, got.Key, body["n"])
	other := Through([]*Mask{New("boxes", Hashed, []string{Key}, []byte("another key"))})
	assert.NotEqual(t, got.Key, other.Show(reading(`{}`)).Key)
}

func TestWhatCannotBeToldApartIsHiddenAsAWhole(t *testing.T) {
	for name, m := range map[string]*message.Stored{
		"no JSON":        reading(`box PK-20117 at 54 F`),
		"a broken one":   reading(`{"box": "PK-20117"`),
		"a beginning":    reading(`{"box": "PK-20117", "text": "` + strings.Repeat("x", 100) + `"}`).Shorten(30),
		"two texts":      reading(`{"a":1} {"box":"PK-20117"}`),
		"what is hidden": reading(`{"box":"PK-20117"}`).Hide(),
	} {
		got := sight(Hashed, "/box").Show(m)
		assert.Empty(t, got.Body, name)
		assert.Contains(t, got.Masked, Body, name)
		assert.Equal(t, m.Size(), got.Size(), name)
	}
	assert.Empty(t, sight(Hidden, "/box").Show(&message.Stored{}).Masked, "no body is none")
}

func TestNothingAndAll(t *testing.T) {
	m := reading(`{"box":"PK-20117"}`)
	var all *Sight
	assert.Same(t, m, all.Show(m))
	assert.True(t, all.Whole())
	assert.Empty(t, Nothing.Show(m).Key)
	assert.Empty(t, Nothing.Show(m).Terms.Detail)
	assert.False(t, Nothing.Whole())
	masked := sight(Hidden, Key)
	assert.Same(t, masked, all.And(masked))
	assert.Same(t, masked, masked.And(nil))
	assert.Same(t, Nothing, masked.And(Nothing))
	assert.Same(t, Nothing, Nothing.And(masked))
	both := masked.And(sight(Hidden, "/box")).Show(m)
	assert.Equal(t, []string{"/box", "key"}, both.Masked)
}

// What a name says twice is no way past a mask: readers of JSON take the first or the last.
func TestANameThatComesTwiceShowsNothing(t *testing.T) {
	for _, body := range []string{
		`{"box":"PK-20117","box":"PK-20117"}`,
		`{"box":"PK-20117","box":1}`,
		`{"at":{"box":"PK-20117"},"at":{}}`,
		`{"at":{"box":"PK-20117"},"at":3}`,
		`{"at":{"box":1,"box":"PK-20117"}}`,
		`{"\u0062ox":"PK-20117"}`,
		`{"box":["PK-20117"]}`,
		`{"box":{"is":"PK-20117"}}`,
		` {"box" : "PK\u002d20117" } `,
	} {
		got := sight(Hidden, "/box", "/at/box").Show(reading(body))
		assert.NotContains(t, string(got.Body), "20117", body)
		assert.True(t, json.Valid(got.Body), body)
	}
}

func TestWhatLooksAtAMaskedFieldIsRefused(t *testing.T) {
	s := sight(Hidden, Key, "header.box", "/at/box")
	for source, refused := range map[string]bool{
		`body.celsius > 8`:                   false,
		`headers.origin == "north"`:          false,
		`reason == "wet" && size > 3`:        false,
		`body.at.place == "x"`:               false,
		`body.boxes == 1`:                    false,
		`key == "PK-20117"`:                  true,
		`headers["box"] == "PK-20117"`:       true,
		`"PK-20117" in headers`:              true,
		`body.at.box == "x"`:                 true,
		`body.at.box.deeper == "x"`:          true,
		`body.at == {}`:                      true,
		`has(body.at.box)`:                   true,
		`text.contains("PK-20117")`:          true,
		`body[reason].box == "x"`:            true,
		`detail.contains("PK-20117")`:        true,
		`body.list.exists(b, b.box == "x")`:  false,
		`[body].exists(b, b.at.box == "x")`:  true,
		`(1 > 0 ? body : body).at.box == ""`: true,
	} {
		c, err := expr.Compile(source)
		require.NoError(t, err, source)
		assert.Equal(t, refused, s.Condition(c) != nil, source)
	}
	assert.NoError(t, s.Condition(nil))
	for source, refused := range map[string]bool{
		`set /celsius=5`:                  false,
		`set header.origin=south`:         false,
		`compute /celsius=body.celsius*2`: false,
		`set key=x`:                       true,
		`remove header.box`:               true,
		`rename header.origin=header.box`: true,
		`rename /at=/there`:               true,
		`set body={}`:                     true,
		`compute /copy=key`:               true,
		`compute /copy=body.at.box`:       true,
		`compute /copy=detail`:            true,
	} {
		e, err := edit.Parse(source)
		require.NoError(t, err)
		err = s.Edits([]edit.Edit{e})
		assert.Equal(t, refused, err != nil, source)
		if refused {
			assert.ErrorContains(t, err, "mask boxes hides")
		}
	}
}

func TestFieldsHaveNames(t *testing.T) {
	for _, good := range []string{"key", "header.box", "/box", "/at/box"} {
		assert.NoError(t, CheckField(good))
	}
	for _, bad := range []string{"", "box", "header.", "/", "body", "text"} {
		assert.ErrorContains(t, CheckField(bad), "allowed: key, header.NAME", bad)
	}
}

// Whatever the body is, a value at the place of a mask is not in what is shown.
func FuzzShow(f *testing.F) {
	for _, seed := range []string{`{"box":"PK-20117"}`, `[{"box":"PK-20117"}]`, `{"box":{"box":"PK-20117"},"box":2}`, `{"a":{"box":[1,2]}}`, `"PK"`, `{"a":{"box":1},"a":{"box":2}}`} {
		f.Add([]byte(seed))
	}
	s := sight(Hidden, "/box", "/a/box", "/0/box")
	f.Fuzz(func(t *testing.T, body []byte) {
		got := s.Show(&message.Stored{Message: message.Message{Body: body}})
		if len(got.Body) == 0 {
			return
		}
		require.True(t, json.Valid(got.Body))
		var is any
		require.NoError(t, json.Unmarshal(got.Body, &is))
		hidden := func(v any) {
			require.Contains(t, []any{nil, "…"}, v, "%s", got.Body)
		}
		switch is := is.(type) {
		case map[string]any:
			hidden(is["box"])
			if a, ok := is["a"].(map[string]any); ok {
				hidden(a["box"])
			}
		case []any:
			if len(is) > 0 {
				if a, ok := is[0].(map[string]any); ok {
					hidden(a["box"])
				}
			}
		}
	})
}

func BenchmarkShow(b *testing.B) {
	m, s := reading(`{"box":"PK-20117","celsius":5.5,"battery":87,"at":"2026-11-24T08:00:00Z"}`), sight(Hashed, Key, "/box")
	b.ReportAllocs()
	for b.Loop() {
		s.Show(m)
	}
}
