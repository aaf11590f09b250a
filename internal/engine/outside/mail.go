package outside

import (
	"context"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"strconv"
	"time"

	"github.com/wneessen/go-mail"

	"steadyferry/internal/core/endpoint"
	"steadyferry/internal/core/notice"
)

// Ports of mail, by the schemes of addresses (RFC 6409 and RFC 8314).
const (
	submission    = 587 // which becomes TLS by STARTTLS
	submissionTLS = 465
	withTLS       = "smtps"
)

// mailer sends letters. Nothing is sent in the clear.
type mailer struct {
	to      *Sender
	host    string
	options []mail.Option
}

func newMailer(to *Sender, u *url.URL, secured *tls.Config) (*mailer, error) {
	m := &mailer{to: to, host: u.Hostname()}
	port := submission
	if u.Scheme == withTLS {
		port = submissionTLS
		m.options = append(m.options, mail.WithSSL())
	}
	if text := u.Port(); text != "" {
		var err error
		if port, err = strconv.Atoi(text); err != nil {
			return nil, err
		}
	}
	m.options = append(m.options, mail.WithPort(port), mail.WithTLSPolicy(mail.TLSMandatory), mail.WithTLSConfig(secured), mail.WithTimeout(to.limit()),
		mail.WithDialContextFunc(to.config.dial), mail.WithHELO(to.config.Origin), mail.WithoutNoop())
	if to.Place.MailUser != "" {
		m.options = append(m.options, mail.WithSMTPAuth(mail.SMTPAuthAutoDiscover), mail.WithUsername(to.Place.MailUser), mail.WithPassword(to.Place.Secrets[Password]))
	}
	return m, nil
}

// post sends letters, each a message whose body is one as JSON.
func (m *mailer) post(ctx context.Context, items []Item) *endpoint.Answer {
	begun := time.Now()
	answer := &endpoint.Answer{At: begun, Means: endpoint.Done}
	letters := make([]*mail.Msg, len(items))
	for i := range items {
		var err error
		if letters[i], err = m.letter(&items[i]); err != nil {
			answer.Means, answer.Error = endpoint.Refused, err.Error()
			return answer
		}
	}
	ctx, cancel := context.WithTimeout(ctx, m.to.limit())
	defer cancel()
	client, err := mail.NewClient(m.host, m.options...)
	if err == nil {
		err = client.DialAndSendWithContext(ctx, letters...)
	}
	answer.Took = time.Since(begun)
	if err == nil {
		return answer
	}
	answer.Means, answer.Error = endpoint.Again, err.Error()
	var failed *mail.SendError
	if errors.As(err, &failed) && !failed.IsTemp() && failed.ErrorCode() >= 500 {
		answer.Means = endpoint.Refused
	}
	return answer
}

// letter is a message as mail.
func (m *mailer) letter(i *Item) (*mail.Msg, error) {
	var l notice.Letter
	if err := json.Unmarshal(i.Body, &l); err != nil {
		return nil, fmt.Errorf("mail is for notices: %w", err)
	}
	out := mail.NewMsg(mail.WithNoDefaultUserAgent())
	if err := out.From(m.to.Place.MailFrom); err != nil {
		return nil, err
	}
	if err := out.To(m.to.Place.MailTo...); err != nil {
		return nil, err
	}
	out.Subject(l.Subject)
	out.SetDateWithValue(i.Time)
	// The same however often it goes, and without the name of this machine.
	out.SetMessageIDWithValue(i.ID + "@" + m.to.config.Origin)
	out.SetBodyString(mail.TypeTextPlain, l.Text)
	if l.HTML != "" {
		out.AddAlternativeString(mail.TypeTextHTML, l.HTML)
	}
	return out, nil
}

// try sends a letter that says that it is a trial.
func (m *mailer) try(ctx context.Context, id string) *endpoint.Answer {
	body, err := json.Marshal(notice.Letter{Subject: "a trial of " + m.to.Place.Address, Text: "Notices of incidents and of chores would come here."})
	if err != nil {
		panic(err) // plain texts
	}
	i := Item{}
	i.ID, i.Time, i.Body = "trial-"+id, time.Now(), body
	return m.post(ctx, []Item{i})
}
