package queue

import (
	"encoding/json"
	"regexp"
	"slices"
	"strings"

	"steadyferry/internal/core/problem"
)

var (
	namedField  = regexp.MustCompile(`(?i)\b(?:field|property|member)\s*[:=]?\s*["'\x60]?([A-Za-z_][A-Za-z0-9_]*)`)
	pointerWord = regexp.MustCompile(`(?:^|[\s:("'])((?:/[A-Za-z0-9_.~-]+)+)`)
	plainWord   = regexp.MustCompile(`[A-Za-z_][A-Za-z0-9_]*`)
)

// smallWords are names of fields that are words of any sentence too.
var smallWords = []string{"a", "an", "as", "at", "by", "for", "from", "in", "is", "it", "no", "not", "of", "on", "or", "the", "to", "was", "with"}

// FieldIn finds the field of a JSON body that a detail names: one that it calls
// a field, whether it is there or not, a JSON Pointer to one that is, or in the
// first line the name of one that is.
func FieldIn(detail string, body json.RawMessage) string {
	var fields map[string]any
	if json.Unmarshal(body, &fields) != nil {
		return ""
	}
	if m := namedField.FindStringSubmatch(detail); m != nil {
		return "/" + m[1]
	}
	for _, m := range pointerWord.FindAllStringSubmatch(detail, -1) {
		first, _, _ := strings.Cut(strings.TrimPrefix(m[1], "/"), "/")
		if _, ok := fields[first]; ok {
			return m[1]
		}
	}
	line, _, _ := strings.Cut(detail, "\n")
	for _, word := range plainWord.FindAllString(line, -1) {
		if _, ok := fields[word]; ok && !slices.Contains(smallWords, strings.ToLower(word)) {
			return "/" + word
		}
	}
	return ""
}

// ParseStates reads states, separated by commas.
func ParseStates(text, otherwise string) ([]State, error) {
	if text == "" {
		text = otherwise
	}
	var out []State
	for name := range strings.SplitSeq(text, ",") {
		s, ok := ParseState(name)
		if !ok {
			return nil, problem.New(problem.Invalid, "state is %q", name).Field("state").Allowed(strings.Join(StateNames(), ", "))
		}
		out = append(out, s)
	}
	return out, nil
}
