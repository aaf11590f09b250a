package term

import (
	"bytes"
	"encoding/json"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestWhatAScreenShows(t *testing.T) {
	for text, want := range map[string]string{
		"plain\ttext\n":             "plain\ttext\n",
		"Grüße ●  “two”":            "Grüße ●  “two”",
		"\x1b]0;title\x07":          `\u001b]0;title\u0007`,
		"over\rwritten":             `over\u000dwritten`,
		"\u009b31m\u007f":           `\u009b31m\u007f`,
		"a\u202eb\u2066c\u200f":     `a\u202eb\u2066c\u200f`,
		Steered("\x1b[32m●\x1b[0m"): "\x1b[32m●\x1b[0m",
		ClearLine + "looked":        "\r\x1b[Klooked",
	} {
		for cut := range len(text) + 1 {
			var out bytes.Buffer
			s := &screen{to: &out}
			for _, part := range []string{text[:cut], text[cut:]} {
				n, err := s.Write([]byte(part))
				require.NoError(t, err)
				require.Equal(t, len(part), n)
			}
			require.Equal(t, want, out.String(), "%q cut at %d", text, cut)
		}
	}
}

func TestACellIsOneLine(t *testing.T) {
	assert.Equal(t, `a\nb\tc\u001b[2J`, Cell("a\nb\tc\x1b[2J"))
	assert.Equal(t, Steered("\x1b[32m●\x1b[0m")+` up\n`, Cell(Steered("\x1b[32m●\x1b[0m")+" up\n"))
	var out bytes.Buffer
	c := &Call{Out: &screen{to: &out}}
	c.Table(c.Out, []string{"key", "state"}, [][]string{{"x\nforged", c.Mark("ready")}, {"\x1b[8mhidden", "ok"}})
	assert.Equal(t, 4, strings.Count(out.String(), "\n"), out.String())
	assert.NotContains(t, out.String(), "\x1b")
}

// Whatever comes with data, nothing in what is printed steers a terminal, and
// JSON says the same as before.
func FuzzScreen(f *testing.F) {
	f.Add("plain")
	f.Add("\x1b[31m\u009b\u202e\r\n")
	f.Fuzz(func(t *testing.T, text string) {
		if !utf8.ValidString(text) {
			return
		}
		var out bytes.Buffer
		c := &Call{Out: &screen{to: &out}}
		require.NoError(t, c.PrintJSON(text))
		assert.Negative(t, bytes.IndexFunc(out.Bytes(), hidden))
		var back string
		require.NoError(t, json.Unmarshal(out.Bytes(), &back))
		assert.Equal(t, text, back)
	})
}
