package manage

import (
	"context"
	"log/slog"
	"time"
)

// Purge deletes removed channels whose way back has ended, the record first:
// one that is brought back in the same moment keeps its logs.
func (mg *Manage) Purge(ctx context.Context, now time.Time) {
	for _, ch := range mg.catalog.View().Removed {
		if now.Sub(ch.RemovedAt.Time) < mg.keepRemoved {
			continue
		}
		if err := mg.catalog.Forget(ctx, ch.ID, now.Add(-mg.keepRemoved)); err != nil {
			slog.Warn("could not delete a removed channel", "channel", ch.Address(), "error", err)
		}
	}
	mg.parts.Shelf.Take(ctx)
	mg.parts.Shelf.Drop(now)
}
