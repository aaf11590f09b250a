package outside

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"steadyferry/internal/core/message"
	"steadyferry/internal/core/setting"
)

// tableOf is what is known of a table whose columns get something of messages.
func tableOf(columns map[string]string, asJSON ...string) (*rows, *tableForm) {
	r := &rows{place: &Place{Endpoint: setting.Endpoint{Columns: columns}}}
	f := &tableForm{names: map[string]int{}}
	for name, source := range columns {
		i := len(r.columns)
		r.columns = append(r.columns, name)
		f.sources = append(f.sources, source)
		f.isJSON = append(f.isJSON, strings.Contains(strings.Join(asJSON, " "), name))
		f.paths = append(f.paths, "")
		if field, ok := strings.CutPrefix(source, "/"); ok && !strings.ContainsAny(field, "/~") {
			f.names[field] = i
		} else if ok {
			f.paths[i] = pathOf(source)
		}
	}
	return r, f
}

func TestWhatAColumnGets(t *testing.T) {
	at := time.Date(2026, 11, 27, 8, 0, 0, 0, time.UTC)
	lane := &Lane{Source: "coldchain/readings", Partition: 3}
	i := Item{Offset: 1200, StoredAt: at}
	i.Message = message.Message{ID: "id-1", Key: "box-7", Headers: []message.Header{{Name: "firmware", Value: "4.3"}},
		Body: []byte(`{"celsius":8.50,"ok":true,"none":null,"name":"a\tb\\c\nd","deep":{"list":[1,{"x/y":"z"}],"":5},"a.b":"dots","big":12345678901234567890}`)}
	for source, want := range map[string]string{
		"key": "box-7", "id": "id-1", "time": "2026-11-27T08:00:00Z", "partition": "3", "offset": "1200", "source": "coldchain/readings", "header.firmware": "4.3", "header.none": `\N`,
		"/celsius": "8.50", "/ok": "true", "/none": `\N`, "/absent": `\N`, "/name": `a\tb\\c\nd`, "/deep/list/1/x~1y": "z", "/deep/list/0": "1", "/deep/list/9": `\N`, "/a.b": "dots", "/big": "12345678901234567890",
		"/deep/list": `[1,{"x/y":"z"}]`,
	} {
		r, f := tableOf(map[string]string{"c": source})
		assert.Equal(t, want+"\n", string(r.values(lane, []Item{i}, f)), source)
	}
	for source, want := range map[string]string{"key": `"box-7"`, "/name": `"a\\tb\\\\c\\nd"`, "/celsius": "8.50", "/none": `\N`} {
		r, f := tableOf(map[string]string{"c": source}, "c")
		assert.Equal(t, want+"\n", string(r.values(lane, []Item{i}, f)), "%s as JSON", source)
	}
	i.Body = []byte("46.4 F")
	r, f := tableOf(map[string]string{"c": "/celsius"})
	assert.Equal(t, "\\N\n", string(r.values(lane, []Item{i}, f)), "no JSON")
	r, f = tableOf(map[string]string{"c": "body"}, "c")
	assert.Equal(t, "\"46.4 F\"\n", string(r.values(lane, []Item{i}, f)))
}

// Of rows that replace each other the last one is written; those without a whole key all
// are.
func TestRowsOfTheSameKey(t *testing.T) {
	r, f := tableOf(map[string]string{"box": "/box"})
	r.place.KeyColumns = []string{"box"}
	var items []Item
	for n, body := range []string{`{"box":"a"}`, `{"box":"b"}`, `{}`, `{"box":"a"}`, `{}`} {
		items = append(items, Item{Offset: int64(n), Message: message.Message{Body: []byte(body)}})
	}
	assert.Equal(t, "b\n\\N\na\n\\N\n", string(r.values(&Lane{}, items, f)))
}

func TestTypesOfColumns(t *testing.T) {
	samples := func(all ...string) (b [][]byte) {
		for _, one := range all {
			b = append(b, []byte(one))
		}
		return b
	}
	mostly := append(samples(strings.Split(strings.Repeat(`{"x":1.5};`, 19), ";")...), []byte(`{"x":"46.4 F"}`))
	for want, c := range map[string]struct {
		source string
		of     [][]byte
	}{
		typeWhole: {"/x", samples(`{"x":1}`, `{"x":2}`, `{}`, "no JSON")}, typeNumber: {"/x", samples(`{"x":1}`, `{"x":2.5}`)}, typeSwitch: {"/x", samples(`{"x":true}`, `{"x":null}`)},
		typeTime: {"/x", samples(`{"x":"2026-11-27T08:00:00Z"}`)}, typeJSON: {"/x", samples(`{"x":{"y":1}}`, `{"x":"text"}`)}, typeText: {"/x", samples(`{"x":"text"}`, `{"x":1}`)},
	} {
		assert.Equal(t, want, typeOf(c.source, c.of))
	}
	assert.Equal(t, typeNumber, typeOf("/x", mostly), "what a few have else is their fault")
	assert.Equal(t, []string{typeText, typeText, typeTime, typeWhole, typeText}, []string{typeOf("/x", nil), typeOf("key", nil), typeOf("time", nil), typeOf("offset", nil), typeOf("body", nil)})
}
