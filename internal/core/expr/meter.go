package expr

import (
	"context"
	"errors"

	"cel.dev/cel-go/interpreter"
)

// Budgets of one evaluation.
const (
	maxWork = 2 << 20  // units: a node, 64 bytes that are read, or 16 steps of a pattern
	maxMade = 32 << 20 // bytes of texts, lists and maps that are made

	bytesPerUnit = 64
	stepsPerUnit = 16
	cellBytes    = 32 // of a value in a list or map
	lookEvery    = 4096
)

// ErrCost is returned for a message on which a condition would take too much
// work.
var ErrCost = errors.New("the condition takes too much work on one message")

// meter is what an evaluation may still spend. Whoever does work whose amount
// depends on the message or on earlier results pays before doing it. What
// cannot be paid ends the evaluation by a panic that the interpreter turns
// into an error: an error value would be absorbed by ||.
type meter struct {
	ctx  context.Context
	work int64 // units left
	made int64 // bytes left
	look int64 // units at which the context is looked at next
}

func (m *meter) begin() { m.work, m.made, m.look = maxWork, maxMade, maxWork-lookEvery }

// pay spends units of work, and looks now and then whether the caller is
// still there.
func (m *meter) pay(units int64) {
	if m.work -= units; m.work < m.look {
		m.stopIfOver()
	}
}

func (m *meter) stopIfOver() {
	if m.work < 0 {
		panic(interpreter.EvalCancelledError{Cause: interpreter.CostLimitExceeded, Message: ErrCost.Error()})
	}
	m.look = m.work - lookEvery
	if m.ctx != nil && m.ctx.Err() != nil {
		panic(interpreter.EvalCancelledError{Cause: interpreter.ContextCancelled, Message: "the caller has gone"})
	}
}

// read pays for looking at bytes.
func (m *meter) read(bytes int) { m.pay(1 + int64(bytes)/bytesPerUnit) }

// make pays for bytes that will be written.
func (m *meter) make(bytes int) {
	m.read(bytes)
	if m.made -= int64(bytes); m.made < 0 {
		m.work = -1
		m.stopIfOver()
	}
}

// steps pays for steps of a pattern.
func (m *meter) steps(n int64) { m.pay(n / stepsPerUnit) }

// stopped turns the error with which the interpreter ended into ErrCost or
// that of the context, or nil when it ended for another reason. The type
// tells: texts of errors quote messages.
func (m *meter) stopped(err error) error {
	var c interpreter.EvalCancelledError
	if !errors.As(err, &c) {
		return nil
	}
	if c.Cause == interpreter.ContextCancelled && m.ctx != nil {
		return m.ctx.Err()
	}
	return ErrCost
}
