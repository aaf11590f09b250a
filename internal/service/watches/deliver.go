package watches

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"sync"
	"time"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/endpoint"
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/message"
	"steadyferry/internal/core/notice"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/engine/ledger"
	"steadyferry/internal/service/endpoints"
)

// Bounds of sending.
const (
	sentAtOnce = 8
	giveUpTime = 24 * time.Hour
	sendTime   = 30 * time.Second
)

// sendDue sends the notices that are due, those of an endpoint in their order. What is not
// heard of in time is sent again: a notice has one id, however often it comes.
func (ws *Watches) sendDue(ctx context.Context) {
	for ctx.Err() == nil {
		due, err := ws.ledger.TakeNotices(ctx, sentAtOnce)
		if err != nil && ctx.Err() == nil {
			slog.Debug("notices wait for the records", "error", err)
		}
		if err != nil || len(due) == 0 {
			return
		}
		var sending sync.WaitGroup
		for _, n := range due {
			sending.Go(func() {
				if err := ws.sendOne(ctx, &n); err != nil && ctx.Err() == nil {
					slog.Debug("what came of a notice is not recorded", "error", err)
				}
			})
		}
		sending.Wait()
	}
}

func (ws *Watches) sendOne(ctx context.Context, n *ledger.DueNotice) error {
	answer, err := ws.post(ctx, n.Endpoint, n.ID.String(), n.Body, n.MadeAt)
	end := func(sent bool, answer string) error {
		return ws.ledger.EndNotice(ctx, n.ID, ledger.Came{At: time.Now(), Sent: sent, Answer: answer})
	}
	switch {
	case ctx.Err() != nil:
		return ctx.Err()
	case errors.Is(err, endpoints.ErrRemoved):
		return end(false, "the endpoint was removed")
	case err != nil:
		return ws.ledger.NoticeFailed(ctx, n.ID, err.Error())
	case answer.Means == endpoint.Done:
		return end(true, answer.Says())
	case answer.Means == endpoint.Refused:
		return end(false, "it is refused: "+answer.Says())
	case time.Since(n.MadeAt) > giveUpTime:
		return end(false, fmt.Sprintf("given up after %d tries: %s", n.Tries, answer.Says()))
	}
	return ws.ledger.NoticeFailed(ctx, n.ID, answer.Says())
}

// post sends a notice to an endpoint.
func (ws *Watches) post(ctx context.Context, at, id string, body []byte, made time.Time) (*endpoint.Answer, error) {
	ctx, cancel := context.WithTimeout(ctx, sendTime)
	defer cancel()
	m := &message.Message{ID: id, ContentType: "application/json", Time: made, Body: body, Headers: []message.Header{{Name: "ferry-notice", Value: "incidents"}}}
	if err := ws.word(at, m); err != nil {
		return nil, err
	}
	return ws.outside.Post(ctx, at, m)
}

// word makes of a notice what its endpoint gets: what the endpoint's own words make of it, and
// of mail a letter.
func (ws *Watches) word(at string, m *message.Message) (err error) {
	e := ws.catalog.View().Endpoints[at]
	if e == nil {
		return nil // which sending says
	}
	var words *notice.Words
	if e.Notice != "" {
		if words, err = notice.Compile(e.Notice); err != nil {
			words, err = nil, nil // they were checked by another version
		}
	}
	if e.Kind() != setting.Mail {
		m.ContentType, m.Body = notice.Posted(words, m.Body)
		return nil
	}
	letter, err := notice.Mailed(words, m.Body)
	if err != nil {
		return err
	}
	m.Body, err = json.Marshal(letter)
	return err
}

// TryTelling sends a notice that says that it is a trial to all that a watch tells, and returns
// what they have answered.
func (ws *Watches) TryTelling(ctx context.Context, a address.Address) ([]form.NoticeAnswer, error) {
	if err := access.Check(ctx, access.Watch, a.String()); err != nil {
		return nil, err
	}
	w, err := ws.Of(ctx, a)
	if err != nil {
		return nil, err
	}
	if len(w.Tell) == 0 {
		return nil, problem.New(problem.Conflict, "%s tells nobody", a).Field("tell").Next("ferry set %s -tell %s/ENDPOINT", a, a.Space)
	}
	all := []form.NoticeAnswer{}
	for _, at := range w.Tell {
		body := fmt.Appendf(nil, `{"trial":true,"watch":%q,"says":%q,"incidents":[]}`, a.String(), "a trial: "+a.String()+" would tell of its incidents here")
		one := form.NoticeAnswer{Endpoint: at}
		answer, err := ws.post(ctx, at, "trial-"+fmt.Sprint(time.Now().UnixNano()), body, time.Now())
		if err != nil {
			one.Says = err.Error()
		} else {
			one.Taken, one.Says = answer.Means == endpoint.Done, answer.Says()
		}
		all = append(all, one)
	}
	return all, nil
}
