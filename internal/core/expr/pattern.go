package expr

import (
	"fmt"
	"io"
	"regexp"
	"regexp/syntax"
	"unicode/utf8"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"cel.dev/cel-go/interpreter"
)

// maxPattern bounds the instructions of a pattern: its work on a text is at
// most their number times the text's bytes.
const maxPattern = 1000

// quickSteps is up to how much work a pattern runs without looking up.
const quickSteps = 256 << 10

// pattern is a compiled regular expression (RE2 syntax).
type pattern struct {
	re     *regexp.Regexp
	size   int64
	prefix *finder // what every match begins with, nil if there is no such text
}

// compilePattern reads a pattern, or says what is wrong with it. The size is
// estimated before it is compiled: a repetition is cheap to write.
func compilePattern(source string) (*pattern, string) {
	tree, err := syntax.Parse(source, syntax.Perl)
	if err != nil {
		return nil, fmt.Sprintf("the pattern does not compile: %v", err)
	}
	if n := instructions(tree); n > maxPattern {
		return nil, fmt.Sprintf("the pattern has %d steps; limit %d", n, maxPattern)
	}
	prog, err := syntax.Compile(tree.Simplify())
	if err != nil {
		return nil, fmt.Sprintf("the pattern does not compile: %v", err)
	}
	re, err := regexp.Compile(source)
	if err != nil {
		return nil, fmt.Sprintf("the pattern does not compile: %v", err)
	}
	p := &pattern{re: re, size: int64(len(prog.Inst))}
	if prefix, _ := prog.Prefix(); prefix != "" {
		p.prefix = newFinder(prefix)
	}
	return p, ""
}

// instructions estimates from above what a pattern is compiled to, up to
// somewhat more than the limit.
func instructions(r *syntax.Regexp) (n int) {
	n = 2
	for _, sub := range r.Sub {
		if n += instructions(sub); n > maxPattern {
			return n
		}
	}
	switch r.Op {
	case syntax.OpLiteral:
		n += len(r.Rune)
	case syntax.OpCharClass:
		n += len(r.Rune) / 8 // a large class costs more to look through
	case syntax.OpRepeat:
		times := max(r.Min, r.Max)
		if r.Max < 0 {
			times = r.Min + 1
		}
		n *= max(times, 1)
	}
	return n
}

// matching is a call of matches with a pattern that was written out.
type matching struct {
	id      int64
	text    interpreter.InterpretableV2
	pattern *pattern
	meter   *meter
}

// ID implements interpreter.InterpretableV2.
func (c *matching) ID() int64 { return c.id }

// Eval implements interpreter.Interpretable.
func (c *matching) Eval(a cel.Activation) ref.Val { return interpreter.EvalActivation(a, c.Exec) }

// Exec implements interpreter.InterpretableV2.
func (c *matching) Exec(f *interpreter.ExecutionFrame) ref.Val {
	v := c.text.Exec(f)
	if types.IsUnknownOrError(v) {
		return v
	}
	s, ok := v.(types.String)
	if !ok {
		return types.LabelErrNode(c.id, types.NewErr("no such overload: matches"))
	}
	return types.Bool(c.pattern.match(c.meter, string(s)))
}

func (p *pattern) match(m *meter, s string) bool {
	if p.prefix != nil {
		m.read(len(s))
		at := p.prefix.in(s)
		if at < 0 {
			return false
		}
		s = s[at:] // no match begins before it, and what follows it does not look back
	}
	if steps := p.size * int64(len(s)); steps <= quickSteps {
		m.steps(steps)
		return p.re.MatchString(s)
	}
	return p.re.MatchReader(&metered{meter: m, text: s, each: p.size})
}

// metered reads a text and pays for what a pattern does with it.
type metered struct {
	meter *meter
	text  string
	each  int64 // steps a byte
	owed  int64
}

// ReadRune implements io.RuneReader.
func (r *metered) ReadRune() (rune, int, error) {
	if len(r.text) == 0 {
		return 0, 0, io.EOF
	}
	c, size := rune(r.text[0]), 1
	if c >= utf8.RuneSelf {
		c, size = utf8.DecodeRuneInString(r.text)
	}
	r.text = r.text[size:]
	if r.owed += r.each * int64(size); r.owed >= 64*stepsPerUnit {
		r.meter.steps(r.owed)
		r.owed = 0
	}
	return c, size, nil
}
