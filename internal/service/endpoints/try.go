package endpoints

import (
	"context"
	"time"

	"github.com/google/uuid"

	"steadyferry/internal/core/address"
	"steadyferry/internal/core/endpoint"
	"steadyferry/internal/core/message"
)

// tryTime bounds a trial, which also asks whether deliveries are wanted.
const tryTime = 30 * time.Second

// Try sends one message that says that it is a trial, past all that waits, and returns
// what the place has answered. After a good answer a place that was failing is tried with
// what waits at once.
func (es *Endpoints) Try(ctx context.Context, who string, a address.Address) (*endpoint.Answer, error) {
	record, err := es.Of(ctx, a)
	if err != nil {
		return nil, err
	}
	l, err := es.line(record.ID)
	if err != nil {
		return nil, err
	}
	ctx, cancel := context.WithTimeout(ctx, tryTime)
	defer cancel()
	s, err := es.open(record)
	if err != nil {
		return nil, err
	}
	to := es.newSender(record, s)
	defer to.close()
	now := time.Now()
	lane := &Lane{Route: uuid.NewString(), Source: a.String(), Number: 1}
	item := Item{Message: message.Message{ContentType: "application/json", Time: now, Body: []byte(`{"trial":true}`), Headers: []message.Header{{Name: "ferry-trial", Value: "true"}}}, StoredAt: now}
	answer := to.post(ctx, lane, []Item{item})
	es.happened(a.String(), "trial", "by "+who+": "+answer.Says())
	if answer.Means != endpoint.Again {
		l.tryNow()
	}
	return answer, nil
}
