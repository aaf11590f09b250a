package notice

import (
	"encoding/json"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/form"
)

func ringing() *form.Notice {
	i := form.NoticeIncident{Incident: form.Incident{Number: 7, Address: "coldchain/inspections", State: "alarm", Says: `dead at or above 10, "<b>" at worst`, Next: "ferry dead coldchain/inspections"}, Word: "begins", Link: "http://localhost/incidents/7"}
	other := i
	other.Number, other.Address = 8, "coldchain/recalls"
	return &form.Notice{Notice: "n-1", At: time.Unix(0, 0).UTC(), Says: "two\nlines", Incidents: []form.NoticeIncident{i, other}}
}

func TestALetterSaysWhatToDo(t *testing.T) {
	l := LetterOf(ringing())
	assert.Equal(t, "alarm begins: coldchain/inspections, and 1 more incident", l.Subject)
	assert.Contains(t, l.Text, "ferry dead coldchain/inspections\n  http://localhost/incidents/7")
	assert.Contains(t, l.HTML, "&lt;b&gt;")
	assert.NotContains(t, l.HTML, "<b>")

	l = LetterOf(&form.Notice{Says: "coldchain/nightly: run 3 failed\r\nBcc: x@y", Run: &form.Run{Chore: "coldchain/nightly", Run: 3, State: "failed", Says: "no"}, Text: &form.NoticeText{Markdown: "# coldchain", Link: "http://localhost/r"}})
	assert.Equal(t, "coldchain/nightly: run 3 failed Bcc: x@y", l.Subject, "one line")
	assert.Contains(t, l.Text, "run 3 is failed: no")
	assert.Contains(t, l.Text, "# coldchain")

	l = LetterOf(&form.Notice{Says: strings.Repeat("é", 300)})
	assert.LessOrEqual(t, len(l.Subject), maxSubject)
	assert.Equal(t, strings.Repeat("é", 300), l.Text)
}

func TestWordsMakeSomethingElseOfANotice(t *testing.T) {
	body, err := json.Marshal(ringing())
	require.NoError(t, err)
	for _, one := range []struct{ words, contentType, out string }{
		{`"trouble: " + notice.incidents[0].address`, "text/plain; charset=utf-8", "trouble: coldchain/inspections"},
		{`{"text": notice.says, "count": size(notice.incidents), "bad": notice.incidents.exists(i, i.state == "alarm")}`, "application/json", `{"bad":true,"count":2,"text":"two\nlines"}`},
		{`notice.incidents.map(i, i.number)`, "application/json", `[7,8]`},
		{`notice.nothing.there`, "application/json", string(body)},
	} {
		w, err := Compile(one.words)
		require.NoError(t, err, one.words)
		contentType, out := Posted(w, body)
		assert.Equal(t, one.contentType, contentType, one.words)
		assert.Equal(t, one.out, string(out), one.words)
	}
	contentType, out := Posted(nil, body)
	assert.Equal(t, "application/json", contentType)
	assert.Equal(t, string(body), string(out))
	for words, says := range map[string]string{`notice.says +`: "column", `message.says`: "undeclared", strings.Repeat("1+", 1500) + "1": "notice:"} {
		_, err := Compile(words)
		assert.ErrorContains(t, err, says)
	}
}

func TestWordsOfLetters(t *testing.T) {
	body, err := json.Marshal(ringing())
	require.NoError(t, err)
	for _, one := range []struct {
		words string
		want  Letter
	}{
		{`notice.says`, Letter{Subject: "alarm begins: coldchain/inspections, and 1 more incident", Text: "two\nlines"}},
		{`{"subject": "depot: " + string(size(notice.incidents)), "text": "look"}`, Letter{Subject: "depot: 2", Text: "look"}},
	} {
		w, err := Compile(one.words)
		require.NoError(t, err)
		l, err := Mailed(w, body)
		require.NoError(t, err)
		assert.Equal(t, &one.want, l)
	}
	w, err := Compile(`notice.nothing.there`)
	require.NoError(t, err)
	l, err := Mailed(w, body)
	require.NoError(t, err)
	assert.Equal(t, LetterOf(ringing()), l, "its words fail, and it is told")
}
