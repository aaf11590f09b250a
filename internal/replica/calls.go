package replica

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"

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
			if err := p.calls.Acquire(ctx, 1); err != nil {
				return err
			}
			go func() {
				defer p.calls.Release(1)
				out, err := p.handler.Call(ctx, r.ID, name, body)
				kind := byte(workAnswer)
				if err != nil {
					kind, out = workRefusal, []byte(err.Error())
				}
				s.work.put(ctx, workFrame(kind, id, "", out))
			}()
		default:
			return fmt.Errorf("%w: kind %d", errFrame, kind)
		}
	}
}
