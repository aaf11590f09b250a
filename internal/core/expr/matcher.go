package expr

import (
	"context"
	"errors"
	"strings"
	"unicode/utf8"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"cel.dev/cel-go/interpreter"

	"steadyferry/internal/core/message"
)

// Facts are what a queue knows of a message.
type Facts struct {
	Attempts       int
	Reason, Detail string
}

// Matcher runs a condition on one message after another. It is for one
// goroutine.
type Matcher struct {
	*evaluator
	plan   *plan
	unlike int64
	why    string
}

// Unlike returns for how many messages, since it was asked last, the condition
// came to nothing since it compares unlike things, such as a number with text, and
// what those were in the first of all.
func (m *Matcher) Unlike() (count int64, why string) {
	count, m.unlike = m.unlike, 0
	return count, m.why
}

// Matcher returns a matcher whose evaluations end when ctx does. A nil
// condition matches every message.
func (c *Condition) Matcher(ctx context.Context) *Matcher {
	if c == nil {
		return &Matcher{}
	}
	return &Matcher{evaluator: c.plan.evaluator(ctx), plan: c.plan}
}

// Match reports whether the message fulfils the condition. What cannot be
// computed, such as a field that the body lacks, makes it false; the only
// errors are ErrCost and that of the context.
func (m *Matcher) Match(s *message.Stored) (bool, error) { return m.MatchWith(s, Facts{}) }

// MatchWith is Match for a message of a queue.
func (m *Matcher) MatchWith(s *message.Stored, f Facts) (bool, error) {
	if m.evaluator == nil {
		return true, nil
	}
	m.begin(s, f)
	out, err := m.eval()
	m.end()
	if err != nil {
		m.note(err)
		return false, m.meter.stopped(err)
	}
	return out == types.True, nil
}

// note counts an error that comes of unlike things. A field that is not there is
// no such error.
func (m *Matcher) note(err error) {
	var wrong *types.Err
	if !errors.As(err, &wrong) || !strings.HasPrefix(wrong.Error(), "no such overload") {
		return
	}
	if m.unlike++; m.why == "" {
		m.why = m.plan.unlikeAt(wrong.NodeID())
	}
}

// evaluator evaluates a plan on messages, with a meter and room of its own.
type evaluator struct {
	program cel.Program
	frame   *interpreter.ExecutionFrame
	vars    vars
	meter   meter
}

func (p *plan) evaluator(ctx context.Context) *evaluator {
	e := &evaluator{}
	e.meter.ctx = ctx
	e.vars.tape.meter = &e.meter
	var err error
	if e.program, err = p.program(&e.meter); err == nil {
		e.frame, err = interpreter.NewExecutionFrame(&e.vars)
	}
	if err != nil {
		panic(err) // it was planned once when it was compiled
	}
	return e
}

func (e *evaluator) begin(s *message.Stored, f Facts) {
	e.meter.begin()
	e.vars.message, e.vars.facts, e.vars.seen = s, f, 0
}

func (e *evaluator) eval() (ref.Val, error) {
	out, _, err := e.program.Eval(e.frame)
	return out, err
}

func (e *evaluator) end() { e.vars.tape.release() }

// vars gives the interpreter the values it asks for. A body is parsed, and a
// text checked, only if it does, and once.
type vars struct {
	message *message.Stored
	facts   Facts
	tape    tape
	body    any
	text    types.String
	seen    byte // what of body and text is there
}

const (
	seenBody = 1 << iota
	seenText
)

// ResolveName implements cel.Activation.
func (v *vars) ResolveName(name string) (any, bool) {
	m := v.message
	switch name {
	case "key":
		return types.String(m.Key), true
	case "body":
		if v.seen&seenBody == 0 {
			v.body = types.NullValue
			if v.tape.parse(m.Body) {
				v.body = v.tape.valueAt(0)
			}
			v.seen |= seenBody
		}
		return v.body, true
	case "text":
		if v.seen&seenText == 0 {
			v.tape.meter.read(len(m.Body))
			v.text = ""
			if utf8.Valid(m.Body) {
				v.text = types.String(view(m.Body))
			}
			v.seen |= seenText
		}
		return v.text, true
	case "headers":
		return headers{&m.Headers, v.tape.meter}, true
	case "id":
		return types.String(m.ID), true
	case "time":
		return types.Timestamp{Time: m.StoredAt}, true
	case "size":
		return types.Int(len(m.Body)), true
	case "partition":
		return types.Int(m.Partition), true
	case "offset":
		return types.Int(m.Offset), true
	case "attempts":
		return types.Int(v.facts.Attempts), true
	case "reason":
		return types.String(v.facts.Reason), true
	case "detail":
		return types.String(v.facts.Detail), true
	}
	return nil, false
}

// Parent implements cel.Activation.
func (v *vars) Parent() cel.Activation { return nil }
