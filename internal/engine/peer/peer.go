// Package peer is how nodes ask each other. A kind of call is registered with
// the function that answers it, and asked by its name; the answer to a call
// that changes something says whether it was done, so that who asks knows
// whether it may try again. What carries the calls is a Network.
package peer

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"
)

// Network carries calls to other nodes.
type Network interface {
	// Call asks a node, and returns what its handler does. It returns
	// link.ErrAway when the node does not answer, and *link.Refused when
	// its handler failed.
	Call(ctx context.Context, to uint64, kind string, body []byte) ([]byte, error)
	Up(id uint64) bool
}

// ErrCall is what a call that cannot be read is answered with.
var ErrCall = errors.New("the call of another node cannot be read")

// Handler answers calls of other nodes. It may take its time.
type Handler func(ctx context.Context, from uint64, body []byte) ([]byte, error)

// Handlers answer other nodes. All are registered before the first call comes.
type Handlers struct {
	calls map[string]Handler
	words map[string]func(from uint64, body []byte)
}

// Handle has calls of a kind answered by h. A kind is registered once.
func (a *Handlers) Handle(kind string, h Handler) {
	if a.calls == nil {
		a.calls = map[string]Handler{}
	}
	if a.calls[kind] != nil {
		panic("peer: two handlers for " + kind)
	}
	a.calls[kind] = h
}

// Hear has words of a kind, which are not answered and may be lost, told to f.
// It must not block.
func (a *Handlers) Hear(kind string, f func(from uint64, body []byte)) {
	if a.words == nil {
		a.words = map[string]func(uint64, []byte){}
	}
	if a.words[kind] != nil {
		panic("peer: two listeners to " + kind)
	}
	a.words[kind] = f
}

// Call answers a call, one of an unknown kind with ErrCall.
func (a *Handlers) Call(ctx context.Context, from uint64, kind string, body []byte) ([]byte, error) {
	if h := a.calls[kind]; h != nil {
		return h(ctx, from, body)
	}
	return nil, fmt.Errorf("%w: %q", ErrCall, kind)
}

// Cast takes a word; one of an unknown kind is of a newer version.
func (a *Handlers) Cast(from uint64, kind string, body []byte) {
	if f := a.words[kind]; f != nil {
		f(from, body)
	}
}

// Answer registers a function from a question to an answer, both as JSON.
func Answer[Q, A any](to *Handlers, kind string, f func(ctx context.Context, from uint64, question Q) (A, error)) {
	to.Handle(kind, func(ctx context.Context, from uint64, body []byte) ([]byte, error) {
		var q Q
		if err := json.Unmarshal(body, &q); err != nil {
			return nil, fmt.Errorf("%w: %s: %v", ErrCall, kind, err)
		}
		a, err := f(ctx, from, q)
		if err != nil {
			return nil, err
		}
		return json.Marshal(a)
	})
}

// Raw is a question that goes as it is, instead of as JSON.
type Raw []byte

// Ask asks a node a question whose answer is JSON.
func Ask[A any](ctx context.Context, over Network, to uint64, kind string, question any) (answer A, err error) {
	body, isRaw := question.(Raw)
	if !isRaw {
		if body, err = json.Marshal(question); err != nil {
			return answer, err
		}
	}
	out, err := over.Call(ctx, to, kind, body)
	if err != nil {
		return answer, err
	}
	return answer, json.Unmarshal(out, &answer)
}

// EachTime is how long AskEach waits for the slowest node.
const EachTime = 2 * time.Second

// AskEach asks all those nodes that answer the same question at once, and
// returns the answers that came in time.
func AskEach[A any](ctx context.Context, over Network, ids []uint64, kind string, question any) map[uint64]A {
	ctx, cancel := context.WithTimeout(ctx, EachTime)
	defer cancel()
	type reply struct {
		id     uint64
		answer A
		err    error
	}
	replies := make(chan reply, len(ids))
	asked := 0
	for _, id := range ids {
		if !over.Up(id) {
			continue
		}
		asked++
		go func() {
			r := reply{id: id}
			r.answer, r.err = Ask[A](ctx, over, id, kind, question)
			replies <- r
		}()
	}
	answers := map[uint64]A{}
	for range asked {
		if r := <-replies; r.err == nil {
			answers[r.id] = r.answer
		}
	}
	return answers
}
