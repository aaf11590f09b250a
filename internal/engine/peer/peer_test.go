package peer

import (
	"context"
	"errors"
	"fmt"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/problem"
	"steadyferry/internal/engine/link"
	"steadyferry/internal/engine/replica"
)

// nodes is a network whose nodes answer with handlers; nil is a node that is
// away.
type nodes map[uint64]*Handlers

func (n nodes) Up(id uint64) bool { return n[id] != nil }

func (n nodes) Call(ctx context.Context, to uint64, kind string, body []byte) ([]byte, error) {
	if n[to] == nil {
		return nil, link.ErrAway
	}
	out, err := n[to].Call(ctx, 1, kind, body)
	if err != nil {
		return nil, &link.Refused{Text: err.Error()}
	}
	return out, nil
}

type question struct{ Channel int64 }

func depth(answer func(ctx context.Context, from uint64, q question) (int, error)) *Handlers {
	h := &Handlers{}
	Answer(h, "depth", answer)
	return h
}

func TestAskEachTakesWhatComesInTime(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		net := nodes{
			2: depth(func(ctx context.Context, from uint64, q question) (int, error) { return int(q.Channel) * 10, nil }),
			3: nil,
			4: depth(func(ctx context.Context, from uint64, q question) (int, error) {
				<-ctx.Done() // it takes too long
				return 0, ctx.Err()
			}),
			5: depth(func(ctx context.Context, from uint64, q question) (int, error) {
				return 0, errors.New("it has no such channel")
			}),
			6: {},
		}
		began := time.Now()
		assert.Equal(t, map[uint64]int{2: 70}, AskEach[int](t.Context(), net, []uint64{2, 3, 4, 5, 6}, "depth", question{7}))
		assert.Equal(t, EachTime, time.Since(began))
		_, err := Ask[int](t.Context(), net, 6, "depth", question{7})
		assert.ErrorContains(t, err, `cannot be read: "depth"`)
		_, err = Ask[int](t.Context(), net, 3, "depth", question{7})
		assert.ErrorIs(t, err, link.ErrAway)
		_, err = net[2].Call(t.Context(), 1, "depth", []byte("{"))
		assert.ErrorIs(t, err, ErrCall)
	})
}

func TestAKindIsRegisteredOnce(t *testing.T) {
	h := depth(nil)
	assert.Panics(t, func() { h.Handle("depth", nil) })
	var heard []byte
	h.Hear("report", func(from uint64, body []byte) { heard = body })
	assert.Panics(t, func() { h.Hear("report", func(uint64, []byte) {}) })
	h.Cast(2, "of a newer version", nil)
	h.Cast(2, "report", []byte("x"))
	assert.Equal(t, "x", string(heard))
}

// TestAnOutcomeIsTheSameOnTheOtherNode sends each outcome through its form on
// the wire, and adds what the network itself may say.
func TestAnOutcomeIsTheSameOnTheOtherNode(t *testing.T) {
	body, err := Outcome(Done([]byte("kept")), nil)
	require.NoError(t, err)
	assert.Equal(t, "kept", string(body))

	for _, sure := range []bool{true, false} {
		for _, reason := range reasons {
			_, err := Outcome(Undone(fmt.Errorf("on the way: %w", &NotDone{reason, sure}), ""), nil)
			var got *NotDone
			require.ErrorAs(t, err, &got)
			assert.Equal(t, NotDone{reason, sure}, *got)
		}
		_, err := Outcome(Undone(&NotDone{context.Canceled, sure}, ""), nil)
		var got *NotDone
		require.ErrorAs(t, err, &got)
		assert.Equal(t, NotDone{replica.ErrNotLeading, sure}, *got, "a reason of that node alone")
	}

	known := problem.New(problem.Conflict, "sequence 4").Field("sequence").Next("send 3 first")
	_, err = Outcome(Undone(fmt.Errorf("on the way: %w", known), ""), nil)
	assert.Equal(t, known, err)
	_, err = Outcome(Undone(errors.New("odd"), "coldchain/doors#1"), nil)
	assert.EqualError(t, err, "coldchain/doors#1: odd", "nothing is tried again without knowing why")

	for name, c := range map[string]struct {
		out  []byte
		err  error
		sure bool
	}{
		"the handler failed":          {nil, &link.Refused{Text: "no"}, true},
		"the connection broke":        {nil, link.ErrAway, false},
		"time ran out":                {nil, context.DeadlineExceeded, false},
		"an answer of nothing":        {nil, nil, false},
		"an answer of a new version":  {[]byte{9}, nil, false},
		"an answer, and it broke off": {[]byte{isDone}, link.ErrAway, false},
	} {
		_, err := Outcome(c.out, c.err)
		var got *NotDone
		require.ErrorAs(t, err, &got, name)
		assert.Equal(t, c.sure, got.Sure, name)
	}
}
