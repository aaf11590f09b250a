// Package expr compiles and runs conditions: CEL expressions over one message
// and nothing else, the same in browse, tail and wherever else messages are
// chosen.
package expr

import (
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/operators"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/ext"

	"steadyferry/internal/core/address"
	"steadyferry/internal/core/message"
)

// Variable is one name that a condition can use.
type Variable struct {
	Name string `json:"name"`
	Type string `json:"type"`
	Help string `json:"help"`
}

// Variables lists the names of a message that conditions see.
var Variables = []Variable{
	{"key", "string", "the message's key, empty without one"},
	{"body", "any", "the body as parsed JSON, null when it is not JSON"},
	{"text", "string", "the body as text, empty when it is not UTF-8"},
	{"headers", "map of string to string", "the headers; headers.name or headers[\"a-name\"]"},
	{"id", "string", "the message's id"},
	{"time", "timestamp", "when the service stored the message"},
	{"size", "int", "bytes of the body"},
	{"partition", "int", "the partition's number"},
	{"offset", "int", "the message's offset"},
	{"attempts", "int", "deliveries so far; 0 for messages of a topic"},
	{"reason", "string", "why it became a dead letter; empty otherwise"},
	{"detail", "string", "the details of that; empty otherwise"},
}

// Limits of a condition.
const (
	MaxLength = 4096    // characters
	costLimit = 100_000 // CEL's measure of work for one message
)

// Error says where a condition is wrong and what to try.
type Error struct {
	Column  int    `json:"column"` // from 1, in characters
	Problem string `json:"problem"`
	Hint    string `json:"hint,omitempty"`
}

func (e *Error) Error() string {
	text := fmt.Sprintf("condition, column %d: %s", e.Column, e.Problem)
	if e.Hint != "" {
		text += "; " + e.Hint
	}
	return text
}

var env = newEnv()

func newEnv() *cel.Env {
	env, err := cel.NewEnv(
		cel.Variable("key", cel.StringType),
		cel.Variable("body", cel.DynType),
		cel.Variable("text", cel.StringType),
		cel.Variable("headers", cel.MapType(cel.StringType, cel.StringType)),
		cel.Variable("id", cel.StringType),
		cel.Variable("time", cel.TimestampType),
		cel.Variable("size", cel.IntType),
		cel.Variable("partition", cel.IntType),
		cel.Variable("offset", cel.IntType),
		cel.Variable("attempts", cel.IntType),
		cel.Variable("reason", cel.StringType),
		cel.Variable("detail", cel.StringType),
		cel.CrossTypeNumericComparisons(true),
		cel.DefaultUTCTimeZone(true),
		ext.Strings(),
		ext.Math(),
	)
	if err != nil {
		panic(err)
	}
	return env
}

// Condition is a compiled condition. It can be used by many goroutines.
type Condition struct {
	source  string
	program cel.Program
}

// Compile reads a condition. The error is an *Error.
func Compile(source string) (*Condition, error) {
	if n := utf8.RuneCountInString(source); n > MaxLength {
		return nil, &Error{Column: MaxLength, Problem: fmt.Sprintf("the condition has %d characters, and the limit is %d", n, MaxLength)}
	}
	tree, issues := env.Compile(source)
	if issues != nil && issues.Err() != nil {
		return nil, describe(source, issues)
	}
	if t := tree.OutputType(); !t.IsExactType(cel.BoolType) && !t.IsExactType(cel.DynType) {
		return nil, &Error{Column: 1, Problem: fmt.Sprintf("this gives a %s, and a condition is true or false", t), Hint: "compare it with something, such as body.celsius > 8"}
	}
	options := []cel.ProgramOption{cel.EvalOptions(cel.OptOptimize)}
	if loops(tree) {
		// Only a loop makes the work grow beyond the condition's own length,
		// and counting the work of the others would double it.
		options = append(options, cel.CostLimit(costLimit))
	}
	program, err := env.Program(tree, options...)
	if err != nil {
		return nil, &Error{Column: 1, Problem: err.Error()}
	}
	return &Condition{source: source, program: program}, nil
}

func loops(a *cel.Ast) bool {
	found := false
	ast.PreOrderVisit(ast.NavigateAST(a.NativeRep()), ast.NewExprVisitor(func(e ast.Expr) {
		found = found || e.Kind() == ast.ComprehensionKind
	}))
	return found
}

// String returns the condition as it was written.
func (c *Condition) String() string { return c.source }

func describe(source string, issues *cel.Issues) *Error {
	first := issues.Errors()[0]
	problem := first.Message
	e := &Error{Column: first.Location.Column() + 1, Problem: problem}
	if name, ok := strings.CutPrefix(problem, "undeclared reference to '"); ok {
		name, _, _ = strings.Cut(name, "'")
		var names []string
		for _, v := range Variables {
			names = append(names, v.Name)
		}
		e.Problem = fmt.Sprintf("there is no %q", name)
		e.Hint = "a condition can use " + strings.Join(names, ", ")
		if near := address.Nearest(name, names); near != "" {
			e.Hint = fmt.Sprintf("did you mean %q?", near)
		} else if slices.Contains(names, "body") && !strings.Contains(source, "body.") {
			e.Hint = fmt.Sprintf("for a field of the body write body.%s; %s", name, e.Hint)
		}
	} else if strings.Contains(problem, "Syntax error") {
		e.Problem = strings.TrimPrefix(problem, "Syntax error: ")
		e.Hint = `an example: body.celsius > 8 && key.startsWith("box-")`
		if strings.Contains(source, "=") && !strings.Contains(source, "==") {
			e.Hint = "write == to compare"
		}
	} else if strings.Contains(problem, "found no matching overload for") {
		op, _, _ := strings.Cut(strings.TrimPrefix(problem, "found no matching overload for '"), "'")
		if shown, ok := operators.FindReverse(op); ok {
			e.Problem = strings.Replace(problem, op, shown, 1)
		}
		e.Hint = "both sides must be of the same type: text in quotes, numbers without, times as timestamp(\"2026-11-23T08:00:00Z\")"
	}
	return e
}

// ErrCost is returned for a message on which a condition would take too much
// work.
var ErrCost = errors.New("the condition takes too much work on one message")

// Matcher runs a condition on one message after another. It is for one
// goroutine.
type Matcher struct {
	condition *Condition
	vars      vars
}

// Matcher returns a matcher. A nil condition matches every message.
func (c *Condition) Matcher() *Matcher { return &Matcher{condition: c} }

// Match reports whether the message fulfils the condition. What cannot be
// computed, such as a field that the body lacks, makes it false; the only
// error is ErrCost.
func (m *Matcher) Match(s *message.Stored) (bool, error) { return m.MatchWith(s, Facts{}) }

// Facts are what a queue knows of a message.
type Facts struct {
	Attempts       int
	Reason, Detail string
}

// MatchWith is Match for a message of a queue.
func (m *Matcher) MatchWith(s *message.Stored, f Facts) (bool, error) {
	if m.condition == nil {
		return true, nil
	}
	m.vars = vars{message: s, facts: f}
	out, _, err := m.condition.program.Eval(&m.vars)
	if err != nil {
		if strings.Contains(err.Error(), "cost limit exceeded") {
			return false, ErrCost
		}
		return false, nil
	}
	return out == types.True, nil
}

// vars gives CEL the values it asks for; a body is parsed only if it does.
type vars struct {
	message *message.Stored
	facts   Facts
	parsed  bool
	body    any
}

// ResolveName implements cel.Activation.
func (v *vars) ResolveName(name string) (any, bool) {
	m := v.message
	switch name {
	case "key":
		return m.Key, true
	case "body":
		if !v.parsed {
			v.parsed = true
			if json.Unmarshal(m.Body, &v.body) != nil {
				v.body = nil
			}
		}
		if v.body == nil {
			return types.NullValue, true
		}
		return v.body, true
	case "text":
		if !utf8.Valid(m.Body) {
			return "", true
		}
		return string(m.Body), true
	case "headers":
		headers := make(map[string]string, len(m.Headers))
		for _, h := range m.Headers {
			headers[h.Name] = h.Value
		}
		return headers, true
	case "id":
		return m.ID, true
	case "time":
		return types.Timestamp{Time: m.StoredAt}, true
	case "size":
		return int64(len(m.Body)), true
	case "partition":
		return int64(m.Partition), true
	case "offset":
		return m.Offset, true
	case "attempts":
		return int64(v.facts.Attempts), true
	case "reason":
		return v.facts.Reason, true
	case "detail":
		return v.facts.Detail, true
	}
	return nil, false
}

// Parent implements cel.Activation.
func (v *vars) Parent() cel.Activation { return nil }
