package expr

import (
	"encoding/json"
	"fmt"
	"reflect"
	"strings"
	"unicode/utf8"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/types"
	"google.golang.org/protobuf/types/known/structpb"

	"steadyferry/internal/core/message"
)

// Value is a compiled expression that gives a value of a message.
type Value struct{ program cel.Program }

// CompileValue reads an expression over the same names as a condition. The
// error is an *Error.
func CompileValue(source string) (*Value, error) {
	if n := utf8.RuneCountInString(source); n > MaxLength {
		return nil, &Error{Column: MaxLength, Problem: fmt.Sprintf("the expression has %d characters, and the limit is %d", n, MaxLength)}
	}
	tree, issues := env.Compile(source)
	if issues != nil && issues.Err() != nil {
		return nil, describe(source, issues)
	}
	program, err := env.Program(tree, cel.EvalOptions(cel.OptOptimize), cel.CostLimit(costLimit))
	if err != nil {
		return nil, &Error{Column: 1, Problem: err.Error()}
	}
	return &Value{program}, nil
}

// Of computes the value for a message, as JSON.
func (v *Value) Of(s *message.Stored, f Facts) (json.RawMessage, error) {
	out, _, err := v.program.Eval(&vars{message: s, facts: f})
	if err != nil {
		if strings.Contains(err.Error(), "cost limit exceeded") {
			return nil, ErrCost
		}
		return nil, err
	}
	switch plain := out.(type) {
	case types.Int, types.Uint, types.Double, types.String, types.Bool:
		return json.Marshal(plain.Value())
	case types.Timestamp:
		return json.Marshal(plain.Time)
	}
	native, err := out.ConvertToNative(reflect.TypeFor[*structpb.Value]())
	if err != nil {
		return nil, fmt.Errorf("it gives a %s, which is no JSON value", out.Type())
	}
	return json.Marshal(native.(*structpb.Value).AsInterface())
}
