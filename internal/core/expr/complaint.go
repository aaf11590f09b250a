package expr

import (
	"fmt"
	"regexp"
	"strings"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/operators"
	"cel.dev/cel-go/common/types"

	"steadyferry/internal/core/address"
)

const example = `an example: body.celsius > 8 && key.startsWith("box-")`

// complaint says in our words what the compiler means by a message. The parts of
// the message that the pattern takes are what is said of them is about.
type complaint struct {
	pattern *regexp.Regexp
	say     func(source string, parts []string) (problem, hint string)
}

func says(pattern, problem, hint string) complaint {
	return complaint{regexp.MustCompile(pattern), func(string, []string) (string, string) { return problem, hint }}
}

// complaints are tried in their order.
var complaints = []complaint{
	{regexp.MustCompile(`undeclared reference to '([^']*)'`), unknownName},
	says(`recursion limit`, fmt.Sprintf("it is nested more than %d deep", maxNesting), "write it with fewer brackets or calls in each other"),
	says(`mismatched input '<EOF>' expecting ':'`, "the condition ends too early: after ? and a value comes : and another", "such as: has(body.box) ? body.box : key"),
	says(`(mismatched|extraneous) input '<EOF>'`, "the condition ends too early", example),
	{regexp.MustCompile(`missing '(.)' at`), func(_ string, parts []string) (string, string) {
		return "a " + parts[1] + " is missing", "brackets and quotes come in pairs"
	}},
	{regexp.MustCompile(`token recognition error at: '(["'].*)'`), func(string, []string) (string, string) {
		return "the text that begins here has no end", "close it with the quote that it begins with"
	}},
	{regexp.MustCompile(`token recognition error at: '= *'`), func(string, []string) (string, string) { return "one = means nothing here", "write == to compare" }},
	{regexp.MustCompile(`token recognition error at: '(.*)'`), func(_ string, parts []string) (string, string) {
		return fmt.Sprintf("%q is no part of a condition", strings.TrimSpace(parts[1])), example
	}},
	{regexp.MustCompile(`(?:mismatched|extraneous) input '(.*?)' expecting|no viable alternative at input '(.*)'`), unexpected},
	says(`invalid argument to has\(\) macro`, "has() asks for a field", "such as has(body.celsius)"),
	{regexp.MustCompile(`found no matching overload for '([^']*)' applied to '(.*)'`), noSuchOperation},
	{regexp.MustCompile(`type conversion error from '(\w+)' to '([\w.]+)'`), func(_ string, parts []string) (string, string) {
		return fmt.Sprintf("this is not %s", typeInWords(parts[2])), `a duration is duration("90s"), a time is timestamp("2026-11-23T08:00:00Z")`
	}},
}

// describe says what is wrong with a source that does not compile.
func describe(source string, issues *cel.Issues) *Error {
	first := issues.Errors()[0]
	return complain(source, max(first.Location.Column()+1, 1), first.Message)
}

func complain(source string, column int, message string) *Error {
	e := &Error{Column: column, Problem: "it cannot be read from here on", Hint: example}
	if strings.TrimSpace(source) == "" {
		e.Problem = "it is empty"
		return e
	}
	for _, c := range complaints {
		if parts := c.pattern.FindStringSubmatch(message); parts != nil {
			e.Problem, e.Hint = c.say(source, parts)
			return e
		}
	}
	return e
}

func unknownName(source string, parts []string) (problem, hint string) {
	name := parts[1]
	var names []string
	for _, v := range Variables {
		names = append(names, v.Name)
	}
	hint = "a condition can use " + strings.Join(names, ", ")
	if near := address.Nearest(name, names); near != "" {
		hint = fmt.Sprintf("did you mean %q?", near)
	} else if !strings.Contains(source, "body.") {
		hint = fmt.Sprintf("for a field of the body write body.%s; %s", name, hint)
	}
	return fmt.Sprintf("there is no %q", name), hint
}

// other is how what people write for an operator is written.
var other = map[string]string{"and": "&&", "or": "||", "not": "!", "is": "==", ">": "", "<": "", "&": "&&", "|": "||"}

func unexpected(source string, parts []string) (problem, hint string) {
	text := parts[1] + parts[2]
	problem, hint = fmt.Sprintf("%q is not expected here", text), example
	before := regexp.MustCompile(`(?i)\b(not|and|or|is)\s+` + regexp.QuoteMeta(text)).FindStringSubmatch(source)
	switch {
	case other[strings.ToLower(text)] != "":
		hint = "write " + other[strings.ToLower(text)]
	case before != nil:
		hint = fmt.Sprintf("for %s write %s", before[1], other[strings.ToLower(before[1])])
	case text == "." || strings.HasSuffix(text, "."):
		problem, hint = "the name of a field is missing", "such as body.celsius"
	case text == ")" || text == "]" || text == "}":
		hint = "brackets come in pairs, and something stands after each comma"
	}
	return problem, hint
}

func noSuchOperation(_ string, parts []string) (problem, hint string) {
	name, types := parts[1], parts[2]
	hint = "both sides must be of the same type: text in quotes, numbers without, times as timestamp(\"2026-11-23T08:00:00Z\")"
	of, arguments, method := strings.Cut(types, ".(")
	if !method {
		arguments = strings.TrimPrefix(types, "(")
	}
	var said []string
	for t := range strings.SplitSeq(strings.TrimSuffix(arguments, ")"), ", ") {
		if t != "" {
			said = append(said, typeInWords(t))
		}
	}
	list := strings.Join(said, " and ")
	if shown, ok := operators.FindReverse(name); ok && shown != "" {
		return fmt.Sprintf("%s does not go with %s", shown, list), hint
	}
	if shown, ok := operators.FindReverseBinaryOperator(name); ok {
		return fmt.Sprintf("%s does not go with %s", shown, list), hint
	}
	if list == "" {
		list = "nothing"
	}
	if method {
		return fmt.Sprintf("%s() of %s does not take %s", name, typeInWords(of), list), `such as key.startsWith("box-") or text.contains("F")`
	}
	return fmt.Sprintf("%s() does not take %s", name, list), example
}

// unlikeAt says what the call with the id compares with what, as far as that is
// written in the condition.
func (p *plan) unlikeAt(id int64) string {
	text := "it compares unlike things"
	ast.PreOrderVisit(p.tree.NativeRep().Expr(), ast.NewExprVisitor(func(e ast.Expr) {
		if e.ID() != id || e.Kind() != ast.CallKind {
			return
		}
		call := e.AsCall()
		name := call.FunctionName() + "()"
		if shown, ok := operators.FindReverseBinaryOperator(call.FunctionName()); ok {
			name = shown
		}
		column := p.tree.NativeRep().SourceInfo().GetStartLocation(id).Column() + 1
		text = fmt.Sprintf("%s at column %d goes with something else than is there", name, column)
		for _, arg := range call.Args() {
			if t := p.tree.NativeRep().GetType(arg.ID()); t != nil && t.Kind() != types.DynKind && !call.IsMemberFunction() {
				text = fmt.Sprintf("%s at column %d has %s on one side and something else on the other", name, column, typeInWords(t.String()))
			}
		}
	}))
	return text
}

var typeWords = map[string]string{"string": "text", "int": "a number", "uint": "a number", "double": "a number", "bool": "true or false", "timestamp": "a time", "google.protobuf.Timestamp": "a time",
	"duration": "a duration", "google.protobuf.Duration": "a duration", "null_type": "null", "null": "null", "bytes": "bytes", "dyn": "a value of the body"}

// typeInWords names a type of CEL for people.
func typeInWords(t string) string {
	switch said := typeWords[t]; {
	case said != "":
		return said
	case strings.HasPrefix(t, "list"):
		return "a list"
	case strings.HasPrefix(t, "map"):
		return "an object"
	}
	return "a " + t
}
