package node

import (
	"context"
	"log/slog"
	"slices"
	"sync"
	"time"

	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/replica"
)

// Times with which leaders are given back to the nodes that should lead.
const (
	leaderEvery  = 250 * time.Millisecond
	leaderSettle = 5 * time.Second // that a node must have answered for
	leadersAtOne = 2               // that one node gives back at a time
)

// led notes that a replica of this node began to lead.
func (n *Node) led(l replica.Led) {
	n.others.led(LeaderChange{At: time.Now().UTC().Truncate(time.Millisecond), Channel: l.Key.Channel, Partition: l.Key.Partition, Term: l.Term, From: l.From, To: n.id, Reason: l.Reason}, true)
	n.others.tellSoon()
}

// spreadLeaders gives the leadership of partitions to the nodes that should
// have it, a few at a time, when those have been back for a while; and gives
// it away when this node has no room on its disk.
func (n *Node) spreadLeaders(ctx context.Context, now time.Time) {
	view := n.catalog.View()
	given := 0
	for _, t := range n.Topics() {
		for _, p := range t.Partitions() {
			g := p.Replica()
			if g == nil || p.alone() || !g.Membership().Leading {
				continue
			}
			placed := n.placed(p)
			reason, to := "", []uint64(nil)
			switch {
			case len(placed) == 0:
			case n.diskIsFull() || g.Stalled():
				reason, to = "the disk of "+n.Name()+" is full", n.withRoom(placed)
			case view.Cluster.SpreadLeaders && placed[0] != n.id && n.settled(placed[0], now):
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
func (n *Node) settled(id uint64, now time.Time) bool {
	return n.upFor(id, now) >= leaderSettle && len(n.withRoom([]uint64{id})) == 1
}

// withRoom returns those of the other nodes whose disks are not full.
func (n *Node) withRoom(ids []uint64) (out []uint64) {
	n.others.mu.RLock()
	defer n.others.mu.RUnlock()
	for _, id := range ids {
		if k := n.others.reports[id]; id != n.id && k != nil && !k.Disk.Full {
			out = append(out, id)
		}
	}
	return out
}

// handOverTime is how long a node that stops waits for others to lead.
const handOverTime = 2 * time.Second

// handOverAll gives every partition that this node leads to another one.
func (n *Node) handOverAll(ctx context.Context) {
	ctx, cancel := context.WithTimeout(ctx, handOverTime)
	defer cancel()
	for ctx.Err() == nil {
		leads := 0
		for _, t := range n.Topics() {
			for _, p := range t.Partitions() {
				g := p.Replica()
				if g == nil || p.alone() || !g.Membership().Leading || !g.HasMajority() {
					continue
				}
				leads++
				g.HandOver(ctx, n.withRoom(n.placed(p)), n.Name()+" is being stopped")
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

// leaveOld deletes replicas that this node shall no longer hold, once the
// leader says that it is no longer a member.
func (n *Node) leaveOld(ctx context.Context) {
	for _, t := range n.Topics() {
		for _, p := range t.Partitions() {
			g := p.Replica()
			if g == nil || slices.Contains(n.placed(p), n.id) {
				continue
			}
			leader, term := n.others.leader(p.key())
			r := n.others.replica(leader, p.key())
			if leader == 0 || leader == n.id || r == nil || term < g.Membership().Term || !n.peers.Up(leader) || slices.Contains(slices.Concat(r.Voters, r.Leaving, r.Learners), n.id) {
				continue
			}
			n.leave(ctx, t, p, g)
		}
	}
}

// leave deletes a replica. Records that are followed meanwhile may give it to
// this node again: then nothing of it may be open or half deleted.
func (n *Node) leave(ctx context.Context, t *Topic, p *Partition, g *replica.Group) {
	n.followMu.Lock()
	defer n.followMu.Unlock()
	if n.topicByID(t.ID) != t || slices.Contains(n.placed(p), n.id) || !p.group.CompareAndSwap(g, nil) {
		return
	}
	ctx, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	if err := n.sched.Close(ctx, g, true); err != nil {
		slog.Warn("a replica that left could not be deleted", "partition", p.Address(), "error", err)
	}
}

// answerLead gives the leadership of a partition away, as another node asks.
func (n *Node) answerLead(ctx context.Context, _ uint64, p *Partition, reason []byte) ([]byte, error) {
	g := p.Replica()
	if g == nil {
		return nil, errMoved
	}
	_, err := g.HandOver(ctx, n.withRoom(n.placed(p)), string(reason))
	return nil, err
}

// replaceLost has nodes that came back with an empty directory hold what the
// lost one held.
func (n *Node) replaceLost(ctx context.Context) error {
	view := n.catalog.View()
	jobs := map[uint64]*catalog.Job{}
	for channel, places := range view.Placed {
		for _, p := range places {
			for i, id := range p.Replicas {
				lost := view.Nodes[id]
				if lost == nil || lost.State != catalog.NodeReplaced {
					continue
				}
				now := n.byName(lost.Name)
				if now == nil || slices.Contains(p.Replicas, now.ID) {
					continue
				}
				if jobs[id] == nil {
					jobs[id] = &catalog.Job{Kind: "replace", Address: lost.Name, Who: "ferryd", Detail: "its data directory is new: its replicas are copied from the others"}
				}
				after := slices.Clone(p.Replicas)
				after[i] = now.ID
				jobs[id].Steps = append(jobs[id].Steps, catalog.Step{ChannelID: channel, Partition: p.Partition, Before: p.Replicas, After: after})
			}
		}
	}
	for _, job := range jobs {
		if n.refuseBusy(ctx, job.Steps) != nil {
			continue // they are being moved already
		}
		if err := n.catalog.NewJob(ctx, job, &catalog.Entry{Who: "ferryd", Action: "replace node", Address: job.Address, After: map[string]any{"partitions": len(job.Steps)}}, nil); err != nil {
			return err
		}
	}
	return nil
}

// answerCluster has what other nodes ask of leaders and logs answered.
func (n *Node) answerCluster() {
	n.handleAt("lead", n.answerLead)
	answerHeld(n, "digest", n.digest)
	answerHeld(n, "log", func(_ *Partition, g *replica.Group, _ struct{}) (logState, error) { return stateOf(g), nil })
}

// onDutyRun runs what one node of the cluster does at a time.
func (n *Node) onDutyRun(ctx context.Context, duties ...func(context.Context)) {
	n.onDuty.Store(true)
	defer n.onDuty.Store(false)
	var running sync.WaitGroup
	defer running.Wait()
	for _, duty := range duties {
		running.Go(func() { duty(ctx) })
	}
}
