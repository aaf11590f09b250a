package part

import (
	"context"
	"encoding/binary"
	"slices"
	"time"

	"steadyferry/internal/core/access"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/link"
	"steadyferry/internal/engine/peer"
	"steadyferry/internal/engine/replica"
)

// Network is the node's way to the other ones.
type Network interface {
	replica.Network
	Cast(to uint64, kind string, body []byte)
	Call(ctx context.Context, to uint64, kind string, body []byte) ([]byte, error)
	SetNodes(nodes []link.Remote)
	Close()
}

// carrying is a network whose calls tell who asks.
type carrying struct{ Network }

func (n carrying) Call(ctx context.Context, to uint64, kind string, body []byte) ([]byte, error) {
	pass := access.PassIn(ctx)
	head := binary.AppendUvarint(make([]byte, 0, len(pass)+len(body)+4), uint64(len(pass)))
	return n.Network.Call(ctx, to, kind, append(append(head, pass...), body...))
}

// noOthers is the network of a node that takes no connections of others.
type noOthers struct{ replica.Alone }

func (noOthers) Cast(uint64, string, []byte) {}

func (noOthers) Call(context.Context, uint64, string, []byte) ([]byte, error) {
	return nil, link.ErrAway
}

func (noOthers) SetNodes([]link.Remote) {}

func (noOthers) Close() {}

// followNodes tells the network which nodes the records have.
func (reg *Registry) followNodes(view *catalog.View) {
	var remotes []link.Remote
	for _, r := range view.Nodes {
		if r.ID != reg.id && r.Peer != "" && (r.State == catalog.NodeMember || r.State == catalog.NodeDraining) {
			remotes = append(remotes, link.Remote{ID: r.ID, Name: r.Name, Addr: r.Peer})
		}
	}
	reg.peers.SetNodes(remotes)
}

// OtherNodes returns the ids of the other members.
func (reg *Registry) OtherNodes() (ids []uint64) {
	for id, r := range reg.catalog.View().Nodes {
		if id != reg.id && (r.State == catalog.NodeMember || r.State == catalog.NodeDraining) {
			ids = append(ids, id)
		}
	}
	slices.Sort(ids)
	return ids
}

// fromPeers is the node as the network sees it.
type fromPeers Registry

func (f *fromPeers) Packet(from uint64, p link.Packet) { f.sched.Receive(from, p) }

func (f *fromPeers) Cast(from uint64, kind string, body []byte) { f.Calls.Cast(from, kind, body) }

// heardReport takes what another node reports of itself.
func (reg *Registry) heardReport(from uint64, body []byte) {
	for _, r := range reg.reports.Take(from, body) {
		if p := reg.At(r.Key); p != nil {
			if g := p.Replica(); g != nil {
				g.Heard(r.Member)
			}
		}
	}
	reg.changes.Broadcast()
}

// tellAll tells a node all about this one soon.
func (f *fromPeers) tellAll(id uint64) {
	f.reports.Met(id)
}

func (f *fromPeers) NodeUp(id uint64) {
	f.upSince.Store(id, time.Now())
	f.tellAll(id)
	f.peers.Cast(id, "tell", nil)
	f.sched.NodeUp(id)
	(*Registry)(f).changes.Broadcast()
}

func (f *fromPeers) NodeDown(id uint64, ended bool) {
	f.upSince.Delete(id)
	f.sched.NodeDown(id, ended)
	(*Registry)(f).changes.Broadcast()
}

// Call answers what another node asks, in the name of who asked that one.
func (f *fromPeers) Call(ctx context.Context, from uint64, kind string, body []byte) ([]byte, error) {
	passed := f.passed.Load()
	size, n := binary.Uvarint(body)
	if passed == nil || n <= 0 || size > uint64(len(body)-n) {
		return nil, peer.ErrCall
	}
	return f.Calls.Call((*passed)(ctx, string(body[n:n+int(size)])), from, kind, body[n+int(size):])
}

// WithRoom returns those of the other nodes whose disks are not full.
func (reg *Registry) WithRoom(ids []uint64) (out []uint64) {
	for _, id := range ids {
		if about, at, _ := reg.reports.About(id); id != reg.id && !at.IsZero() && !about.Disk.Full {
			out = append(out, id)
		}
	}
	return out
}

// UpFor returns for how long another node has answered, 0 when it does not.
func (reg *Registry) UpFor(id uint64, now time.Time) time.Duration {
	since, ok := reg.upSince.Load(id)
	if !ok || !reg.peers.Up(id) {
		return 0
	}
	return now.Sub(since.(time.Time))
}

// HasToldAll reports whether what is known of another node is current.
func (reg *Registry) HasToldAll(id uint64) bool {
	wholeAt, heard := reg.reports.Heard(id)
	return heard && reg.current(id, wholeAt)
}
