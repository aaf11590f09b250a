package expr

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestWhatAConditionLooksAt(t *testing.T) {
	for source, want := range map[string][]string{
		`true`:                                  nil,
		`size > 3 && attempts == 2`:             {"size", "attempts"},
		`key == "b-1"`:                          {"key"},
		`.key == "b-1"`:                         {"key"},
		`body.box == "b-1"`:                     {"/box"},
		`body["box"] == "b-1"`:                  {"/box"},
		`body["a/b~"] == 1`:                     {"/a~1b~0"},
		`has(body.at.place)`:                    {"/at/place"},
		`body.list[2].box == "x"`:               {"/list/2/box"},
		`body[key] == 1`:                        {"body", "key"},
		`dyn(body).box == 1`:                    {"body"},
		`size(body) > 1`:                        {"body"},
		`body == {"box": key}`:                  {"body", "key"},
		`text.contains("b-1")`:                  {"body"},
		`headers.origin == "x"`:                 {"header.origin"},
		`headers["a/b"] == "x"`:                 {"header.a/b"},
		`headers.exists(h, h == "origin")`:      {"headers", "h"},
		`"origin" in headers`:                   {"headers"},
		`body.list.exists(b, b.box == "x")`:     {"/list", "b"},
		`body.list[int(headers.n)].box == "x"`:  {"/list", "header.n"},
		`(true ? body : body).box == "x"`:       {"body"},
		`body.box.startsWith("b") || key != ""`: {"/box", "key"},
	} {
		c, err := Compile(source)
		require.NoError(t, err, source)
		got := []string{}
		for _, at := range c.Looks() {
			if at != "@result" && at != "__result__" {
				got = append(got, at)
			}
		}
		if want == nil {
			want = []string{}
		}
		assert.ElementsMatch(t, want, got, source)
	}
	v, err := CompileValue(`body.celsius * 2`)
	require.NoError(t, err)
	assert.Equal(t, []string{"/celsius"}, v.Looks())
}
