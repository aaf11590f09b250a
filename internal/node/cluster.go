package node

import (
	"context"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"iter"
	"log/slog"
	"net"
	"runtime/metrics"
	"slices"
	"time"

	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/topic"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/peer"
	"steadyferry/internal/engine/replica"
)

// network is the node's way to the other ones.
type network interface {
	replica.Network
	Cast(to uint64, kind string, body []byte)
	Call(ctx context.Context, to uint64, kind string, body []byte) ([]byte, error)
	SetNodes(nodes []replica.Remote)
	Close()
}

// noOthers is the network of a node that takes no connections of others.
type noOthers struct{ replica.Alone }

func (noOthers) Cast(uint64, string, []byte) {}
func (noOthers) Call(context.Context, uint64, string, []byte) ([]byte, error) {
	return nil, replica.ErrAway
}
func (noOthers) SetNodes([]replica.Remote) {}
func (noOthers) Close()                    {}

// groupNetwork is the network as the groups see it: they are opened before
// the node is connected.
type groupNetwork struct{ n *Node }

func (g groupNetwork) Send(to uint64, p replica.Packet) { g.n.peers.Send(to, p) }
func (g groupNetwork) SendBulk(ctx context.Context, to uint64, p replica.Packet) {
	g.n.peers.SendBulk(ctx, to, p)
}
func (g groupNetwork) Up(id uint64) bool { return g.n.peers.Up(id) }

// connectPeers begins to talk to the other nodes.
func (n *Node) connectPeers() {
	if n.listener == nil {
		n.peers = noOthers{}
		return
	}
	p := replica.NewPeers(replica.PeersConfig{Self: n.id, Secret: n.catalog.View().Cluster.Secret, TLS: n.tls}, (*fromPeers)(n))
	n.peers = p
	n.wg.Go(func() {
		if err := p.Serve(n.listener); err != nil && !errors.Is(err, net.ErrClosed) && n.serving.Load() {
			slog.Error("other nodes cannot connect any more", "error", err)
		}
	})
}

// followNodes tells the network which nodes the records have.
func (n *Node) followNodes(view *catalog.View) {
	var remotes []replica.Remote
	for _, r := range view.Nodes {
		if r.ID != n.id && r.Peer != "" && (r.State == catalog.NodeMember || r.State == catalog.NodeDraining) {
			remotes = append(remotes, replica.Remote{ID: r.ID, Name: r.Name, Addr: r.Peer})
		}
	}
	n.peers.SetNodes(remotes)
}

// otherNodes returns the ids of the other members.
func (n *Node) otherNodes() (ids []uint64) {
	for id, r := range n.catalog.View().Nodes {
		if id != n.id && (r.State == catalog.NodeMember || r.State == catalog.NodeDraining) {
			ids = append(ids, id)
		}
	}
	slices.Sort(ids)
	return ids
}

// NodeName returns the name of a node; it is that of a removed one too.
func (n *Node) NodeName(id uint64) string {
	if r := n.catalog.View().Nodes[id]; r != nil {
		if r.State == catalog.NodeReplaced {
			return r.Name + " (lost directory)"
		}
		return r.Name
	}
	if id == 0 {
		return ""
	}
	return fmt.Sprintf("node %d", id)
}

// fromPeers is the node as the network sees it.
type fromPeers Node

func (f *fromPeers) Packet(from uint64, p replica.Packet) { f.sched.Receive(from, p) }

func (f *fromPeers) Cast(from uint64, kind string, body []byte) { f.calls.Cast(from, kind, body) }

// heardReport takes what another node reports of itself.
func (n *Node) heardReport(from uint64, body []byte) {
	for _, r := range n.others.take(from, body) {
		if p := n.partition(r.Key); p != nil {
			if g := p.Replica(); g != nil {
				g.Heard(r.Member)
			}
		}
	}
	n.changes.broadcast()
}

// tellAll tells a node all about this one soon.
func (f *fromPeers) tellAll(id uint64) {
	f.others.mu.Lock()
	f.others.wholeTo = append(f.others.wholeTo, id)
	f.others.mu.Unlock()
	f.others.tellSoon()
}

func (f *fromPeers) NodeUp(id uint64) {
	f.upSince.Store(id, time.Now())
	f.tellAll(id)
	f.peers.Cast(id, "tell", nil)
	f.sched.NodeUp(id)
	(*Node)(f).changes.broadcast()
}

func (f *fromPeers) NodeDown(id uint64, ended bool) {
	f.upSince.Delete(id)
	f.sched.NodeDown(id, ended)
	(*Node)(f).changes.broadcast()
}

// answerPartitions has calls about what this node holds answered.
func (n *Node) answerPartitions() {
	n.calls.Hear("tell", func(from uint64, _ []byte) { (*fromPeers)(n).tellAll(from) })
	n.calls.Hear("report", n.heardReport)
	peer.Answer(&n.calls, "series", n.answerSeries)
	n.handleAt("publish", n.answerPublish)
	for _, kind := range []string{"place", "wait", "records"} {
		n.handleAt(kind, func(ctx context.Context, _ uint64, p *Partition, rest []byte) ([]byte, error) {
			return n.answerRead(ctx, kind, p, rest)
		})
	}
	n.handleAt("raw", n.answerRaw)
	n.handleAt("committed", n.answerCommitted)
	answerHeld(n, "segments", func(_ *Partition, g *replica.Group, r topic.Retention) (loss, error) {
		return lossOf(g.Journal(), r), nil
	})
}

// answerHeld has a question about a partition, as JSON, answered where the node
// holds a replica of it.
func answerHeld[Q, A any](n *Node, kind string, f func(p *Partition, g *replica.Group, question Q) (A, error)) {
	n.handleAt(kind, func(_ context.Context, _ uint64, p *Partition, rest []byte) ([]byte, error) {
		g := p.Replica()
		if g == nil {
			return nil, errMoved
		}
		var q Q
		if len(rest) > 0 {
			if err := json.Unmarshal(rest, &q); err != nil {
				return nil, fmt.Errorf("%w: %s: %v", peer.ErrCall, kind, err)
			}
		}
		a, err := f(p, g, q)
		if err != nil {
			return nil, err
		}
		return json.Marshal(a)
	})
}

// answerCommitted tells the leader's last committed record.
func (n *Node) answerCommitted(_ context.Context, _ uint64, p *Partition, _ []byte) ([]byte, error) {
	g := p.Replica()
	if g == nil || !g.Membership().Leading {
		return nil, replica.ErrNotLeading
	}
	return binary.LittleEndian.AppendUint64(nil, g.Committed()), nil
}

// handleAt has calls that begin with the key of a partition answered by f.
func (n *Node) handleAt(kind string, f func(ctx context.Context, from uint64, p *Partition, rest []byte) ([]byte, error)) {
	n.calls.Handle(kind, func(ctx context.Context, from uint64, body []byte) ([]byte, error) {
		key, rest, ok := keyOf(body)
		if !ok {
			return nil, peer.ErrCall
		}
		p := n.partition(key)
		if p == nil {
			return nil, fmt.Errorf("partition %s is not known here yet", key)
		}
		return f(ctx, from, p, rest)
	})
}

// Call answers what another node asks.
func (f *fromPeers) Call(ctx context.Context, from uint64, kind string, body []byte) ([]byte, error) {
	return f.calls.Call(ctx, from, kind, body)
}

// call asks another node and explains why it has no answer.
func (n *Node) call(ctx context.Context, to uint64, kind string, body []byte) ([]byte, error) {
	out, err := n.peers.Call(ctx, to, kind, body)
	if errors.Is(err, replica.ErrAway) || errors.As(err, new(*replica.Refused)) {
		return nil, problem.New(problem.Unavailable, "%s: %v", n.NodeName(to), err).Next("try again in a moment")
	}
	return out, err
}

func (p *Partition) key() replica.Key {
	return replica.Key{Channel: p.topic.ID, Partition: p.Number}
}

func (n *Node) partition(key replica.Key) *Partition {
	n.mu.RLock()
	t := n.topics[key.Channel]
	n.mu.RUnlock()
	if t == nil {
		return nil
	}
	partitions := t.Partitions()
	if key.Partition >= len(partitions) {
		return nil
	}
	return partitions[key.Partition]
}

// leaderOf returns the node that leads a partition, as far as it is known
// here, or 0.
func (n *Node) leaderOf(p *Partition) uint64 {
	reported, term := n.others.leader(p.key())
	g := p.Replica()
	if g == nil {
		return reported
	}
	m := g.Membership()
	if m.Leading && g.Refusal() == nil {
		return n.id
	}
	if m.Lead != 0 && m.Lead != n.id && m.Term >= term {
		return m.Lead
	}
	if reported == n.id {
		return 0
	}
	return reported
}

// holders goes through the other nodes that have reported a replica of a
// partition and answer.
func (n *Node) holders(p *Partition) iter.Seq[uint64] {
	key := p.key()
	return func(yield func(uint64) bool) {
		for _, id := range n.otherNodes() {
			if n.peers.Up(id) && n.others.replica(id, key) != nil && !yield(id) {
				return
			}
		}
	}
}

// MemoryUsed returns the bytes that the process holds, without what it has
// given back.
func MemoryUsed() int64 {
	samples := []metrics.Sample{{Name: "/memory/classes/total:bytes"}, {Name: "/memory/classes/heap/released:bytes"}}
	metrics.Read(samples)
	return int64(samples[0].Value.Uint64() - samples[1].Value.Uint64())
}
