package outside

import (
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/endpoint"
	"steadyferry/internal/core/message"
	"steadyferry/internal/core/notice"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/engine/outside/postbox"
)

func mailTo(t *testing.T, box *postbox.Box, secrets Secrets, change func(e *setting.Endpoint)) *Sender {
	t.Helper()
	networks, err := endpoint.ParseNetworks(endpoint.Loopback)
	require.NoError(t, err)
	e := setting.Endpoint{URL: box.URL(), TimeLimitMS: 5000, MailFrom: "ferry@northlight.example", MailTo: []string{"duty@northlight.example", "depot@northlight.example"}}
	if change != nil {
		change(&e)
	}
	to := New(Config{Networks: networks, Origin: "ferry.example"}, Place{Endpoint: e, Address: "coldchain/duty-mail", Secrets: secrets})
	t.Cleanup(to.Close)
	return to
}

func send(t *testing.T, to *Sender, l notice.Letter) *endpoint.Answer {
	t.Helper()
	body, err := json.Marshal(l)
	require.NoError(t, err)
	a, err := to.Send(t.Context(), &Lane{}, []Item{{Message: message.Message{ID: "n-1", Time: time.Now(), Body: body}}})
	require.NoError(t, err)
	return a
}

func TestMailGoesOverTLSToThoseThatAreKnown(t *testing.T) {
	box, err := postbox.Open("", "ferry", "secret")
	require.NoError(t, err)
	t.Cleanup(box.Close)
	l := notice.Letter{Subject: "alarm begins: coldchain/inspections", Text: "dead: 12\nlook – at it", HTML: "<p>12</p>"}
	user := func(e *setting.Endpoint) { e.MailUser = "ferry" }

	a := send(t, mailTo(t, box, Secrets{Authority: box.Authority, Password: "secret"}, user), l)
	require.Equal(t, endpoint.Done, a.Means, a.Error)
	got := box.Letters()
	require.Len(t, got, 1)
	assert.Equal(t, "n-1@ferry.example", got[0].ID)
	assert.Equal(t, l.Subject, got[0].Subject)
	assert.Equal(t, l.Text, got[0].Text)
	assert.Equal(t, []string{"duty@northlight.example", "depot@northlight.example"}, got[0].To)

	trial := mailTo(t, box, Secrets{Authority: box.Authority, Password: "secret"}, user).Try(t.Context())
	require.Equal(t, endpoint.Done, trial.Means, trial.Error)
	assert.Contains(t, box.Letters()[0].Subject, "a trial of coldchain/duty-mail")

	for why, to := range map[string]*Sender{
		"unknown authority":     mailTo(t, box, Secrets{Password: "secret"}, user),
		"Authentication failed": mailTo(t, box, Secrets{Authority: box.Authority, Password: "other"}, user),
		"authenticate":          mailTo(t, box, Secrets{Authority: box.Authority}, nil),
	} {
		a := send(t, to, l)
		assert.NotEqual(t, endpoint.Done, a.Means)
		assert.Contains(t, a.Error, why)
	}
	assert.Len(t, box.Letters(), 2)
}

// What passes is tried again, and what does not is given up.
func TestWhatAMailServerSaysDecides(t *testing.T) {
	box, err := postbox.Open("", "", "")
	require.NoError(t, err)
	t.Cleanup(box.Close)
	to := mailTo(t, box, Secrets{Authority: box.Authority}, nil)
	for code, means := range map[int]endpoint.Verdict{451: endpoint.Again, 550: endpoint.Refused} {
		box.Refuse(code, "not now")
		a := send(t, to, notice.Letter{Subject: "s", Text: "t"})
		assert.Equal(t, means, a.Means, a.Error)
		assert.Contains(t, a.Error, "not now")
	}
	box.Refuse(0, "")
	assert.Equal(t, endpoint.Done, send(t, to, notice.Letter{Subject: "s", Text: "t"}).Means)
	box.Close()
	assert.Equal(t, endpoint.Again, send(t, to, notice.Letter{Subject: "s", Text: "t"}).Means, "nobody is there")
	a, err := to.Send(t.Context(), &Lane{}, []Item{{Message: message.Message{Body: []byte("no letter")}}})
	require.NoError(t, err)
	assert.Equal(t, endpoint.Refused, a.Means)
}
