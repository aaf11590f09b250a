package expr

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"unicode/utf8"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/types"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/message"
)

// plainly evaluates a condition as the library does by itself, without a
// meter, over a body that encoding/json has parsed.
func plainly(t testing.TB, source string) func(s *message.Stored) bool {
	tree, issues := env.Compile(source)
	require.NoError(t, issues.Err(), source)
	program, err := env.Program(tree)
	require.NoError(t, err, source)
	return func(s *message.Stored) bool {
		vars := map[string]any{"key": s.Key, "id": s.ID, "time": types.Timestamp{Time: s.StoredAt}, "size": len(s.Body), "partition": s.Partition, "offset": s.Offset,
			"attempts": 0, "reason": "", "detail": "", "text": "", "body": types.NullValue}
		var body any
		if json.Unmarshal(s.Body, &body) == nil && body != nil {
			vars["body"] = body
		}
		if utf8.Valid(s.Body) {
			vars["text"] = string(s.Body)
		}
		headers := map[string]string{}
		for _, h := range s.Headers {
			headers[h.Name] = h.Value
		}
		vars["headers"] = headers
		out, _, err := program.Eval(vars)
		return err == nil && out == types.True
	}
}

var sameConditions = []string{
	`body.celsius > 8`, `body.celsius == 8.5`, `body.battery < 71.5 && body.battery >= 0`, `!(body.missing > 1)`, `has(body.at.lat)`, `!has(body.box)`,
	`body.box == key`, `body["box"] != headers["source"]`, `"a" in body.tags`, `body.tags[1] == "b"`, `body.tags[0] in ["a", "x"]`, `body.tags.exists(t, t == "b")`,
	`body.tags.map(t, t + "!") == ["a!", "b!"]`, `body.tags.filter(t, t != "a").size() == 1`, `size(body) > 3`, `size(body.tags) == 2`, `body.at == {"lat": 59.0}`,
	`body.tags == ["a", "b"]`, `body == null`, `body.box == null`, `type(body.box) == string`, `type(body) == map`, `type(body) == list`, `body.exists(k, k == "box")`,
	`text.contains("celsius")`, `text.contains("` + strings.Repeat("a", 40) + `")`, `text.indexOf("e") == 3`, `text.indexOf("box", 4) > 0`, `text.indexOf("") == 0`,
	`text.lastIndexOf("e") > 10`, `text.lastIndexOf("box", 9) == 2`, `text.lastIndexOf("") == size(text)`, `text.replace("box", "crate").contains("crate-7")`, `text.replace("", "-").size() > 9`,
	`text.replace("e", "", 2).size() < size(text)`, `text.split(",").size() == 3`, `text.split(",", 2).size() == 2`, `text.split("").size() > 3`, `text.split("", 3).size() == 3`, `text.split(",", 0).size() == 0`,
	`text.split("\"").join("'").contains("'box'")`, `body.tags.join(",") == "a,b"`, `"%s and %.1f".format([body.box, body.celsius]) == "box-7 and 8.5"`, `"%s".format([body.tags]) == "[a, b]"`,
	`text.lowerAscii() == text`, `text.upperAscii().contains("BOX")`, `text.substring(2, 5) == "box"`, `text.charAt(2) == "b"`, `text.trim() == text`, `text.reverse().reverse() == text`,
	`strings.quote(key) == "\"box-7\""`, `key.matches("^box-[0-9]+$")`, `text.matches("box-[0-9]")`, `text.matches("celsius.*[0-9]\\b")`, `text.matches("(?m)^.box")`, `key.matches("7$")`,
	`int(body.battery) == 71`, `double(string(body.battery)) == 71.0`, `string(body.celsius) == "8.5"`, `timestamp(body.when) < time`, `duration("1h") > duration("1m")`, `bool("true")`, `bytes(key) == b"box-7"`,
	`time.getHours("Europe/Oslo") == 9`, `time.getHours("-02:30") == 5 && time.getMinutes("-02:30") == 30`, `time.getMonth("UTC") == 10 && time.getDate("UTC") == 23 && time.getDayOfMonth("UTC") == 22`, `time.getDayOfWeek("Asia/Tokyo") == 1 && time.getDayOfYear("Asia/Tokyo") == 326`, `time.getHours("Nowhere/There") >= 0`, `time.getFullYear("UTC") == 2026 && time.getSeconds("02:00") == 0 && time.getMilliseconds("UTC") == 0`, `time.getFullYear() == 2026`, `body.tags + ["c"] == ["a", "b", "c"]`, `[1, 2] + [3] == [1, 2, 3]`, `key + text != ""`, `math.greatest(body.celsius, 3.0) == 8.5`, `math.least([4, 2, 3]) == 2`,
	`{"a": body.box}.a == key`, `body.celsius > 8 ? body.battery > 70 : false`, `body.missing > 1 || key == "box-7"`, `body.celsius > 8 && body.missing == 1`, `size == 20 || offset == 1200`, `body.tags.exists_one(t, t == "a")`,
	`headers.exists(h, h == "source")`, `size(headers) == 2`, `headers == {"source": "truck", "x-run": "3"}`, `"source" in headers`, `has(headers.nothing)`, `body.celsius + 1.0 > 9.0`, `body.box + "!" == "box-7!"`, `-body.celsius < 0.0`,
	`body.battery in [70, 71]`, `71.0 in [body.battery]`, `body.at.lat == 59`, `body in [null]`, `body.tags.all(t, t.startsWith("a") || t.endsWith("b"))`, `text < key`, `body.box < "c"`, `body.tags.map(t, t == "b", t + t) == ["bb"]`,
}

var sameBodies = []string{
	`{"box":"box-7","celsius":8.5,"battery":71,"tags":["a","b"],"at":{"lat":59},"when":"2026-11-22T00:00:00Z"}`,
	`{"box":"box-7","celsius":"47.3 F"}`, `{"box":null,"tags":[]}`, `{"a":1,"a":2,"box":"x","box":"box-7"}`, `{"b\u006fx":"box\u002d7","tags":["\u0061","b"]}`,
	`[1,2,{"box":"box-7"}]`, `null`, ``, ` `, `"box-7"`, `8.5`, `true`, `{"x":1e400}`, `{"x":-0.0e-5,"celsius":8.5E0}`, `{"box":"box-7",}`, `{"celsius":9}{}`, "47.3 F", "\xff\xfe", `{"box":"` + "\xff" + `"}`,
	`{"box":"\ud800"}`, `{"box":"é 漢字 😀","celsius":8.5}`, "{\"box\":\"a\tb\"}", `[[[[[]]]]]`, `{"":{"":[]}}`, `{"tags":["b","a"],"at":{"lat":59.0,"lat":1}}`, strings.Repeat("a", 60) + "b" + strings.Repeat("a", 40),
}

func same(t testing.TB, source string, bodies []string) {
	c, err := Compile(source)
	require.NoError(t, err, source)
	m, want := c.Matcher(t.Context()), plainly(t, source)
	for _, body := range bodies {
		got, err := m.Match(reading(body))
		require.NoError(t, err, "%s on %q", source, body)
		require.Equal(t, want(reading(body)), got, "%s on %q", source, body)
	}
}

func TestConditionsMeanWhatTheLibrarySays(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 2))
	bodies := sameBodies
	for range 400 {
		b := []byte(sameBodies[random.IntN(len(sameBodies))])
		for range 1 + random.IntN(3) {
			if len(b) > 0 {
				b[random.IntN(len(b))] = `{}[]",:0123.-eEntf ax\u`[random.IntN(23)]
			}
		}
		bodies = append(bodies, string(b))
	}
	for _, source := range sameConditions {
		same(t, source, bodies)
	}
}

// FuzzBody holds the tape against encoding/json: the same texts are JSON, and
// say the same.
func FuzzBody(f *testing.F) {
	for _, b := range sameBodies {
		f.Add([]byte(b))
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		m := &meter{}
		m.begin()
		tp := &tape{meter: m}
		var want any
		err := json.Unmarshal(b, &want)
		ok := tp.parse(b)
		require.Equal(t, err == nil, ok, "%q: %v", b, err)
		if ok && want != nil {
			assert.Equal(t, want, tp.native(0), "%q", b)
		}
	})
}

// FuzzCondition looks for conditions that end the process, or that mean
// something else with a meter than without.
func FuzzCondition(f *testing.F) {
	for i, c := range sameConditions {
		f.Add(c, sameBodies[i%len(sameBodies)])
	}
	for _, c := range hostile {
		f.Add(c, sameBodies[0])
	}
	f.Fuzz(func(t *testing.T, source, body string) {
		c, err := Compile(source)
		if err != nil || len(body) > 1000 {
			return
		}
		got, err := c.Matcher(t.Context()).Match(reading(body))
		if err == ErrCost {
			return
		}
		require.NoError(t, err)
		if len(source) < 100 && !strings.Contains(source, "map") {
			assert.Equal(t, plainly(t, source)(reading(body)), got, "%s on %q", source, body)
		}
	})
}

func TestValuesAreWrittenAsJSON(t *testing.T) {
	for source, want := range map[string]string{
		`body.celsius`: `8.5`, `body.box + "!"`: `"box-7!"`, `body.tags`: `["a","b"]`, `body`: `{"box":"box-7","celsius":8.5,"tags":["a","b"]}`, `size`: fmt.Sprint(len(`{"box":"box-7","celsius":8.5,"tags":["a","b"]}`)),
		`{"a": [1, 2u, 3.5, true, null]}`: `{"a":[1,2,3.5,true,null]}`, `time`: `"2026-11-23T08:00:00Z"`, `duration("90s")`: `"90s"`, `b"abc"`: `"YWJj"`, `(body.celsius - 32.0) / 2.0`: `-11.75`, `headers`: `{"source":"truck","x-run":"3"}`,
	} {
		v, err := CompileValue(source)
		require.NoError(t, err, source)
		got, err := v.Computer(t.Context()).Of(reading(`{"box":"box-7","celsius":8.5,"tags":["a","b"]}`), Facts{})
		require.NoError(t, err, source)
		assert.JSONEq(t, want, string(got), source)
	}
	for source, want := range map[string]string{`{1: 2}`: "key", `type(body)`: "no JSON value", `body.missing`: "missing", `1.0 / 0.0`: "no JSON value"} {
		v, err := CompileValue(source)
		require.NoError(t, err, source)
		_, err = v.Computer(t.Context()).Of(reading(`{}`), Facts{})
		assert.ErrorContains(t, err, want, source)
	}
}

var _ cel.Activation = &vars{}
