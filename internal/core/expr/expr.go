// Package expr compiles and runs conditions: CEL expressions over one message
// and nothing else, the same in browse, tail and wherever else messages are
// chosen.
package expr

import (
	"errors"
	"fmt"
	"unicode/utf8"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/ext"
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
	MaxLength  = 4096 // characters
	maxNesting = 32   // of brackets, calls and operators in each other: what lies deeper takes the compiler very long
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
		cel.ParserRecursionLimit(maxNesting),
	)
	if err != nil {
		panic(err)
	}
	return env
}

// Condition is a compiled condition. It can be used by many goroutines.
type Condition struct {
	source string
	plan   *plan
}

// Compile reads a condition. The error is an *Error.
func Compile(source string) (*Condition, error) {
	p, err := compile(source)
	if err != nil {
		return nil, err
	}
	if t := p.tree.OutputType(); !t.IsExactType(cel.BoolType) && !t.IsExactType(cel.DynType) {
		return nil, &Error{Column: 1, Problem: fmt.Sprintf("this gives %s, and a condition is true or false", typeInWords(t.String())), Hint: "compare it with something, such as body.celsius > 8"}
	}
	return &Condition{source: source, plan: p}, nil
}

func compile(source string) (*plan, error) {
	if n := utf8.RuneCountInString(source); n > MaxLength {
		return nil, &Error{Column: MaxLength, Problem: fmt.Sprintf("it has %d characters; limit %d", n, MaxLength)}
	}
	tree, issues := env.Compile(source)
	if issues != nil && issues.Err() != nil {
		return nil, describe(source, issues)
	}
	p, err := newPlan(tree)
	if err != nil && !errors.As(err, new(*Error)) {
		err = complain(source, 1, err.Error())
	}
	return p, err
}

// String returns the condition as it was written.
func (c *Condition) String() string { return c.source }
