package expr

import (
	"errors"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/message"
)

// What is wrong with a condition is said in our words, and never in those of the
// parser, with the column and what to write.
func TestWhatIsWrongWithACondition(t *testing.T) {
	for _, c := range []struct {
		source  string
		column  int
		problem string
		hint    string
	}{
		{"body.n >", 9, "the condition ends too early", "an example"},
		{"body.n > 8 &&", 14, "the condition ends too early", "an example"},
		{`text.contains(`, 15, "the condition ends too early", ""},
		{"[1,2", 5, "the condition ends too early", ""},
		{"!", 2, "the condition ends too early", ""},
		{"body.n ? 1", 11, "the condition ends too early: after ?", "? body.box : key"},
		{"(body.n > 8", 12, "a ) is missing", "in pairs"},
		{"body.n > 8)", 11, `")" is not expected here`, "in pairs"},
		{"body.n = 8", 8, "one = means nothing here", "write == to compare"},
		{"'abc", 1, "the text that begins here has no end", "close it"},
		{`body.n > "x`, 10, "the text that begins here has no end", "close it"},
		{"@x", 1, `"@" is no part of a condition`, ""},
		{"body.n > 8 body.x", 12, `"body" is not expected here`, "an example"},
		{"body.n >> 8", 9, `">" is not expected here`, ""},
		{"body.", 6, "the name of a field is missing", "such as body.celsius"},
		{"not body.x", 5, `"body" is not expected here`, "for not write !"},
		{"body.x and body.y", 8, `"and" is not expected here`, "write &&"},
		{"body.x != null AND key == 'a'", 16, `"AND" is not expected here`, "write &&"},
		{"has(body)", 5, "has() asks for a field", "has(body.celsius)"},
		{"key > 8", 5, "> does not go with text and a number", "of the same type"},
		{"size + 'x'", 6, "+ does not go with a number and text", ""},
		{"1 + true == 2", 3, "+ does not go with a number and true or false", ""},
		{"time > '2026'", 6, "> does not go with a time and text", "timestamp("},
		{"size in 'x'", 6, "in does not go with a number and text", ""},
		{"key.startsWith(1)", 15, "startsWith() of text does not take a number", "startsWith("},
		{"timestamp(1,2)", 10, "timestamp() does not take a number and a number", ""},
		{"duration('x')", 1, "this is not a duration", `duration("90s")`},
		{"crate", 1, `there is no "crate"`, "body.crate"},
		{"keys == 'a'", 1, `there is no "keys"`, `did you mean "key"?`},
		{"", 1, "it is empty", "an example"},
		{"1", 1, "this gives a number, and a condition is true or false", "compare it"},
		{"[1]", 1, "this gives a list", ""},
		{"headers", 1, "this gives an object", ""},
	} {
		_, err := Compile(c.source)
		var e *Error
		require.True(t, errors.As(err, &e), c.source)
		assert.Equal(t, c.column, e.Column, "%q: %v", c.source, e)
		assert.Contains(t, e.Problem, c.problem, c.source)
		assert.Contains(t, e.Hint, c.hint, c.source)
	}
}

// Whatever is typed, no word of the parser comes out.
func FuzzWhatIsWrongIsInOurWords(f *testing.F) {
	for _, seed := range []string{"body.n >", "((", "'", "a.b.c(", "body.all(x,", "1u + 1", "{1:2", "b'x' + 'y'", "\x00", "body[", "x ? y", "body.map(i, i", "timestamp('x') - 1"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, source string) {
		_, err := Compile(source)
		var e *Error
		if !errors.As(err, &e) {
			return
		}
		assert.GreaterOrEqual(t, e.Column, 1)
		for _, word := range []string{"EOF", "expecting", "IDENTIFIER", "overload", "NUM_", "viable", "token recognition", "mismatched", "extraneous", "Syntax error"} {
			if !strings.Contains(source, word) {
				assert.NotContains(t, e.Problem, word, "%q", source)
			}
		}
	})
}

// A condition that compares unlike things says so, a field that is not there is
// none of them.
func TestWhatComparesUnlikeThings(t *testing.T) {
	body := func(text string) *message.Stored {
		return &message.Stored{Message: message.Message{Key: "box-1", Body: []byte(text)}}
	}
	for source, why := range map[string]string{
		"body.tons > '2'":                   "> at column 11 has text on one side and something else on the other",
		"body.tons + 1 > 2":                 "+ at column 11 has a number on one side and something else on the other",
		"body.tons > body.name":             "> at column 11 goes with something else than is there",
		"body.tons.startsWith('2')":         "startsWith() at column 21",
		"body.none > '2'":                   "",
		"body.tons > '2' && key == 'other'": "",
		"body.tons > '2' || key == 'box-1'": "",
	} {
		c, err := Compile(source)
		require.NoError(t, err)
		m := c.Matcher(t.Context())
		for _, one := range []string{`{"tons":3.5,"name":"a"}`, `{}`, `{"tons":4.5,"name":"b"}`} {
			_, err := m.Match(body(one))
			require.NoError(t, err)
		}
		n, said := m.Unlike()
		if why == "" {
			assert.Zero(t, n, source)
			continue
		}
		assert.EqualValues(t, 2, n, source)
		assert.Contains(t, said, why, source)
		n, _ = m.Unlike()
		assert.Zero(t, n, "since it was asked last")
	}
}
