package cluster

import (
	"context"
	"time"

	"steadyferry/internal/engine/part"
)

// Times with which leaders are given back to the nodes that should lead.
const (
	LeaderEvery  = 250 * time.Millisecond
	leaderSettle = 5 * time.Second // that a node must have answered for
	leadersAtOne = 2               // that one node gives back at a time
)

// SpreadLeaders gives the leadership of partitions to the nodes that should
// have it, a few at a time, when those have been back for a while; and gives
// it away when this node has no room on its disk.
func (cl *Cluster) SpreadLeaders(ctx context.Context, now time.Time) {
	if len(cl.parts.OtherNodes()) == 0 {
		return
	}
	view := cl.catalog.View()
	given := 0
	for _, t := range cl.parts.Channels() {
		for _, p := range t.Partitions() {
			g := p.Replica()
			if g == nil || p.Alone() || !g.Membership().Leading {
				continue
			}
			placed := cl.parts.Placed(p)
			reason, to := "", []uint64(nil)
			switch {
			case len(placed) == 0:
			case cl.parts.DiskIsFull() || g.Stalled():
				reason, to = "the disk of "+cl.parts.Name()+" is full", cl.parts.WithRoom(placed)
			case view.Cluster.SpreadLeaders && placed[0] != cl.id && cl.settled(placed[0], now):
				reason, to = "back to the node that should lead", placed[:1]
			}
			if len(to) == 0 {
				continue
			}
			asked, cancel := context.WithTimeout(ctx, time.Second)
			began, err := g.HandOver(asked, to, reason)
			cancel()
			if err != nil || !began {
				continue
			}
			if given++; given >= leadersAtOne {
				return
			}
		}
	}
}

// settled reports whether a node has answered for long enough, and has room,
// to be given leaders.
func (cl *Cluster) settled(id uint64, now time.Time) bool {
	return cl.parts.UpFor(id, now) >= leaderSettle && len(cl.parts.WithRoom([]uint64{id})) == 1
}

// handOverTime is how long a node that stops waits for others to lead.
const handOverTime = 2 * time.Second

// HandOverAll gives every partition that this node leads to another one.
func (cl *Cluster) HandOverAll(ctx context.Context) {
	ctx, cancel := context.WithTimeout(ctx, handOverTime)
	defer cancel()
	for ctx.Err() == nil {
		leads := 0
		for _, t := range cl.parts.Channels() {
			for _, p := range t.Partitions() {
				g := p.Replica()
				if g == nil || p.Alone() || !g.Membership().Leading || !g.HasMajority() {
					continue
				}
				leads++
				g.HandOver(ctx, cl.parts.WithRoom(cl.parts.Placed(p)), cl.parts.Name()+" is being stopped")
			}
		}
		if leads == 0 {
			return
		}
		select {
		case <-ctx.Done():
		case <-time.After(30 * time.Millisecond):
		}
	}
}

// answerLead gives the leadership of a partition away, as another node asks.
func (cl *Cluster) answerLead(ctx context.Context, _ uint64, p *part.Partition, reason []byte) ([]byte, error) {
	g := p.Replica()
	if g == nil {
		return nil, part.ErrMoved
	}
	_, err := g.HandOver(ctx, cl.parts.WithRoom(cl.parts.Placed(p)), string(reason))
	return nil, err
}
