package node

import (
	"context"
	"time"
)

// WaitReady waits until every partition of the topic has a leader that this
// node knows, at most until ctx ends.
func (n *Node) WaitReady(ctx context.Context, t *Topic) {
	for _, p := range t.Partitions() {
		for ctx.Err() == nil {
			leader := n.leaderOf(p)
			if p.alone() || leader == n.id {
				if g := p.Replica(); g.Refusal() == nil {
					break
				}
			} else if leader != 0 && n.peers.Up(leader) {
				break
			}
			select {
			case <-ctx.Done():
			case <-time.After(2 * time.Millisecond):
			}
		}
	}
}
