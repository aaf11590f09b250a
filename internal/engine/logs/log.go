// Package logs reads a partition's log, wherever it lies: from the replica of this
// node if that has all, or else from another node. What is read there is the same,
// also where it is damaged or gone. It may be used at once by many.
package logs

import (
	"context"
	"encoding/binary"
	"encoding/json"
	"errors"
	"slices"
	"time"

	"steadyferry/internal/core/journal"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/engine/link"
	"steadyferry/internal/engine/part"
	"steadyferry/internal/engine/replica"
)

// Log is a partition's log to read from: the replica of this node, or that of
// another one.
type Log interface {
	First() int64
	End() int64 // offset after the last committed message
	OffsetAt(time int64) (int64, error)
	BlockBefore(offset int64) (int64, error)
	Reader(offset int64) Reader
	// Wait waits until there is something behind the offset, at most for the
	// time.
	Wait(ctx context.Context, offset int64, most time.Duration) error
	// Here returns the replica of this node that is read from, nil for a log
	// that lies elsewhere.
	Here() *replica.Group
	// Again returns the same log, to be waited at by another goroutine.
	Again(ctx context.Context) Log
}

// Reader goes forward through the committed records of a log, as
// journal.Cursor does.
type Reader interface {
	Read(dst []byte) ([]byte, error)
	Offset() int64
}

// Open finds the log to read a partition from. It holds all that was
// committed when it is called; with any, it may be a replica that has not
// all of it, or does not know whether it has.
func Open(ctx context.Context, reg *part.Registry, p *part.Partition, any bool) (Log, error) {
	g := p.Replica()
	if g != nil && (any && slices.Contains(reg.Placed(p), reg.ID()) || g.Refusal() == nil || g.Membership().Leading) {
		return localLog{g, reg, p}, nil
	}
	leader := reg.LeaderOf(p)
	if leader != 0 && leader != reg.ID() && reg.Peers().Up(leader) {
		if g != nil {
			if err := catchUp(ctx, reg, g, leader); err == nil {
				return localLog{g, reg, p}, nil
			}
		}
		return openRemote(ctx, reg, p, leader)
	}
	if any {
		for id := range reg.Holders(p) {
			if l, err := openRemote(ctx, reg, p, id); err == nil {
				return l, nil
			}
		}
		return nil, problem.New(problem.Unavailable, "%s: none of its replicas answers", p.Address()).Next("ferry nodes tells which nodes are away")
	}
	return nil, problem.New(problem.Unavailable, "%s has no leader now", p.Address()).Next("try again in a moment; what is known to be kept can be read from any replica with -any-replica (any=true)")
}

// catchUpTime is how long a reader waits for the replica here to have what
// the leader has, before it reads from the leader itself.
const catchUpTime = time.Second

// catchUp waits until the replica here has all that the leader has committed.
func catchUp(ctx context.Context, reg *part.Registry, g *replica.Group, leader uint64) error {
	ctx, cancel := context.WithTimeout(ctx, catchUpTime)
	defer cancel()
	out, err := reg.Peers().Call(ctx, leader, "committed", part.KeyBytes(g.Key()))
	if err != nil || len(out) != 8 {
		return errors.Join(err, link.ErrAway)
	}
	want := binary.LittleEndian.Uint64(out)
	if g.Committed() >= want {
		return nil
	}
	signal := make(chan struct{}, 1)
	defer g.Watch(signal)()
	for g.Committed() < want {
		select {
		case <-signal:
		case <-ctx.Done():
			return ctx.Err()
		}
	}
	return nil
}

// localLog is the replica of this node.
type localLog struct {
	g   *replica.Group
	reg *part.Registry
	p   *part.Partition
}

func (l localLog) Here() *replica.Group { return l.g }

func (l localLog) Again(context.Context) Log { return l }

func (l localLog) First() int64 { return l.g.Journal().Bounds().First }

func (l localLog) End() int64 { return max(l.g.End(), l.First()) }

func (l localLog) OffsetAt(time int64) (int64, error) {
	offset, err := l.g.Journal().OffsetAt(time)
	return min(offset, l.End()), err
}

func (l localLog) BlockBefore(offset int64) (int64, error) {
	return l.g.Journal().BlockBefore(offset), nil
}

func (l localLog) Reader(offset int64) Reader {
	return &localReader{l: l, Cursor: l.g.Journal().CursorAt(offset)}
}

type localReader struct {
	l localLog
	*journal.Cursor
}

// Read reads as the cursor does. What it finds damaged is fetched again from
// another replica, if there is one, and read then.
func (r *localReader) Read(dst []byte) ([]byte, error) {
	chunk, err := r.Cursor.Read(dst, r.l.g.Committed())
	var damage *journal.Damage
	if !errors.As(err, &damage) || r.l.p.Alone() {
		return chunk, err
	}
	select {
	case <-r.l.reg.WantRepair(r.l.p):
	case <-time.After(repairPatience):
		return chunk, err
	}
	r.Cursor = r.l.g.Journal().CursorAt(damage.From)
	return r.Cursor.Read(dst, r.l.g.Committed())
}

// repairPatience is how long a reader waits for what it found damaged.
const repairPatience = 3 * time.Second

func (l localLog) Wait(ctx context.Context, offset int64, most time.Duration) error {
	if l.g.End() > offset {
		return nil
	}
	defer link.Pause(ctx)()
	signal := make(chan struct{}, 1)
	defer l.g.Watch(signal)()
	deadline := time.NewTimer(most)
	defer deadline.Stop()
	for l.g.End() <= offset {
		select {
		case <-signal:
		case <-deadline.C:
			return nil
		case <-ctx.Done():
			return ctx.Err()
		case <-l.g.Done():
			return part.ErrMoved
		}
	}
	return nil
}

// remoteLog is the replica of another node.
type remoteLog struct {
	ctx    context.Context
	reg    *part.Registry
	node   uint64
	key    replica.Key
	bounds remoteBounds
}

// remoteBounds is the answer to where a log begins and ends, and to what a
// place in it is.
type remoteBounds struct {
	First  int64 `json:"first"`
	End    int64 `json:"end"`
	Offset int64 `json:"offset"`
}

// remoteAsk asks for a place in a log.
type remoteAsk struct {
	Time   *int64        `json:"time,omitempty"`   // offset at it
	Before *int64        `json:"before,omitempty"` // a block before it
	From   int64         `json:"from"`             // records from it on
	Most   int           `json:"most"`             // bytes
	Wait   time.Duration `json:"wait"`
}

func openRemote(ctx context.Context, reg *part.Registry, p *part.Partition, node uint64) (Log, error) {
	l := &remoteLog{ctx: ctx, reg: reg, node: node, key: p.Key()}
	return l, l.ask("place", remoteAsk{})
}

func (l *remoteLog) ask(kind string, ask remoteAsk) error {
	body, err := json.Marshal(ask)
	if err != nil {
		return err
	}
	out, err := l.reg.Call(l.ctx, l.node, kind, append(part.KeyBytes(l.key), body...))
	if err != nil {
		return err
	}
	return json.Unmarshal(out, &l.bounds)
}

func (l *remoteLog) Here() *replica.Group { return nil }

func (l *remoteLog) Again(ctx context.Context) Log {
	return &remoteLog{ctx: ctx, reg: l.reg, node: l.node, key: l.key}
}

func (l *remoteLog) First() int64 { return l.bounds.First }

func (l *remoteLog) End() int64 { return l.bounds.End }

func (l *remoteLog) OffsetAt(time int64) (int64, error) {
	err := l.ask("place", remoteAsk{Time: &time})
	return min(l.bounds.Offset, l.bounds.End), err
}

func (l *remoteLog) BlockBefore(offset int64) (int64, error) {
	err := l.ask("place", remoteAsk{Before: &offset})
	return l.bounds.Offset, err
}

func (l *remoteLog) Reader(offset int64) Reader { return &remoteReader{l: l, next: offset} }

func (l *remoteLog) Wait(ctx context.Context, offset int64, most time.Duration) error {
	for deadline := time.Now().Add(most); l.bounds.End <= offset && time.Until(deadline) > 0; {
		if err := l.ask("wait", remoteAsk{From: offset, Wait: min(time.Until(deadline), 20*time.Second)}); err != nil {
			return err
		}
		if ctx.Err() != nil {
			return ctx.Err()
		}
	}
	return nil
}

type remoteReader struct {
	l    *remoteLog
	next int64
}

func (r *remoteReader) Offset() int64 { return r.next }

// remoteChunk is the head of an answer with records, which follow it.
type remoteChunk struct {
	remoteBounds
	Next   int64           `json:"next"`
	Gone   *journal.Gone   `json:"gone,omitempty"`
	Damage *journal.Damage `json:"damage,omitempty"`
}

func (r *remoteReader) Read(dst []byte) ([]byte, error) {
	body, err := json.Marshal(remoteAsk{From: r.next, Most: len(dst)})
	if err != nil {
		return nil, err
	}
	out, err := r.l.reg.Call(r.l.ctx, r.l.node, "records", append(part.KeyBytes(r.l.key), body...))
	if err != nil {
		return nil, err
	}
	if len(out) < 4 || int(binary.LittleEndian.Uint32(out)) > len(out)-4 {
		return nil, errors.New("the answer of another node is cut off")
	}
	head, records := out[4:4+binary.LittleEndian.Uint32(out)], out[4+binary.LittleEndian.Uint32(out):]
	var chunk remoteChunk
	if err := json.Unmarshal(head, &chunk); err != nil {
		return nil, err
	}
	r.l.bounds, r.next = chunk.remoteBounds, chunk.Next
	switch {
	case chunk.Gone != nil:
		return nil, chunk.Gone
	case chunk.Damage != nil:
		return nil, chunk.Damage
	}
	return records, nil
}

// mostRemote bounds what one call reads for another node.
const mostRemote = 16 << 20

// Answer has calls of other nodes that read logs here answered.
func Answer(reg *part.Registry) {
	for _, kind := range []string{"place", "wait", "records"} {
		reg.HandleAt(kind, func(ctx context.Context, _ uint64, p *part.Partition, rest []byte) ([]byte, error) {
			return answerRead(ctx, reg, kind, p, rest)
		})
	}
	reg.HandleAt("committed", answerCommitted)
}

// answerCommitted tells the leader's last committed record.
func answerCommitted(_ context.Context, _ uint64, p *part.Partition, _ []byte) ([]byte, error) {
	g := p.Replica()
	if g == nil || !g.Membership().Leading {
		return nil, replica.ErrNotLeading
	}
	return binary.LittleEndian.AppendUint64(nil, g.Committed()), nil
}

// answerRead answers another node that reads a log here.
func answerRead(ctx context.Context, reg *part.Registry, kind string, p *part.Partition, body []byte) ([]byte, error) {
	g := p.Replica()
	if g == nil {
		return nil, part.ErrMoved
	}
	var ask remoteAsk
	if err := json.Unmarshal(body, &ask); err != nil {
		return nil, err
	}
	l := localLog{g, reg, p}
	var err error
	switch kind {
	case "wait":
		if err = l.Wait(ctx, ask.From, min(ask.Wait, 20*time.Second)); err != nil {
			return nil, err
		}
	case "records":
		return l.chunk(ask)
	}
	b := remoteBounds{First: l.First(), End: l.End()}
	if ask.Time != nil {
		b.Offset, err = l.OffsetAt(*ask.Time)
	} else if ask.Before != nil {
		b.Offset, err = l.BlockBefore(*ask.Before)
	}
	if err != nil {
		return nil, err
	}
	return json.Marshal(b)
}

func (l localLog) chunk(ask remoteAsk) ([]byte, error) {
	r := l.Reader(ask.From)
	records, err := r.Read(make([]byte, min(max(ask.Most, 4096), mostRemote)))
	chunk := remoteChunk{remoteBounds: remoteBounds{First: l.First(), End: l.End()}, Next: r.Offset()}
	if err != nil && !errors.As(err, &chunk.Gone) && !errors.As(err, &chunk.Damage) {
		return nil, err
	}
	head, err := json.Marshal(chunk)
	if err != nil {
		return nil, err
	}
	out := binary.LittleEndian.AppendUint32(make([]byte, 0, 4+len(head)+len(records)), uint32(len(head)))
	return append(append(out, head...), records...), nil
}
