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
// what the place has answered; of a table and of another Steady Ferry it only looks whether they could take some. After a good answer a place that was failing is tried with
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
	answer := to.try(ctx, a.String())
	es.happened(a.String(), "trial", "by "+who+": "+answer.Says())
	if answer.Means != endpoint.Again {
		l.tryNow()
	}
	return answer, nil
}

func (to *sender) try(ctx context.Context, address string) *endpoint.Answer {
	now := time.Now()
	switch {
	case to.broken != nil:
		return &endpoint.Answer{At: now, Error: to.broken.Error(), Means: endpoint.Again}
	case to.rows != nil:
		return to.rows.check(ctx)
	case to.copies != nil:
		if _, a, err := to.copies.partitions(ctx); err == nil {
			return a
		} else {
			return &endpoint.Answer{At: time.Now(), Took: time.Since(now), Error: to.explain(err), Means: endpoint.Again}
		}
	}
	lane := &Lane{Route: uuid.NewString(), Source: address, Number: 1}
	m := message.Message{ContentType: "application/json", Time: now, Body: []byte(`{"trial":true}`), Headers: []message.Header{{Name: "ferry-trial", Value: "true"}}}
	return to.post(ctx, lane, []Item{{Message: m, StoredAt: now}})
}
