package edit

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/expr"
	"steadyferry/internal/core/message"
)

func stored(body string) *message.Stored {
	return &message.Stored{Message: message.Message{Key: "box-1", ContentType: "application/json", Body: []byte(body), Headers: []message.Header{{Name: "source", Value: "probe"}}}, Offset: 7}
}

func TestEdits(t *testing.T) {
	for _, c := range []struct{ edit, body, want string }{
		{`set /celsius=4.5`, `{"celsius":"46.4 F","z":1,"a":2}`, `{"celsius":4.5,"z":1,"a":2}`},
		{`compute /celsius=(double(body.celsius.replace(" F", "")) - 32.0) / 1.8`, `{"celsius":"50 F","big":12345678901234567890}`, `{"celsius":10,"big":12345678901234567890}`},
		{`compute /box=key`, `{}`, `{"box":"box-1"}`},
		{`compute /at=offset + 1`, `{"at":0}`, `{"at":8}`},
		{`set /list/1="x"`, `{"list":[1,2,3]}`, `{"list":[1,"x",3]}`},
		{`set /a~1b=true`, `{"a/b":false}`, `{"a/b":true}`},
		{`set /unit=Celsius`, `{}`, `{"unit":"Celsius"}`},
		{`remove /celsius`, `{"celsius":1,"box":"b"}`, `{"box":"b"}`},
		{`rename /temp=/celsius`, `{"temp":7}`, `{"celsius":7}`},
		{`compute body={"only": key}`, `not json`, `{"only":"box-1"}`},
	} {
		e, err := Parse(c.edit)
		require.NoError(t, err, c.edit)
		again, err := Parse(e.String())
		require.NoError(t, err)
		require.Equal(t, e, again)
		ed, err := NewEditor([]Edit{e})
		require.NoError(t, err, c.edit)
		before := stored(c.body)
		out, err := ed.Begin(t.Context()).Apply(before, expr.Facts{})
		require.NoError(t, err, c.edit)
		require.Equal(t, c.want, string(out.Body), c.edit)
		require.Equal(t, c.body, string(before.Body), "the original stays")
	}
}

func TestEditsOfHeadersAndKey(t *testing.T) {
	var edits []Edit
	for _, text := range []string{`rename header.source=header.origin`, `compute header.mended=reason + "!"`, `compute key=body.box`} {
		e, err := Parse(text)
		require.NoError(t, err)
		edits = append(edits, e)
	}
	ed, err := NewEditor(edits)
	require.NoError(t, err)
	out, err := ed.Begin(t.Context()).Apply(stored(`{"box":"box-9"}`), expr.Facts{Reason: "bad"})
	require.NoError(t, err)
	require.Equal(t, "box-9", out.Key)
	require.Equal(t, []message.Header{{Name: "origin", Value: "probe"}, {Name: "mended", Value: "bad!"}}, out.Headers)
}

func TestEditsThatDoNotApply(t *testing.T) {
	for edit, want := range map[string]string{
		`remove /none`:             "the body has no /none",
		`rename /none=/x`:          "the body has no /none",
		`remove header.none`:       "there is no header none",
		`compute /x=body.none + 1`: "no such key: none",
		`set /x/y/z=1`:             "the body has no /x/y/z",
	} {
		e, err := Parse(edit)
		require.NoError(t, err)
		ed, err := NewEditor([]Edit{e})
		require.NoError(t, err)
		_, err = ed.Begin(t.Context()).Apply(stored(`{"a":1}`), expr.Facts{})
		require.ErrorContains(t, err, want)
		require.ErrorContains(t, err, "edit 1 ("+edit)
	}
	for _, edit := range []Edit{{Op: "add", At: "/x"}, {Op: "set", At: "/x"}, {Op: "set", At: "x", Value: []byte("1")}, {Op: "rename", At: "/x", To: "header.x"},
		{Op: "remove", At: "body"}, {Op: "compute", At: "/x", Expression: "body."}, {Op: "set", At: "/x", Expression: "1"}, {Op: "compute", At: "/x"}, {Op: "compute", At: "/x", Expression: "1", Value: []byte("1")}, {Op: "remove", At: "header."}} {
		_, err := NewEditor([]Edit{edit})
		require.Error(t, err, edit.String())
	}
	for _, text := range []string{"", "put /x=1", "set /x", "rename /x"} {
		_, err := Parse(text)
		require.Error(t, err, text)
	}
}

func TestManyEditsOfALargeBodyParseItOnce(t *testing.T) {
	large := stored(`{"celsius":4,"notes":["` + strings.Repeat(`a note","`, 200_000) + `"]}`)
	took := func(count int, want string) time.Duration {
		edits := make([]Edit, count)
		for i := range edits {
			edits[i] = Edit{Op: "compute", At: "/celsius", Expression: "body.celsius + 1.0"}
		}
		ed, err := NewEditor(edits)
		require.NoError(t, err)
		start := time.Now()
		out, err := ed.Begin(t.Context()).Apply(large, expr.Facts{})
		require.NoError(t, err)
		require.Equal(t, want, string(out.Body[:len(want)]))
		return time.Since(start)
	}
	took(1, `{"celsius":5,`)
	one := took(1, `{"celsius":5,`)
	many := took(MaxEdits, `{"celsius":5,`)
	t.Logf("one edit %v, %d edits %v", one, MaxEdits, many)
	require.Less(t, many, 25*one, "each of %d edits parsed and wrote the body", MaxEdits)
}

func TestPlacesInADocument(t *testing.T) {
	for _, c := range []struct{ edits, body, want string }{
		{`set /a/b/0=1;set /a/b/-=2;set /a/c={"x":1};set /a/c/x=3`, `{"a":{"b":[9]}}`, `{"a":{"b":[1,2],"c":{"x":3}}}`},
		{`rename /l/0=/l/2`, `{"l":[1,2,3]}`, `{"l":[2,3,1]}`},
		{`rename /a=/b;remove /c/1`, `{"a":1,"b":2,"c":[1,2,3]}`, `{"b":1,"c":[1,3]}`},
		{`set /~0~1=1`, `{"a":1,"a":2}`, `{"a":2,"~/":1}`},
		{`set /a=null;remove /a`, ` [ ] `, "the body has no /a"},
		{`rename /a=/a/b`, `{"a":{}}`, "a part of itself"},
		{`set /l/7=1`, `{"l":[]}`, "the body has no /l/7"},
		{`set /l/01=1`, `{"l":[1,2]}`, "the body has no /l/01"},
		{`remove /a`, `nonsense`, "not JSON"},
		{`set body={"n":1};set /n=2`, `nonsense`, `{"n":2}`},
	} {
		var edits []Edit
		for one := range strings.SplitSeq(c.edits, ";") {
			e, err := Parse(one)
			require.NoError(t, err)
			edits = append(edits, e)
		}
		ed, err := NewEditor(edits)
		require.NoError(t, err)
		out, err := ed.Begin(t.Context()).Apply(stored(c.body), expr.Facts{})
		if err != nil {
			require.ErrorContains(t, err, c.want, c.edits)
			continue
		}
		require.Equal(t, c.want, string(out.Body), c.edits)
	}
}
