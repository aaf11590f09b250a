package access

import (
	"context"
	"fmt"
	"strings"

	"steadyferry/internal/core/address"
	"steadyferry/internal/core/mask"
	"steadyferry/internal/core/problem"
)

// Asker is who asks for something: a principal with what it came with, or a node.
type Asker interface {
	// Who is the name, as the logbook has it.
	Who() string
	// Rights are what it may do at this moment.
	Rights() *Rights
	// Refuse says why it may not do something, and who could allow it.
	Refuse(v Verb, at string) error
	// Second says of something that it may do with somebody else alone that nobody has confirmed
	// it; nil: somebody has who may do it too, or it only looks what would be done.
	Second(v Verb, at string) error
	// Pass is how another node is told who asks.
	Pass() string
}

// PassOfNode is the pass of nodes, and PassOfNobody that of a context that nobody asks with.
const (
	PassOfNode   = "."
	PassOfNobody = "-"
)

// PassIn is how another node is told who asks with a context.
func PassIn(ctx context.Context) string {
	if a, ok := In(ctx); ok {
		return a.Pass()
	}
	return PassOfNobody
}

type askerKey struct{}

// Holder is to whom what is given to whoever asks belongs: a principal, or all nodes together.
func Holder(ctx context.Context) string {
	if a, ok := In(ctx); ok && !IsNode(a) {
		return a.Who()
	}
	return PassOfNode
}

// As has everything that is done with the context be asked for by somebody.
func As(ctx context.Context, a Asker) context.Context { return context.WithValue(ctx, askerKey{}, a) }

// In returns who asks; ok is false when nobody does.
func In(ctx context.Context) (a Asker, ok bool) {
	a, ok = ctx.Value(askerKey{}).(Asker)
	return a, ok
}

// Check returns why whoever asks may not do something at an address; nil: they may. What
// nobody asks for is refused.
func Check(ctx context.Context, v Verb, at string) error {
	a, ok := In(ctx)
	if !ok {
		return problem.New(problem.Refused, "nobody asks for %s of %s", v, at).Next("this is a fault of the service: tell those who look after it")
	}
	r := a.Rights()
	if !r.May(v, at) {
		return a.Refuse(v, at)
	}
	if Dangerous.Has(v) && !r.Alone(v, at) {
		return a.Second(v, at)
	}
	return nil
}

// CheckOn returns why whoever asks may not do something at everything that a pattern covers; nil: they may.
func CheckOn(ctx context.Context, v Verb, p address.Pattern) error {
	a, ok := In(ctx)
	if !ok {
		return Check(ctx, v, p.String())
	}
	r := a.Rights()
	if !r.On(p).Has(v) {
		return a.Refuse(v, p.String())
	}
	if Dangerous.Has(v) && !r.AloneOn(v, p) {
		return a.Second(v, p.String())
	}
	return nil
}

// May reports whether whoever asks may do something at an address.
func May(ctx context.Context, v Verb, at string) bool {
	a, ok := In(ctx)
	return ok && a.Rights().May(v, at)
}

// Sight is what whoever asks sees of messages at an address by a verb that gives them out.
func Sight(ctx context.Context, v Verb, at string) *mask.Sight {
	a, ok := In(ctx)
	if !ok {
		return mask.Nothing
	}
	return a.Rights().Sight(v, at)
}

// CheckUnmasked returns why whoever asks may not do something with messages at an address that
// would show others what masks hide from it; nil: they hide nothing.
func CheckUnmasked(ctx context.Context, v Verb, at string) error {
	return Masked(ctx, v, at, func(s *mask.Sight) error {
		if names := s.Names(); len(names) > 0 {
			return fmt.Errorf("this takes messages of %s as they are, and mask %s hides something of them", at, strings.Join(names, ", "))
		}
		return nil
	})
}

// Masked returns why something that looks at messages at an address would tell whoever asks what
// is hidden, as wrong says; nil: it does not.
func Masked(ctx context.Context, v Verb, at string, wrong func(s *mask.Sight) error) error {
	err := wrong(Sight(ctx, v, at))
	if err == nil {
		return nil
	}
	return &RefusedError{Verb: v, At: at, Err: problem.New(problem.Refused, "%v", err).Next("leave it out, or ask who has access at %s for a role that the mask is not for", at)}
}

// Reaches reports whether whoever asks may do something in a space, be it at one thing there.
func Reaches(ctx context.Context, v Verb, space string) bool {
	a, ok := In(ctx)
	return ok && a.Rights().Reach(v, space)
}

// RefusedError is why whoever asks may not do something.
type RefusedError struct {
	Verb Verb
	At   string
	Err  error // for them, with what to do
}

// SecondError is that whoever asks may do something with somebody else alone, who has not confirmed it.
type SecondError struct {
	Verb Verb
	At   string
	Err  error // for them, with who could
}

func (e *SecondError) Error() string { return e.Err.Error() }
func (e *SecondError) Unwrap() error { return e.Err }

func (e *RefusedError) Error() string { return e.Err.Error() }
func (e *RefusedError) Unwrap() error { return e.Err }

// Via is with what, and from where, whoever asks has come, as the logbook tells it.
type Via struct {
	Credential string // the kind of a secret, and its id: token 26b872fc534b
	From       string // an address of the network
}

// ViaIn is how whoever asks with a context has come; of who came by no door it is empty.
func ViaIn(ctx context.Context) Via {
	if a, ok := ctx.Value(askerKey{}).(interface{ Via() Via }); ok {
		return a.Via()
	}
	return Via{}
}

// Only are those of a list at whose addresses whoever asks may do something. The list stays as it
// is.
func Only[T any](ctx context.Context, v Verb, all []T, at func(T) string) []T {
	out := make([]T, 0, len(all))
	a, ok := In(ctx)
	if !ok {
		return out
	}
	rights := a.Rights()
	for _, one := range all {
		if rights.May(v, at(one)) {
			out = append(out, one)
		}
	}
	return out
}

// node is the service itself, which does what its duties are.
type node struct{ name string }

// Node is a node that asks for what it has to do; it may do everything.
func Node(name string) Asker { return node{name} }

// IsNode reports whether who asks is a node.
func IsNode(a Asker) bool { _, is := a.(node); return is }

func (n node) Pass() string                   { return PassOfNode }
func (n node) Who() string                    { return n.name }
func (n node) Rights() *Rights                { return Whole }
func (n node) Refuse(v Verb, at string) error { return nil }
func (n node) Second(v Verb, at string) error { return nil }
