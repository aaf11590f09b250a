package endpoints

import (
	"context"
	"log/slog"
	"time"

	"steadyferry/internal/engine/ledger"
)

// mostEvents bounds what waits to be recorded.
const mostEvents = 1000

// Happened notes something that happened to an endpoint or a route.
func (es *Endpoints) Happened(address, what, detail string) {
	es.mu.Lock()
	defer es.mu.Unlock()
	if len(es.events) < mostEvents {
		es.events = append(es.events, ledger.Event{At: time.Now(), Address: address, What: what, Detail: detail})
	}
}

func (es *Endpoints) recordEvents(ctx context.Context) {
	es.mu.Lock()
	events := es.events
	es.events = nil
	es.mu.Unlock()
	if len(events) == 0 {
		return
	}
	if err := ledger.Of(es.catalog).AddEvents(ctx, events); err != nil && ctx.Err() == nil {
		slog.Debug("events were not recorded", "error", err)
		es.mu.Lock()
		es.events = append(events, es.events...)
		es.events = es.events[:min(len(es.events), mostEvents)]
		es.mu.Unlock()
	}
}
