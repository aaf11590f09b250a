package endpoints

import (
	"context"
	"time"

	"github.com/google/uuid"

	"steadyferry/internal/core/endpoint"
	"steadyferry/internal/core/message"
	"steadyferry/internal/engine/outside"
)

// Post sends one message of the service's own to an endpoint, past all that waits there, and
// returns what it has answered; ErrRemoved without such an endpoint. It is not counted as a
// delivery, and does not decide whether the endpoint fails.
func (es *Endpoints) Post(ctx context.Context, at string, m *message.Message) (*endpoint.Answer, error) {
	record := es.catalog.View().Endpoints[at]
	if record == nil {
		return nil, ErrRemoved
	}
	s, err := es.open(record)
	if err != nil {
		return nil, err
	}
	to := es.sender(record, s)
	defer to.Close()
	lane := &outside.Lane{Route: uuid.NewString(), Source: at, Number: 1}
	return to.Send(ctx, lane, []outside.Item{{Message: *m, StoredAt: time.Now()}})
}
