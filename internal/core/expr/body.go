package expr

import (
	"fmt"
	"iter"
	"reflect"

	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"cel.dev/cel-go/common/types/traits"

	"steadyferry/internal/core/message"
)

// What conditions see of a message's body and headers: values that look at
// the tape when they are asked, and pay for what they look at.

// valueAt returns the value at a node.
func (t *tape) valueAt(at uint32) ref.Val {
	switch n := t.nodes[at]; n.kind() {
	case kindArray:
		return array{t, at}
	case kindObject:
		return object{t, at}
	case kindNumber:
		return types.Double(t.numberAt(at))
	case kindWord:
		switch t.text[n.at] {
		case 't':
			return types.True
		case 'f':
			return types.False
		}
		return types.NullValue
	}
	return types.String(t.stringAt(at))
}

// native is a value as encoding/json gives it.
func (t *tape) native(at uint32) any {
	switch t.nodes[at].kind() {
	case kindArray:
		out := []any{}
		for e := range (array{t, at}).nodes() {
			out = append(out, t.native(e))
		}
		return out
	case kindObject:
		out := map[string]any{}
		for name, value := range (object{t, at}).members() {
			out[t.stringAt(name)] = t.native(value)
		}
		return out
	}
	if v := t.valueAt(at); v != types.NullValue {
		return v.Value()
	}
	return nil
}

// array is a list in a body.
type array struct {
	t  *tape
	at uint32
}

func (a array) len() int { return a.t.nodes[a.at].len() }

func (a array) nodes() iter.Seq[uint32] {
	return func(yield func(uint32) bool) {
		end := a.t.nodes[a.at].at
		for at := a.at + 1; at < end; at = a.t.after(at) {
			a.t.meter.pay(1)
			if !yield(at) {
				return
			}
		}
	}
}

// Fold implements traits.Foldable.
func (a array) Fold(f traits.Folder) {
	i := int64(0)
	for at := range a.nodes() {
		if !f.FoldEntry(i, a.t.valueAt(at)) {
			return
		}
		i++
	}
}

func (a array) Iterator() traits.Iterator {
	at := a.at + 1
	return &iterator{left: a.len(), next: func() ref.Val {
		a.t.meter.pay(1)
		here := at
		at = a.t.after(at)
		return a.t.valueAt(here)
	}}
}

func (a array) Get(index ref.Val) ref.Val {
	i, err := types.GetOrError(index)
	if err != nil {
		return types.WrapErr(err)
	}
	if i < 0 || i >= a.len() {
		return types.NewErr("index out of bounds: %d", i)
	}
	for at := range a.nodes() {
		if i == 0 {
			return a.t.valueAt(at)
		}
		i--
	}
	panic("a tape is shorter than it says")
}

func (a array) Contains(value ref.Val) ref.Val {
	for at := range a.nodes() {
		if types.Equal(value, a.t.valueAt(at)) == types.True {
			return types.True
		}
	}
	return types.False
}

func (a array) Equal(other ref.Val) ref.Val {
	o, ok := other.(traits.Lister)
	if !ok || o.Size() != a.Size() {
		return types.False
	}
	i := types.Int(0)
	step := func(theirs ref.Val, at uint32) bool { return types.Equal(a.t.valueAt(at), theirs) == types.True }
	if same, ok := other.(array); ok {
		theirs := same.at + 1
		for at := range a.nodes() {
			if !step(same.t.valueAt(theirs), at) {
				return types.False
			}
			theirs = same.t.after(theirs)
		}
		return types.True
	}
	for at := range a.nodes() {
		if !step(o.Get(i), at) {
			return types.False
		}
		i++
	}
	return types.True
}

func (a array) Add(other ref.Val) ref.Val {
	o, ok := other.(traits.Lister)
	if !ok {
		return types.MaybeNoSuchOverloadErr(other)
	}
	return concat(a, o)
}

func (a array) Size() ref.Val                             { return types.Int(a.len()) }
func (a array) Type() ref.Type                            { return types.ListType }
func (a array) Value() any                                { return a.t.native(a.at) }
func (a array) ConvertToType(to ref.Type) ref.Val         { return convert(a, types.ListType, to) }
func (a array) ConvertToNative(reflect.Type) (any, error) { return a.Value(), nil }

// concat makes one flat list, so that a row of additions is not a tree.
func concat(a, b traits.Lister) ref.Val {
	n, m := int(a.Size().(types.Int)), int(b.Size().(types.Int))
	all := make([]ref.Val, 0, n+m)
	for _, l := range []traits.Lister{a, b} {
		for it := l.Iterator(); it.HasNext() == types.True; {
			all = append(all, it.Next())
		}
	}
	return types.NewRefValList(types.DefaultTypeAdapter, all)
}

func convert(v ref.Val, is ref.Type, to ref.Type) ref.Val {
	switch to {
	case is:
		return v
	case types.TypeType:
		return is.(ref.Val)
	}
	return types.NewErr("type conversion error from '%s' to '%s'", is, to)
}

// object is a map in a body. Of members with the same name the last counts.
type object struct {
	t  *tape
	at uint32
}

// all goes through the members as they stand, also those that do not count.
func (o object) all() iter.Seq2[uint32, uint32] {
	return func(yield func(uint32, uint32) bool) {
		end := o.t.nodes[o.at].at
		for at := o.at + 1; at < end; at = o.t.after(at + 1) {
			if !yield(at, at+1) {
				return
			}
		}
	}
}

func (o object) find(name string) (value uint32, ok bool) {
	end, seen := o.t.nodes[o.at].at, int64(0)
	for at := o.at + 1; at < end; at = o.t.after(at + 1) {
		if o.t.is(at, name) {
			value, ok = at+1, true
		}
		if seen++; seen&15 == 0 {
			o.t.meter.pay(4)
		}
	}
	return value, ok
}

// FindStringKey is what the interpreter asks first.
func (o object) FindStringKey(name string) (any, bool) {
	at, ok := o.find(name)
	if !ok {
		return nil, false
	}
	return o.t.valueAt(at), true
}

func (o object) Find(key ref.Val) (ref.Val, bool) {
	name, ok := key.(types.String)
	if !ok {
		return nil, false
	}
	at, ok := o.find(string(name))
	if !ok {
		return nil, false
	}
	return o.t.valueAt(at), true
}

func (o object) Get(key ref.Val) ref.Val {
	v, ok := o.Find(key)
	if !ok {
		return types.NewErr("no such key")
	}
	return v
}

func (o object) Contains(key ref.Val) ref.Val {
	_, ok := o.Find(key)
	return types.Bool(ok)
}

// memberBytes is about what a member costs in a map that is made of it.
const memberBytes = 64

// byName returns where the value of each name is.
func (o object) byName() map[string]uint32 {
	n := o.t.nodes[o.at].len()
	o.t.meter.make(n * memberBytes)
	o.t.meter.pay(4 * int64(n))
	values := make(map[string]uint32, n)
	for name, value := range o.all() {
		values[o.t.stringAt(name)] = value
	}
	return values
}

// members goes through the members that count, in their order.
func (o object) members() iter.Seq2[uint32, uint32] {
	return func(yield func(uint32, uint32) bool) {
		values := o.byName()
		for name, value := range o.all() {
			o.t.meter.pay(1)
			if values[o.t.stringAt(name)] == value && !yield(name, value) {
				return
			}
		}
	}
}

// Fold implements traits.Foldable.
func (o object) Fold(f traits.Folder) {
	for name, value := range o.members() {
		if !f.FoldEntry(types.String(o.t.stringAt(name)), o.t.valueAt(value)) {
			return
		}
	}
}

func (o object) Iterator() traits.Iterator {
	names := make([]uint32, 0, o.t.nodes[o.at].len())
	for name := range o.members() {
		names = append(names, name)
	}
	return &iterator{left: len(names), next: func() ref.Val {
		name := names[0]
		names = names[1:]
		return types.String(o.t.stringAt(name))
	}}
}

func (o object) Equal(other ref.Val) ref.Val {
	theirs, ok := other.(traits.Mapper)
	if !ok || theirs.Size() != o.Size() {
		return types.False
	}
	find := theirs.Find
	if same, ok := other.(object); ok {
		values := same.byName()
		find = func(key ref.Val) (ref.Val, bool) {
			at, ok := values[string(key.(types.String))]
			if !ok {
				return nil, false
			}
			return same.t.valueAt(at), true
		}
	}
	for name, value := range o.members() {
		v, ok := find(types.String(o.t.stringAt(name)))
		if !ok || types.Equal(o.t.valueAt(value), v) != types.True {
			return types.False
		}
	}
	return types.True
}

func (o object) Size() ref.Val                             { return types.Int(len(o.byName())) }
func (o object) Type() ref.Type                            { return types.MapType }
func (o object) Value() any                                { return o.t.native(o.at) }
func (o object) ConvertToType(to ref.Type) ref.Val         { return convert(o, types.MapType, to) }
func (o object) ConvertToNative(reflect.Type) (any, error) { return o.Value(), nil }

// iterator gives values until none is left.
type iterator struct {
	left int
	next func() ref.Val
}

func (i *iterator) HasNext() ref.Val { return types.Bool(i.left > 0) }
func (i *iterator) Next() ref.Val {
	i.left--
	return i.next()
}
func (i *iterator) Equal(ref.Val) ref.Val          { return types.False }
func (i *iterator) Type() ref.Type                 { return types.IteratorType }
func (i *iterator) Value() any                     { return nil }
func (i *iterator) ConvertToType(ref.Type) ref.Val { return types.NewErr("an iterator is no value") }
func (i *iterator) ConvertToNative(reflect.Type) (any, error) {
	return nil, fmt.Errorf("an iterator is no value")
}

// headers is the headers of a message as a map; of those with the same name
// the last counts.
type headers struct {
	list  *[]message.Header
	meter *meter
}

func (h headers) find(name string) (string, bool) {
	list := *h.list
	h.meter.pay(int64(len(list)) / 4)
	for i := len(list) - 1; i >= 0; i-- {
		if list[i].Name == name {
			return list[i].Value, true
		}
	}
	return "", false
}

// FindStringKey is what the interpreter asks first.
func (h headers) FindStringKey(name string) (any, bool) {
	v, ok := h.find(name)
	return types.String(v), ok
}

func (h headers) Find(key ref.Val) (ref.Val, bool) {
	name, ok := key.(types.String)
	if !ok {
		return nil, false
	}
	v, ok := h.find(string(name))
	if !ok {
		return nil, false
	}
	return types.String(v), true
}

func (h headers) Get(key ref.Val) ref.Val {
	v, ok := h.Find(key)
	if !ok {
		return types.NewErr("no such key")
	}
	return v
}

func (h headers) Contains(key ref.Val) ref.Val {
	_, ok := h.Find(key)
	return types.Bool(ok)
}

func (h headers) native() map[string]string {
	h.meter.make(len(*h.list) * memberBytes)
	all := make(map[string]string, len(*h.list))
	for _, one := range *h.list {
		all[one.Name] = one.Value
	}
	return all
}

// plain is the headers as a map of the library.
func (h headers) plain() traits.Mapper {
	return types.DefaultTypeAdapter.NativeToValue(h.native()).(traits.Mapper)
}

func (h headers) Fold(f traits.Folder)                        { h.plain().(traits.Foldable).Fold(f) }
func (h headers) Iterator() traits.Iterator                   { return h.plain().Iterator() }
func (h headers) Equal(other ref.Val) ref.Val                 { return h.plain().Equal(other) }
func (h headers) Size() ref.Val                               { return types.Int(len(h.native())) }
func (h headers) Type() ref.Type                              { return types.MapType }
func (h headers) Value() any                                  { return h.native() }
func (h headers) ConvertToType(to ref.Type) ref.Val           { return convert(h, types.MapType, to) }
func (h headers) ConvertToNative(t reflect.Type) (any, error) { return h.plain().ConvertToNative(t) }

// String prints values in errors: what a message holds is not repeated there.
func (a array) String() string   { return fmt.Sprintf("a list of %d", a.len()) }
func (o object) String() string  { return "a map" }
func (h headers) String() string { return "the headers" }
