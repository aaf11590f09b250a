package endpoints

import (
	"context"
	"log/slog"
	"time"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/endpoint"
)

// tryTime bounds a trial, which also asks whether deliveries are wanted.
const tryTime = 30 * time.Second

// Try sends one message that says that it is a trial, past all that waits, and returns
// what the place has answered; of a table and of another Steady Ferry it only looks whether they could take some. After a good answer a place that was failing is tried with
// what waits at once.
func (es *Endpoints) Try(ctx context.Context, who string, a address.Address) (*endpoint.Answer, error) {
	if err := access.Check(ctx, access.Route, a.String()); err != nil {
		return nil, err
	}
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
	to := es.sender(record, s)
	defer to.Close()
	answer := to.Try(ctx)
	l.shown(answer)
	es.Happened(a.String(), "trial", "by "+who+": "+answer.Says())
	if answer.Means != endpoint.Again {
		if h := l.tryNow(); h.Failing() {
			if err := es.catalog.TellHealth(ctx, record.ID, h); err != nil {
				slog.Debug("that an endpoint may be tried was not told", "endpoint", a.String(), "error", err)
			}
		}
	}
	return answer, nil
}
