package node

import (
	"context"
	"time"
)

// WaitReady waits until every partition of the topic takes messages, at most
// until ctx ends.
func (t *Topic) WaitReady(ctx context.Context) {
	for _, p := range t.Partitions() {
		for p.group.Load().Refusal() != nil && ctx.Err() == nil {
			select {
			case <-ctx.Done():
			case <-time.After(2 * time.Millisecond):
			}
		}
	}
}
