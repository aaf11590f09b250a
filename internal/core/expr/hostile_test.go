package expr

import (
	"context"
	"fmt"
	"runtime"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/message"
)

// nest puts the text into the holes of itself: nest("f(%s)", 3, "x") is
// f(f(f(x))).
func nest(form string, depth int, inner string) string {
	for range depth {
		inner = fmt.Sprintf(form, inner)
	}
	return inner
}

// hostile is conditions that ask for much more than they look like. None of
// them may make more than 64 MiB or run longer than 200 ms of work.
var hostile = map[string]string{
	"tenfold replace":              `(text+"a")` + strings.Repeat(`.replace("a","aaaaaaaaaa")`, 10) + `.size() > 0`,
	"replace nothing":              `text.replace("", "` + strings.Repeat("x", 1000) + `").size() > 0`,
	"a pattern with a repetition":  `text.matches("(x*a*y*){1,300}b$")`,
	"a pattern that tries all":     `text.matches("(a?){110}a{110}b")`,
	"a computed pattern":           `text.matches(text)`,
	"nested computed patterns":     `text.matches(string(text.matches(text)))`,
	"many large patterns":          strings.TrimSuffix(strings.Repeat(`text.matches("\\w{1000}")||`, 100), "||"),
	"a slow pattern that fits":     `text.matches("(x|a|y)*(x|a|y)*(x|a|y)*(x|a|y)*b$")`,
	"a pattern of Unicode classes": `text.matches("(?i)(\\p{L}+\\p{N}+)+\\p{Greek}$")`,
	"text + text":                  strings.Repeat("text+", 240) + `text == "x"`,
	"texts that double":            nest(`[%s].map(x, x+x)[0]`, 12, "text") + ` == ""`,
	"split, then map":              `text.split("").map(x, x + text).size() > 0`,
	"split and join":               `text.split("").join(text) == ""`,
	"format in format":             nest(`"%%s %%s".format([%[1]s, %[1]s])`, 5, "text") + ` == ""`,
	"format of much":               `"%s".format([body]) == ""`,
	"quote in quote":               nest(`strings.quote(%s)`, 20, "text") + ` == ""`,
	"a long needle from the front": `text.indexOf(text.substring(10) + "b") > 0`,
	"a long needle from the back":  `text.lastIndexOf("b" + text.substring(10)) > 0`,
	"contains what nearly fits":    strings.Repeat(`text.contains("`+strings.Repeat("a", 300)+`b")||`, 9) + "false",
	"contains itself, nearly":      `text.contains(text.substring(0, 500000) + "b" + text.substring(500000))`,
	"three loops over 1,000":       `body.l.all(a, body.l.all(b, body.l.all(c, a + b + c >= 0)))`,
	"loops over the size":          `body.l.all(a, size(text) > 0 && size(text) > 1 && size(text) > 2)`,
	"loops over a header":          `body.l.all(a, body.l.all(b, headers["x-run"] != "4"))`,
	"loops over a time zone":       `body.l.all(a, body.l.all(b, time.getHours("Europe/Oslo") >= 0))`,
	"loops over text == text":      `body.l.all(a, body.l.all(b, text == text.substring(0)))`,
	"a million maps":               `body.l.map(a, body.l.map(b, {"a": a, "b": b, "c": [a, b]})).size() > 0`,
	"10,000 bodies ==":             `body.l.map(a, body) == body.l.map(a, body)`,
	"body == body":                 strings.TrimSuffix(strings.Repeat(`body == body&&`, 250), "&&"),
	"in, again and again":          strings.Repeat(`-1.0 in body.l||`, 180) + "false",
	"lower and upper":              nest(`%s.lowerAscii().upperAscii().reverse()`, 8, "text") + ` == ""`,
	"a text that is no time":       strings.Repeat(`timestamp(text) > time||`, 150) + "false",
	"list + list":                  strings.Repeat("body.l+", 240) + `body.l == []`,
	"a missing name each time":     `body.l.all(a, body.l.all(b, !(string(a) in body.wide)))`,
	"trim and substring":           nest(`%s.trim().substring(1)`, 14, "text") + ` == ""`,
	"bytes and back":               nest(`string(bytes(%s))`, 14, "text") + ` == ""`,
	"a tree of shared lists":       nest(`[%s].map(x, [x, x, x, x])`, 12, "1") + ` == [2]`,
	"a list in itself, doubled":    nest(`[%s].map(x, [x, x, x, x])`, 12, "body") + ` in [[1]]`,
}

// With the race detector, which watches each step of a pattern, bodies are
// smaller; make test runs this package without it too.
func largeBodies() map[string][]byte {
	var numbers, wide strings.Builder
	for i := range 1000 {
		fmt.Fprintf(&numbers, "%d,", i)
		fmt.Fprintf(&wide, `"n%d":%d,`, i, i)
	}
	return map[string][]byte{
		"a million a":     []byte(strings.Repeat("a", 1<<20/slowness)),
		"a thousand":      []byte(`{"l":[` + numbers.String() + `1],"wide":{` + wide.String() + `"z":1}}`),
		"a large text":    []byte(`{"l":[` + strings.Repeat(`"`+strings.Repeat("a", 100)+`",`, 10_000/slowness) + `1]}`),
		"many objects":    []byte(`[` + strings.Repeat(`{"a":0},`, 1<<20/slowness) + `0]`),
		"only numbers":    []byte(`[` + strings.Repeat(`0,`, 4<<20/slowness) + `0]`),
		"as deep as goes": []byte(strings.Repeat("[", 10_000) + strings.Repeat("]", 10_000)),
	}
}

func TestHostileConditionsAreRefusedOrBounded(t *testing.T) {
	bodies := largeBodies()
	for name, source := range hostile {
		t.Run(name, func(t *testing.T) {
			require.LessOrEqual(t, len(source), MaxLength)
			compiled, err := measured(t, 64<<20, func() (any, error) { return Compile(source) })
			if err != nil {
				assert.IsType(t, &Error{}, err)
				return
			}
			m := compiled.(*Condition).Matcher(t.Context())
			for about, body := range bodies {
				s := &message.Stored{Message: message.Message{Key: "box-7", Body: body, Headers: []message.Header{{Name: "x-run", Value: "3"}}}, StoredAt: time.Unix(1e9, 0)}
				_, err := measured(t, 64<<20, func() (any, error) { return m.Match(s) })
				assert.True(t, err == nil || err == ErrCost, "%s: %v", about, err)
			}
		})
	}
}

// measured runs f and fails when it makes too many bytes or takes a time that
// no bounded amount of work explains.
func measured(t *testing.T, bytes uint64, f func() (any, error)) (any, error) {
	t.Helper()
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	start := time.Now()
	out, err := f()
	took := time.Since(start)
	runtime.ReadMemStats(&after)
	assert.LessOrEqual(t, after.TotalAlloc-before.TotalAlloc, bytes, "bytes made")
	assert.Less(t, took, slowness*10*time.Second)
	if took > 200*time.Millisecond {
		t.Logf("took %v", took)
	}
	return out, err
}

func TestAnEvaluationEndsWhenItsCallerGoes(t *testing.T) {
	for name, source := range map[string]string{
		"a loop":    `body.l.all(a, body.l.all(b, a + b >= 0))`,
		"a pattern": `text.matches("(0|1|2)*(3|4|5)*(l|,)*b$")`,
	} {
		c, err := Compile(source)
		require.NoError(t, err, name)
		ctx, cancel := context.WithCancel(t.Context())
		cancel()
		_, err = c.Matcher(ctx).Match(&message.Stored{Message: message.Message{Body: largeBodies()["a thousand"]}})
		assert.ErrorIs(t, err, context.Canceled, name)
	}
}

func TestATextThatSpeaksOfLimitsIsNoLimit(t *testing.T) {
	for _, source := range []string{`timestamp(text) > time`, `headers[body.k] == "1"`, `body.k == 1 || timestamp(text) > time`} {
		c, err := Compile(source)
		require.NoError(t, err)
		for _, body := range []string{`{"k":"actual cost limit exceeded"}`, `operation cancelled: actual cost limit exceeded`} {
			_, err = c.Matcher(t.Context()).Match(reading(body))
			assert.NoError(t, err, source)
		}
	}
}

func TestValuesAreBoundedToo(t *testing.T) {
	many := strings.TrimSuffix(strings.Repeat("body,", 800), ",")
	for _, source := range []string{`(text+"a")` + strings.Repeat(`.replace("a","aaaaaaaaaa")`, 10), "[" + many + "]", `body.l.map(a, body.l.map(b, [a, b]))`} {
		v, err := CompileValue(source)
		require.NoError(t, err)
		c := v.Computer(t.Context())
		for about, body := range largeBodies() {
			_, err := measured(t, 192<<20, func() (any, error) {
				return c.Of(&message.Stored{Message: message.Message{Body: body}}, Facts{})
			})
			if about == "a thousand" {
				assert.ErrorIs(t, err, ErrCost, source)
			}
		}
	}
}
