package main

import (
	"flag"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// wordsPage is docs/words.md: the rows of its tables by their first cell, and the
// placeholders of flags.
type wordsPage struct {
	not          map[string][]string // words that are not used, by the word that is
	placeholders []string
}

func readWords(t *testing.T) (p wordsPage) {
	t.Helper()
	b, err := os.ReadFile("../../docs/words.md")
	require.NoError(t, err)
	p.not = map[string][]string{}
	section := ""
	for line := range strings.Lines(string(b)) {
		line = strings.TrimSpace(line)
		if name, ok := strings.CutPrefix(line, "## "); ok {
			section = name
		}
		cells := strings.Split(strings.Trim(line, "|"), "|")
		if len(cells) == 3 && (section == "What is done" || section == "What is said of it") && !strings.Contains(line, "---") {
			if not := strings.TrimSpace(cells[2]); not != "not" && !strings.HasSuffix(not, ", in this sense") {
				p.not[strings.TrimSpace(cells[0])] = strings.Split(not, ", ")
			}
		}
		if section == "Placeholders of flags" {
			p.placeholders = append(p.placeholders, regexp.MustCompile(`\b[A-Z]{1,12}\b`).FindAllString(line, -1)...)
		}
	}
	return p
}

// Each flag that takes a value says with a word of the page what kind of value
// that is, and shows no default that stands for none.
func TestFlagsSayWhatKindOfValueTheyTake(t *testing.T) {
	page := readWords(t)
	several := []string{"ADDRESSES", "NAMES", "HOSTS"}
	for _, v := range verbs {
		fs := flag.NewFlagSet(v.Name, flag.ContinueOnError)
		v.Define(fs)
		fs.VisitAll(func(f *flag.Flag) {
			name, usage := flag.UnquoteUsage(f)
			if name == "" {
				return // a switch
			}
			for part := range strings.FieldsFuncSeq(name, func(r rune) bool { return r == '.' || r == '=' }) {
				assert.True(t, slices.Contains(page.placeholders, part) || slices.Contains(several, part) || part == "VALUE", "-%s of %s takes %s: %s", f.Name, v.Name, name, usage)
			}
			assert.NotContains(t, []string{"-1", "1e+06"}, f.DefValue, "-%s of %s", f.Name, v.Name)
			assert.NotContains(t, f.DefValue, "e+", "-%s of %s", f.Name, v.Name)
		})
	}
}

// unused are those of the words on the right that mean nothing else in what is
// searched.
var unused = regexp.MustCompile(`(?i)\b(nack|resend|reassign(ed)?|rewind|dry[- ]?run|rollback|in sync|take-back|way-?back|old-generation|waybackMs)\b`)

// pageTexts are the texts of a page of the console: what stands between its elements,
// and in what names them.
var pageTexts = regexp.MustCompile(`>([^<>{}=;]*[A-Za-z][^<>{}=;]*)<|\b(?:label|title|placeholder|aria-label|heading|note|word|empty|what)[=:]\s*\{?["'` + "`" + `]([^"` + "`" + `\n]*)["'` + "`" + `]`)

// The console's labels use none of the words that the page says are not used.
func TestTheConsoleSaysTheSameWords(t *testing.T) {
	var not []string
	for _, words := range readWords(t).not {
		not = append(not, words...)
	}
	require.Greater(t, len(not), 20)
	unused := regexp.MustCompile(`(?i)\b(` + strings.Join(not, "|") + `)\b`)
	checked := 0
	for _, pattern := range []string{"pages", "components"} {
		files, err := filepath.Glob("../../web/src/" + pattern + "/*.tsx")
		require.NoError(t, err)
		for _, file := range files {
			b, err := os.ReadFile(file)
			require.NoError(t, err)
			for _, found := range pageTexts.FindAllStringSubmatch(string(b), -1) {
				checked++
				text := strings.ReplaceAll(found[1]+found[2], "make demo", "")
				assert.Empty(t, unused.FindString(text), "%s: %q", file, strings.TrimSpace(text))
			}
		}
	}
	assert.Greater(t, checked, 400, "the labels are found")
}

// Neither the document of the API nor the flags, texts and pages use another
// word for what has one.
func TestOneWordForEachThing(t *testing.T) {
	page := readWords(t)
	assert.Contains(t, page.not["seek"], "reset")
	var files []string
	for _, pattern := range []string{"*.go", "messages/*.go", "nodes/*.go", "oncall/*.go", "setup/*.go", "term/*.go", "../../internal/door/api/openapi.yaml", "../../web/src/pages/*.tsx", "../../web/src/components/*.tsx", "../../docs/*.md", "../../README.md"} {
		found, err := filepath.Glob(pattern)
		require.NoError(t, err)
		files = append(files, found...)
	}
	require.Greater(t, len(files), 60)
	for _, file := range files {
		if strings.HasSuffix(file, "_test.go") || strings.HasSuffix(file, "words.md") {
			continue
		}
		b, err := os.ReadFile(file)
		require.NoError(t, err)
		for n, line := range strings.Split(string(b), "\n") {
			assert.Empty(t, unused.FindString(line), "%s:%d", file, n+1)
		}
	}
	// What machines read is hyphenated, and has no spaces.
	b, err := os.ReadFile("../../internal/door/api/openapi.yaml")
	require.NoError(t, err)
	for _, enum := range regexp.MustCompile(`enum: \[([^\]]*)\]`).FindAllStringSubmatch(string(b), -1) {
		for value := range strings.SplitSeq(enum[1], ", ") {
			assert.NotContains(t, strings.Trim(value, `"`), " ", "%s", enum[0])
		}
	}
	for _, old := range []string{"madeAt", "fewer:", "leaderless:", "dryRun", "generation", "Ferry-Time", "  what:", "wayBack", "due:"} {
		assert.NotContains(t, string(b), old)
	}
}
