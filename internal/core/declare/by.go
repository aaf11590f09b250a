package declare

import "context"

// byKey is where a context has the declaration that makes its changes.
type byKey struct{}

// By has changes made with the context be those of a declaration, and which revision of it.
func By(ctx context.Context, declaration string) context.Context {
	return context.WithValue(ctx, byKey{}, declaration)
}

// MadeBy returns the declaration that makes the changes of a context.
func MadeBy(ctx context.Context) (declaration string, ok bool) {
	declaration, ok = ctx.Value(byKey{}).(string)
	return declaration, ok
}
