package change

import (
	"context"
	"errors"
	"time"

	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/part"
)

// Preview says what a change would do before it is done.
type Preview struct {
	Address  string         `json:"address"`
	Effects  []string       `json:"effects"` // in words
	Before   map[string]any `json:"before,omitempty"`
	After    map[string]any `json:"after,omitempty"`
	Messages int64          `json:"messages"` // that would be lost or out of reach
	Bytes    int64          `json:"bytes"`
	Until    *time.Time     `json:"until,omitempty"` // until when it can be taken back
	Job      int64          `json:"job,omitempty"`   // the job that brings it about
	Careful  bool           `json:"careful"`         // something of it cannot be taken back
}

// UntilFresh makes a change again for as long as others change the same thing
// between the look at it and the change.
func UntilFresh(ctx context.Context, records *catalog.Catalog, address string, change func() error) error {
	for {
		err := change()
		if !errors.Is(err, catalog.ErrStale) || ctx.Err() != nil {
			return part.Explain(err, address)
		}
		if err := records.CatchUp(ctx); err != nil {
			return part.Explain(err, address)
		}
	}
}
