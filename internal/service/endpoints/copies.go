package endpoints

import (
	"context"
	"time"

	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/engine/catalog"
)

// measureEvery is how often another Steady Ferry is asked whether there are more partitions.
const measureEvery = time.Minute

// measure asks another Steady Ferry how many partitions the channel has to which an
// endpoint sends: a route has as many lanes.
func (es *Endpoints) measure(ctx context.Context, e *catalog.Endpoint, s secrets) error {
	if e.Kind() != setting.Ferry {
		return nil
	}
	to := es.sender(e, s)
	defer to.Close()
	n, err := to.Partitions(ctx)
	if err != nil {
		return problem.New(problem.Unavailable, "%s does not tell how many partitions it has: %v", e.URL, err).Field("url").Next("a token of the other side is given with -token-from FILE")
	}
	e.Lanes = n
	return nil
}

// follow records that the channel of another Steady Ferry has got more partitions.
func (es *Endpoints) follow(ctx context.Context, l *line) {
	l.mu.Lock()
	record, s := *l.record, l.secrets
	due := record.Kind() == setting.Ferry && !l.breaker.Failing() && time.Since(l.measured) >= measureEvery
	if due {
		l.measured = time.Now()
	}
	l.mu.Unlock()
	if !due {
		return
	}
	had := record.Lanes
	if es.measure(ctx, &record, s) == nil && record.Lanes > had {
		// Another node may be first: then it is there.
		_ = es.catalog.SetEndpoint(ctx, &record, &catalog.Entry{Who: "ferryd", Action: "follow endpoint", Address: record.Address(), Before: map[string]any{"partitions": had}, After: map[string]any{"partitions": record.Lanes}})
	}
}
