package watch

import (
	"math"
	"reflect"
	"strings"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/types"

	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/sample"
)

// Bounds of an expression: it has figures to work with and nothing that grows.
const (
	MaxExpression = 400 // characters
	maxNesting    = 24
	maxCost       = 2000
)

// identifier is how an expression names a value.
func identifier(name string) string { return strings.ReplaceAll(name, "-", "_") }

var environment = func() *cel.Env {
	options := []cel.EnvOption{cel.ParserRecursionLimit(maxNesting), cel.ParserExpressionSizeLimit(MaxExpression), cel.ClearMacros()}
	for i := range Values {
		options = append(options, cel.Variable(identifier(Values[i].Name), cel.DoubleType))
	}
	env, err := cel.NewEnv(options...)
	if err != nil {
		panic(err)
	}
	return env
}()

// expression computes one figure of several.
type expression struct {
	program cel.Program
	names   []string // of the values that it needs
}

// compile reads an expression over values, each by its name with _ for -.
func compile(source string) (*expression, error) {
	wrong := func(issues *cel.Issues) error {
		text := issues.Err().Error()
		if all := issues.Errors(); len(all) > 0 {
			text = all[0].Message
		}
		return problem.New(problem.Invalid, "value is %q: %s", source, text).Field("value").Allowed("one of " + strings.Join(Names(), ", ") + ", or an expression over them with _ for -, such as dead > 0.05 * waiting ? dead : 0")
	}
	parsed, issues := environment.Parse(source)
	if issues.Err() != nil {
		return nil, wrong(issues)
	}
	// Every figure has a fraction, so that 2 * dead is one too.
	tree := parsed.NativeRep()
	factory := ast.NewExprFactory()
	e := &expression{}
	ast.PostOrderVisit(tree.Expr(), ast.NewExprVisitor(func(x ast.Expr) {
		switch x.Kind() {
		case ast.LiteralKind:
			if i, whole := x.AsLiteral().(types.Int); whole {
				x.SetKindCase(factory.NewLiteral(x.ID(), types.Double(i)))
			}
		case ast.IdentKind:
			for i := range Values {
				if identifier(Values[i].Name) == x.AsIdent() {
					e.names = append(e.names, Values[i].Name)
				}
			}
		}
	}))
	checked, issues := environment.Check(parsed)
	if issues.Err() != nil {
		return nil, wrong(issues)
	}
	if t := checked.OutputType(); t != cel.DoubleType && t != cel.BoolType {
		return nil, problem.New(problem.Invalid, "value is %q, which gives a %s", source, t).Field("value").Allowed("what gives a number, or true and false for 1 and 0")
	}
	if len(e.names) == 0 {
		return nil, problem.New(problem.Invalid, "value is %q, in which nothing is measured", source).Field("value").Allowed("an expression over " + strings.Join(Names(), ", ") + ", with _ for -")
	}
	var err error
	e.program, err = environment.Program(checked, cel.CostLimit(maxCost))
	return e, err
}

// of computes the figure of a step: sample.Unknown where a value that it needs is.
func (e *expression) of(figure func(name string) float64) float64 {
	given := make(map[string]any, len(e.names))
	for _, name := range e.names {
		x := figure(name)
		if math.IsNaN(x) {
			return sample.Unknown
		}
		given[identifier(name)] = x
	}
	out, _, err := e.program.Eval(given)
	if err != nil {
		return sample.Unknown
	}
	native, err := out.ConvertToNative(reflect.TypeFor[float64]())
	if b, is := out.(types.Bool); is && bool(b) {
		return 1
	} else if is {
		return 0
	}
	x, _ := native.(float64)
	if err != nil || math.IsInf(x, 0) {
		return sample.Unknown
	}
	return x
}
