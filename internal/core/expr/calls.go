package expr

import (
	"unicode/utf8"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/functions"
	"cel.dev/cel-go/common/operators"
	"cel.dev/cel-go/common/overloads"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"cel.dev/cel-go/common/types/traits"
	"cel.dev/cel-go/interpreter"
)

// paying is a call whose work depends on its arguments: they are evaluated,
// their price is paid, and then the library's function runs, unless the price
// has given the result.
type paying struct {
	id               int64
	name, overloadID string
	args             []interpreter.InterpretableV2
	overload         *functions.Overload // nil: equality
	price            price
	meter            *meter
}

// price pays for a call. It may do the work itself and return the result.
type price func(m *meter, args []ref.Val) ref.Val

// prices of functions by name. Those that have none pay for all of their
// arguments, read and made four times over.
var prices = map[string]price{
	operators.Add: addPrice, operators.In: inPrice,
	operators.Equals: comparePrice, operators.NotEquals: comparePrice,
	operators.Less: comparePrice, operators.LessEquals: comparePrice, operators.Greater: comparePrice, operators.GreaterEquals: comparePrice,
	overloads.StartsWith: comparePrice, overloads.EndsWith: comparePrice,
	overloads.Size:     sizePrice,
	overloads.Contains: containsPrice,
	"indexOf":          indexPrice(false), "lastIndexOf": indexPrice(true),
	"strings.quote": quotePrice, "replace": replacePrice, "split": splitPrice, "join": joinPrice, "format": formatPrice,
	overloads.TypeConvertInt: parsePrice, overloads.TypeConvertUint: parsePrice, overloads.TypeConvertDouble: parsePrice, overloads.TypeConvertBool: parsePrice,
	overloads.TypeConvertTimestamp: parsePrice, overloads.TypeConvertDuration: parsePrice,
}

// ID implements interpreter.InterpretableV2.
func (c *paying) ID() int64 { return c.id }

// Eval implements interpreter.Interpretable.
func (c *paying) Eval(a cel.Activation) ref.Val { return interpreter.EvalActivation(a, c.Exec) }

// Exec implements interpreter.InterpretableV2.
func (c *paying) Exec(f *interpreter.ExecutionFrame) ref.Val {
	var few [4]ref.Val
	args := few[:0]
	for _, a := range c.args {
		v := a.Exec(f)
		if types.IsUnknownOrError(v) {
			return v
		}
		args = append(args, v)
	}
	c.meter.pay(1)
	if c.price == nil {
		defaultPrice(c.meter, args)
	} else if v := c.price(c.meter, args); v != nil {
		return v
	}
	return types.LabelErrNode(c.id, c.call(args))
}

func (c *paying) call(args []ref.Val) ref.Val {
	switch o := c.overload; {
	case c.name == operators.Equals:
		return types.Equal(args[0], args[1])
	case c.name == operators.NotEquals:
		return types.Bool(types.Equal(args[0], args[1]) != types.True)
	case o.OperandTrait != 0 && !args[0].Type().HasTrait(o.OperandTrait):
	case len(args) == 1 && o.Unary != nil:
		return o.Unary(args[0])
	case len(args) == 2 && o.Binary != nil:
		return o.Binary(args[0], args[1])
	case o.Function != nil:
		return o.Function(append([]ref.Val(nil), args...)...)
	}
	if r, ok := args[0].(traits.Receiver); ok {
		return r.Receive(c.name, c.overloadID, args[1:])
	}
	return types.NewErr("no such overload: %s", c.name)
}

func textOf(v ref.Val) (string, bool) {
	switch s := v.(type) {
	case types.String:
		return string(s), true
	case types.Bytes:
		return view(s), true
	}
	return "", false
}

// measure is how large a value is.
type measure struct{ nodes, bytes, depth int }

// deep measures a value to its ground, and pays for that.
func (m *meter) deep(v ref.Val) (out measure) {
	m.pay(1)
	out = measure{nodes: 1, depth: 1}
	under := func(one ref.Val) {
		in := m.deep(one)
		out.nodes, out.bytes, out.depth = out.nodes+in.nodes, out.bytes+in.bytes, max(out.depth, in.depth+1)
	}
	switch x := v.(type) {
	case array:
		return x.t.measure(x.at)
	case object:
		return x.t.measure(x.at)
	case traits.Lister:
		for it := x.Iterator(); it.HasNext() == types.True; {
			under(it.Next())
		}
	case traits.Mapper:
		for it := x.Iterator(); it.HasNext() == types.True; {
			key := it.Next()
			under(key)
			under(x.Get(key))
		}
	default:
		s, _ := textOf(v)
		out.bytes = len(s)
	}
	return out
}

// measure is that of a value in the body.
func (t *tape) measure(at uint32) measure {
	end := t.after(at)
	out := measure{nodes: int(end - at), depth: 1}
	t.meter.pay(int64(out.nodes) / 4)
	var ends []uint32
	for i := at; i < end; i++ {
		for len(ends) > 0 && ends[len(ends)-1] <= i {
			ends = ends[:len(ends)-1]
		}
		if n := t.nodes[i]; n.kind() >= kindArray {
			ends = append(ends, n.at)
			out.depth = max(out.depth, len(ends)+1)
		} else {
			out.bytes += n.len()
		}
	}
	return out
}

func defaultPrice(m *meter, args []ref.Val) {
	for _, a := range args {
		size := m.deep(a)
		m.pay(int64(size.nodes))
		m.make(4 * (size.bytes + 16*(size.nodes-1)))
	}
}

func comparePrice(m *meter, args []ref.Val) ref.Val {
	a, isText := textOf(args[0])
	b, alsoText := textOf(args[1])
	if isText || alsoText {
		m.read(min(len(a), len(b)))
		return nil
	}
	for _, v := range args {
		if _, ok := v.(traits.Sizer); ok {
			size := m.deep(v)
			m.pay(int64(2 * size.nodes))
			m.read(size.bytes)
		}
	}
	return nil
}

func sizePrice(m *meter, args []ref.Val) ref.Val {
	if s, ok := args[0].(types.String); ok {
		m.read(2 * len(s))
		return types.Int(utf8.RuneCountInString(string(s)))
	}
	return nil
}

func addPrice(m *meter, args []ref.Val) ref.Val {
	if a, ok := textOf(args[0]); ok {
		b, _ := textOf(args[1])
		m.make(len(a) + len(b))
		return nil
	}
	a, ok := args[0].(traits.Lister)
	b, both := args[1].(traits.Lister)
	if !ok || !both {
		return nil
	}
	added := int(b.Size().(types.Int))
	if _, grows := a.(traits.MutableLister); grows {
		m.make(added * cellBytes)
		return nil
	}
	total := int(a.Size().(types.Int)) + added
	m.pay(int64(total))
	m.make(total * cellBytes)
	return concat(a, b)
}

func inPrice(m *meter, args []ref.Val) ref.Val {
	s, isText := textOf(args[0])
	switch in := args[1].(type) {
	case array, object, headers: // they pay for themselves
		if !isText {
			m.pay(int64(2 * m.deep(args[0]).nodes))
		}
	case traits.Lister:
		n := int64(in.Size().(types.Int))
		each := int64(1)
		if !isText {
			each = int64(m.deep(args[0]).nodes)
		}
		// Texts are compared only when they are of one length.
		m.pay(n * (each + int64(len(s))/bytesPerUnit))
	case traits.Mapper:
		m.read(len(s))
	}
	return nil
}

// parseLimit is more than any number or time takes.
const parseLimit = 400

func parsePrice(m *meter, args []ref.Val) ref.Val {
	if s, ok := textOf(args[0]); ok && len(s) > parseLimit {
		return types.NewErr("a text of %d bytes is neither a number nor a time", len(s))
	}
	m.pay(8)
	return nil
}

func quotePrice(m *meter, args []ref.Val) ref.Val {
	s, _ := textOf(args[0])
	m.make(10 * len(s)) // it is copied by growing, three times
	return nil
}

func joinPrice(m *meter, args []ref.Val) ref.Val {
	l, ok := args[0].(traits.Lister)
	if !ok {
		return nil
	}
	size, between := m.deep(l), ""
	if len(args) > 1 {
		between, _ = textOf(args[1])
	}
	// A body's list is gone through from its front for every value.
	if a, ok := l.(array); ok {
		all := make([]ref.Val, 0, a.len())
		m.make(a.len() * cellBytes)
		for at := range a.nodes() {
			all = append(all, a.t.valueAt(at))
		}
		args[0] = types.NewRefValList(types.DefaultTypeAdapter, all)
	}
	m.make(2 * (size.bytes + size.nodes*(len(between)+1)))
	return nil
}

// wideNumber is more than a number takes that is written out.
const wideNumber = 340

func formatPrice(m *meter, args []ref.Val) ref.Val {
	s, _ := textOf(args[0])
	size := m.deep(args[1])
	// What lies deep is written once for each list around it, and a clause
	// may widen a number.
	m.make(len(s) + (size.bytes*6+size.nodes*wideNumber)*min(size.depth, 64))
	if size.depth > 64 {
		return types.NewErr("a value of %d lists in each other is too deep to be formatted", size.depth)
	}
	return nil
}
