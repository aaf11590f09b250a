package expr

import (
	"fmt"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/functions"
	"cel.dev/cel-go/common/operators"
	"cel.dev/cel-go/common/overloads"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"cel.dev/cel-go/interpreter"
)

// plan is a checked expression and what evaluations of it have to pay for.
// Most nodes cost little and so much only that the length of an expression
// bounds them: those are left as the library plans them. The others get a
// node of ours that pays before it acts (calls.go), and every round of a loop
// pays for the nodes in it.
type plan struct {
	tree     *cel.Ast
	paying   map[int64]bool     // calls, by id
	rounds   map[int64]round    // the steps of loops
	patterns map[int64]*pattern // calls of matches
}

// round is what one round of a loop pays.
type round struct{ nodes, cells int64 }

func newPlan(tree *cel.Ast) (*plan, error) {
	p := &plan{tree: tree, paying: map[int64]bool{}, rounds: map[int64]round{}, patterns: map[int64]*pattern{}}
	var wrong error
	ast.PreOrderVisit(ast.NavigateAST(tree.NativeRep()), ast.NewExprVisitor(func(e ast.Expr) {
		switch e.Kind() {
		case ast.CallKind:
			if err := p.call(e); err != nil && wrong == nil {
				wrong = err
			}
		case ast.ComprehensionKind:
			loop := e.AsComprehension()
			a, b := weigh(loop.LoopStep()), weigh(loop.LoopCondition())
			p.rounds[loop.LoopStep().ID()] = round{a.nodes + b.nodes, a.cells + b.cells}
		case ast.StructKind:
			if wrong == nil {
				wrong = p.errorAt(e, "this makes a "+e.AsStruct().TypeName(), "conditions make numbers, texts, lists and maps")
			}
		}
	}))
	if wrong != nil {
		return nil, wrong
	}
	_, err := p.program(&meter{})
	return p, err
}

func (p *plan) errorAt(e ast.Expr, problem, hint string) *Error {
	at := p.tree.NativeRep().SourceInfo().GetStartLocation(e.ID())
	return &Error{Column: at.Column() + 1, Problem: problem, Hint: hint}
}

// weigh counts the nodes of an expression, and the values that its lists and
// maps hold.
func weigh(e ast.Expr) (r round) {
	ast.PreOrderVisit(e, ast.NewExprVisitor(func(e ast.Expr) {
		r.nodes++
		switch e.Kind() {
		case ast.ListKind:
			r.cells += int64(2 + e.AsList().Size())
		case ast.MapKind:
			r.cells += int64(8 + 4*e.AsMap().Size())
		}
	}))
	return r
}

// call decides whether a call pays.
func (p *plan) call(e ast.Expr) error {
	call := e.AsCall()
	args := call.Args()
	if call.IsMemberFunction() {
		args = append([]ast.Expr{call.Target()}, args...)
	}
	switch name := call.FunctionName(); name {
	case operators.LogicalAnd, operators.LogicalOr, operators.LogicalNot, operators.Conditional, operators.NotStrictlyFalse,
		operators.Index, overloads.TypeConvertDyn, overloads.TypeConvertType:
		return nil
	case overloads.Matches:
		source, ok := literal(args[len(args)-1])
		text, isText := source.(types.String)
		if !ok || !isText {
			return p.errorAt(e, "the pattern of matches is computed", `write it out, such as key.matches("^box-[0-9]+$")`)
		}
		compiled, problem := compilePattern(string(text))
		if problem != "" {
			return p.errorAt(e, problem, "a shorter pattern, or several conditions")
		}
		p.patterns[e.ID()] = compiled
		return nil
	case operators.Equals, operators.NotEquals, operators.Less, operators.LessEquals, operators.Greater, operators.GreaterEquals:
		// What is compared with something small costs little.
		if p.small(args[0]) || p.small(args[1]) {
			return nil
		}
	case overloads.StartsWith, overloads.EndsWith:
		if p.small(args[1]) {
			return nil
		}
	default:
		all := true
		for _, a := range args {
			all = all && p.small(a)
		}
		zoned := parts[name] != nil && len(args) > 1
		if all && name != "format" && !zoned {
			return nil
		}
	}
	p.paying[e.ID()] = true
	return nil
}

func literal(e ast.Expr) (ref.Val, bool) {
	if e.Kind() != ast.LiteralKind {
		return nil, false
	}
	return e.AsLiteral(), true
}

// small reports whether a value cannot be large: it was written out, or its
// type has no large ones.
func (p *plan) small(e ast.Expr) bool {
	switch e.Kind() {
	case ast.LiteralKind:
		return true
	case ast.ListKind:
		for _, one := range e.AsList().Elements() {
			if _, ok := literal(one); !ok {
				return false
			}
		}
		return true
	}
	switch p.tree.NativeRep().GetType(e.ID()).Kind() {
	case types.BoolKind, types.IntKind, types.UintKind, types.DoubleKind, types.TimestampKind, types.DurationKind, types.NullTypeKind, types.TypeKind:
		return true
	}
	return false
}

// program plans the evaluation for one meter.
func (p *plan) program(m *meter) (cel.Program, error) {
	return env.Program(p.tree, cel.EvalOptions(cel.OptOptimize), cel.CustomDecoratorV2(func(i interpreter.InterpretableV2) (interpreter.InterpretableV2, error) {
		call, isCall := i.(interpreter.InterpretableCall)
		switch pattern := p.patterns[i.ID()]; {
		case isCall && pattern != nil:
			i = &matching{id: i.ID(), text: call.Args()[0], pattern: pattern, meter: m}
		case isCall && p.paying[i.ID()]:
			overload := overloadOf[call.OverloadID()]
			if overload == nil {
				overload = overloadOf[call.Function()]
			}
			if overload == nil && call.Function() != operators.Equals && call.Function() != operators.NotEquals {
				return nil, fmt.Errorf("%s is not known", call.Function())
			}
			i = &paying{id: i.ID(), name: call.Function(), overloadID: call.OverloadID(), args: call.Args(), overload: overload, price: prices[call.Function()], meter: m}
		}
		if r, ok := p.rounds[i.ID()]; ok {
			i = &ticking{InterpretableV2: i, round: r, meter: m}
		}
		return i, nil
	}))
}

// overloadOf is the functions of the environment by name and by overload.
var overloadOf = func() map[string]*functions.Overload {
	all := map[string]*functions.Overload{}
	for _, f := range env.Functions() {
		bindings, err := f.Bindings()
		if err != nil {
			panic(err)
		}
		for _, b := range bindings {
			all[b.Operator] = b
		}
	}
	return all
}()

// ticking is the step of a loop: each round pays.
type ticking struct {
	interpreter.InterpretableV2
	round round
	meter *meter
}

// Exec implements interpreter.InterpretableV2.
func (t *ticking) Exec(f *interpreter.ExecutionFrame) ref.Val {
	t.meter.pay(t.round.nodes)
	if t.round.cells > 0 {
		t.meter.make(int(t.round.cells) * cellBytes)
	}
	return t.InterpretableV2.Exec(f)
}

// Eval implements interpreter.Interpretable.
func (t *ticking) Eval(a cel.Activation) ref.Val { return interpreter.EvalActivation(a, t.Exec) }
