package link

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"

	"golang.org/x/sync/semaphore"
	"google.golang.org/grpc/mem"
)

// What nodes ask each other beside what their groups say: calls, which are
// answered, and casts, which may be lost. They go on the stream Work.

// What a frame of Work begins with.
const (
	workPackets = 1
	workCall    = 2
	workAnswer  = 3
	workRefusal = 4
	workCast    = 5
)

// ErrAway is returned for calls to a node that does not answer.
var ErrAway = errors.New("the node does not answer")

// Refused is an error that another node answered a call with.
type Refused struct{ Text string }

func (r *Refused) Error() string { return r.Text }

// Cast tells a node something; it may be lost.
func (p *Peers) Cast(to uint64, kind string, body []byte) {
	if r := p.node(to); r != nil {
		if s := r.session.Load(); s != nil {
			s.work.offerFrame(workFrame(workCast, 0, kind, body))
		}
	}
}

// Call asks a node something and waits for its answer. After ErrAway it is
// not known whether it was done.
func (p *Peers) Call(ctx context.Context, to uint64, kind string, body []byte) ([]byte, error) {
	r := p.node(to)
	if r == nil {
		return nil, ErrAway
	}
	s := r.session.Load()
	if s == nil {
		return nil, ErrAway
	}
	id := s.lastCall.Add(1)
	ch := make(chan answer, 1)
	s.waitMu.Lock()
	if s.waiting == nil {
		s.waitMu.Unlock()
		return nil, ErrAway
	}
	s.waiting[id] = ch
	s.waitMu.Unlock()
	defer func() {
		s.waitMu.Lock()
		delete(s.waiting, id)
		s.waitMu.Unlock()
	}()
	if !s.work.put(ctx, workFrame(workCall, id, kind, body)) {
		return nil, ErrAway
	}
	select {
	case a := <-ch:
		return a.body, a.err
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

func workFrame(kind byte, id uint64, name string, body []byte) mem.BufferSlice {
	head := binary.AppendUvarint([]byte{kind}, id)
	head = append(binary.AppendUvarint(head, uint64(len(name))), name...)
	return mem.BufferSlice{mem.SliceBuffer(head), mem.SliceBuffer(body)}
}

func (s *session) giveUpCalls() {
	s.waitMu.Lock()
	defer s.waitMu.Unlock()
	for _, ch := range s.waiting {
		select {
		case ch <- answer{err: ErrAway}:
		default:
		}
	}
}

// errBusy is what a call is refused with that finds too many others.
var errBusy = errors.New("the node answers too many calls at once")

// take has a call answered. It never waits: what is read next may be what
// others wait for.
func (p *Peers) take(ctx context.Context, r *remote, s *session, id uint64, name string, body []byte) {
	refuse := func(err error) { s.work.offerFrame(workFrame(workRefusal, id, "", []byte(err.Error()))) }
	if p.taken.Add(1) > callsTaken || p.queued.Load() > callsBytes {
		p.taken.Add(-1)
		refuse(errBusy)
		return
	}
	p.queued.Add(int64(len(body)))
	go func() {
		defer p.taken.Add(-1)
		err := p.calls.Acquire(ctx, 1)
		p.queued.Add(-int64(len(body)))
		if err != nil {
			return
		}
		turn := &turn{p.calls}
		out, err := p.handler.Call(context.WithValue(ctx, turnKey{}, turn), r.ID, name, body)
		p.calls.Release(1)
		if err != nil {
			refuse(err)
			return
		}
		s.work.put(ctx, workFrame(workAnswer, id, "", out))
	}()
}

type turnKey struct{}

// turn is the place of a call among those that are worked on.
type turn struct{ calls *semaphore.Weighted }

// Pause gives up the turn of a call for as long as it waits for something to
// happen, so that those who wait keep nobody from working. Call resume after.
// Outside of calls it does nothing.
func Pause(ctx context.Context) (resume func()) {
	t, ok := ctx.Value(turnKey{}).(*turn)
	if !ok {
		return func() {}
	}
	t.calls.Release(1)
	// The turns are short: it is not long until one is free.
	return func() { t.calls.Acquire(context.WithoutCancel(ctx), 1) }
}

func (p *Peers) readWork(ctx context.Context, r *remote, s *session, st stream) error {
	for {
		var frame []byte
		if err := st.RecvMsg(&frame); err != nil {
			return err
		}
		if len(frame) == 0 {
			return errFrame
		}
		kind, rest := frame[0], frame[1:]
		if kind == workPackets {
			if err := p.handlePackets(r, rest); err != nil {
				return err
			}
			continue
		}
		id, n := binary.Uvarint(rest)
		if n <= 0 {
			return errFrame
		}
		length, m := binary.Uvarint(rest[n:])
		rest = rest[n+max(m, 0):]
		if m <= 0 || length > uint64(len(rest)) {
			return errFrame
		}
		name, body := string(rest[:length]), rest[length:]
		switch kind {
		case workCast:
			p.handler.Cast(r.ID, name, body)
		case workAnswer, workRefusal:
			a := answer{body: body}
			if kind == workRefusal {
				a = answer{err: &Refused{string(body)}}
			}
			s.waitMu.Lock()
			ch := s.waiting[id]
			s.waitMu.Unlock()
			if ch != nil {
				select {
				case ch <- a:
				default: // given up
				}
			}
		case workCall:
			p.take(ctx, r, s, id, name, body)
		default:
			return fmt.Errorf("%w: kind %d", errFrame, kind)
		}
	}
}
