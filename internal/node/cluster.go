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
	"strconv"
	"time"

	"steadyferry/internal/core/problem"
	"steadyferry/internal/engine/catalog"
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
	if n.config.PeerListener == nil {
		n.peers = noOthers{}
		return
	}
	p := replica.NewPeers(replica.PeersConfig{Self: n.id, Secret: n.catalog.View().Cluster.Secret, TLS: n.config.PeerTLS}, (*fromPeers)(n))
	n.peers = p
	n.wg.Go(func() {
		if err := p.Serve(n.config.PeerListener); err != nil && !errors.Is(err, net.ErrClosed) && n.serving.Load() {
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

func (f *fromPeers) Cast(from uint64, kind string, body []byte) {
	if kind == "tell" {
		f.tellAll(from)
	}
	if kind == "report" {
		n := (*Node)(f)
		for _, r := range f.others.take(from, body) {
			if p := n.partition(r.Key); p != nil {
				if g := p.group.Load(); g != nil {
					g.Heard(r.Member)
				}
			}
		}
		n.changes.broadcast()
	}
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

// errCall is what a call that cannot be read is answered with.
var errCall = errors.New("the call of another node cannot be read")

// Call answers what another node asks.
func (f *fromPeers) Call(ctx context.Context, from uint64, kind string, body []byte) ([]byte, error) {
	n := (*Node)(f)
	switch kind {
	case "series":
		return n.answerSeries(body)
	case "group":
		return n.answerGroup(ctx, body)
	case "aside":
		return n.answerAside()
	case "label", "throw-away":
		id, err := strconv.ParseInt(string(body), 10, 64)
		if err != nil {
			return nil, errCall
		}
		if kind == "label" {
			return n.answerLabel(id)
		}
		return n.answerThrowAway(id)
	}
	key, rest, ok := keyOf(body)
	if !ok {
		return nil, errCall
	}
	p := n.partition(key)
	if p == nil {
		return nil, fmt.Errorf("partition %s is not known here yet", key)
	}
	switch kind {
	case "await":
		return n.answerAwait(ctx, p.topic, rest)
	case "publish":
		return n.answerPublish(ctx, from, p, rest), nil
	case "work":
		return n.answerWork(ctx, p, rest), nil
	case "queue":
		return n.answerAsk(ctx, p, rest)
	case "committed":
		g := p.group.Load()
		if g == nil || !g.Membership().Leading {
			return nil, replica.ErrNotLeading
		}
		return binary.LittleEndian.AppendUint64(nil, g.Committed()), nil
	case "place", "wait", "records":
		return n.answerRead(ctx, kind, p, rest)
	case "lead":
		return n.answerLead(ctx, p, rest)
	case "digest":
		return n.answerDigest(p, rest)
	case "log":
		return n.answerLog(p)
	case "raw":
		return n.answerRaw(p, rest)
	case "segments":
		return n.answerSegments(p, rest)
	}
	return nil, fmt.Errorf("%w: %q", errCall, kind)
}

// call asks another node and explains why it has no answer.
func (n *Node) call(ctx context.Context, to uint64, kind string, body []byte) ([]byte, error) {
	out, err := n.peers.Call(ctx, to, kind, body)
	if errors.Is(err, replica.ErrAway) || errors.As(err, new(*replica.Refused)) {
		return nil, problem.New(problem.Unavailable, "%s: %v", n.NodeName(to), err).Next("try again in a moment")
	}
	return out, err
}

// callEach asks all other nodes that answer the same thing, at once.
func callEach[T any](ctx context.Context, n *Node, ids []uint64, kind string, body []byte) map[uint64]T {
	ctx, cancel := context.WithTimeout(ctx, 2*time.Second)
	defer cancel()
	type reply struct {
		id    uint64
		value T
		err   error
	}
	replies := make(chan reply, len(ids))
	asked := 0
	for _, id := range ids {
		if !n.peers.Up(id) {
			continue
		}
		asked++
		go func() {
			r := reply{id: id}
			var out []byte
			if out, r.err = n.peers.Call(ctx, id, kind, body); r.err == nil {
				r.err = json.Unmarshal(out, &r.value)
			}
			replies <- r
		}()
	}
	answers := map[uint64]T{}
	for range asked {
		if r := <-replies; r.err == nil {
			answers[r.id] = r.value
		}
	}
	return answers
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
	g := p.group.Load()
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
