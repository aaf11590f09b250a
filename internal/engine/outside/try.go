package outside

import (
	"context"
	"time"

	"github.com/google/uuid"

	"steadyferry/internal/core/endpoint"
	"steadyferry/internal/core/message"
)

// Try sends one message that says that it is a trial; of a table and of another Steady
// Ferry it only looks whether they could take some.
func (to *Sender) Try(ctx context.Context) *endpoint.Answer {
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
	if to.mailer != nil {
		return to.mailer.try(ctx, uuid.NewString())
	}
	lane := &Lane{Route: uuid.NewString(), Source: to.Place.Address, Number: 1}
	m := message.Message{ContentType: "application/json", Time: now, Body: []byte(`{"trial":true}`), Headers: []message.Header{{Name: "ferry-trial", Value: "true"}}}
	return to.post(ctx, lane, []Item{{Message: m, StoredAt: now}})
}
