package expr

import (
	"strconv"
	"strings"

	"cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/operators"
	"cel.dev/cel-go/common/types"
)

// Looks returns what of a message the condition looks at, each once: key, detail and the other
// names of Variables; header.NAME, or headers when it may be any of them; a JSON Pointer (RFC
// 6901) into the body, or body when it may be all of it. What stands behind a pointer is looked
// at too.
func (c *Condition) Looks() []string { return c.plan.looks() }

// Looks returns what of a message the expression looks at, as that of a condition.
func (v *Value) Looks() []string { return v.plan.looks() }

func (p *plan) looks() (all []string) {
	seen := map[string]bool{}
	note := func(at string) {
		if !seen[at] {
			seen[at] = true
			all = append(all, at)
		}
	}
	var visit func(e ast.NavigableExpr)
	visit = func(e ast.NavigableExpr) {
		name, steps := chain(e)
		switch name {
		case "body":
			if len(steps) == 0 {
				note("body")
				break
			}
			for i, s := range steps {
				steps[i] = escape.Replace(s)
			}
			note("/" + strings.Join(steps, "/"))
		case "headers":
			if len(steps) == 0 {
				note("headers")
				break
			}
			note("header." + steps[0])
		case "text":
			note("body")
		case "":
		default:
			note(name)
		}
		if name != "" && len(steps) > 0 {
			return // what it is made of was looked through
		}
		for _, c := range e.Children() {
			visit(c)
		}
	}
	visit(ast.NavigateAST(p.tree.NativeRep()))
	return all
}

var escape = strings.NewReplacer("~", "~0", "/", "~1")

// chain returns the name at which a chain of fields with constant names begins, empty for what is
// none, and the fields.
func chain(e ast.NavigableExpr) (name string, steps []string) {
	switch e.Kind() {
	case ast.IdentKind:
		return strings.TrimPrefix(e.AsIdent(), "."), nil
	case ast.SelectKind:
		if name, steps = chain(e.Children()[0]); name != "" {
			steps = append(steps, e.AsSelect().FieldName())
		}
		return name, steps
	case ast.CallKind:
		if e.AsCall().FunctionName() != operators.Index {
			return "", nil
		}
		of := e.Children()
		at, written := literal(of[1])
		if !written {
			return "", nil
		}
		if name, steps = chain(of[0]); name == "" {
			return "", nil
		}
		switch at := at.(type) {
		case types.String:
			return name, append(steps, string(at))
		case types.Int:
			return name, append(steps, strconv.FormatInt(int64(at), 10))
		}
	}
	return "", nil
}
