package declare

import (
	"cmp"
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"

	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"
	"github.com/goccy/go-yaml/token"
)

// Place is where something stands in the files; lines and columns count from 1.
type Place struct {
	File   string `json:"file"`
	Line   int    `json:"line"`
	Column int    `json:"column"`
}

func (p Place) String() string { return fmt.Sprintf("%s:%d:%d", p.File, p.Line, p.Column) }

// Issue is something that is wrong in the files.
type Issue struct {
	Place
	Problem string `json:"problem"`
	Allowed string `json:"allowed,omitempty"`
	Next    string `json:"next,omitempty"`
}

func (i Issue) Error() string {
	text := i.Place.String() + ": " + i.Problem
	if i.Allowed != "" {
		text += "; allowed: " + i.Allowed
	}
	if i.Next != "" {
		text += "; " + i.Next
	}
	return text
}

// maxValues bounds what the files come to when aliases and blocks are written out.
const maxValues = 2_000_000

// value is a value of a file, with its place.
type value struct {
	place  Place
	scalar any // string, float64, bool or nil
	list   []value
	fields []field // of a mapping
	kind   valueKind
}

type field struct {
	name  string
	place Place // of the name
	value value
}

type valueKind int

const (
	isScalar valueKind = iota
	isList
	isMapping
)

func (v *value) named(name string) *value {
	for i := range v.fields {
		if v.fields[i].name == name {
			return &v.fields[i].value
		}
	}
	return nil
}

// plain is the value as JSON has it.
func (v *value) plain() any {
	switch v.kind {
	case isList:
		list := make([]any, len(v.list))
		for i := range v.list {
			list[i] = v.list[i].plain()
		}
		return list
	case isMapping:
		object := make(map[string]any, len(v.fields))
		for i := range v.fields {
			object[v.fields[i].name] = v.fields[i].value.plain()
		}
		return object
	}
	return v.scalar
}

// loader reads one file.
type loader struct {
	file    string
	env     func(name string) (string, bool)
	anchors map[string]*value
	count   *count
	issues  *[]Issue
}

// count is how many values the files have come to, and whether it was said that
// they are too many.
type count struct {
	values int
	said   bool
}

func (l *loader) wrong(at Place, format string, args ...any) {
	*l.issues = append(*l.issues, Issue{Place: at, Problem: fmt.Sprintf(format, args...)})
}

// load returns the value of a file, or nil of one that is empty or no YAML.
func (l *loader) load(content []byte) *value {
	parsed, err := parser.ParseBytes(content, 0)
	if err != nil {
		*l.issues = append(*l.issues, l.syntax(err))
		return nil
	}
	var body ast.Node
	for _, d := range parsed.Docs {
		if d.Body == nil {
			continue
		}
		if body != nil {
			l.wrong(l.place(d.Body.GetToken()), "a second document begins here: a file has one")
			return nil
		}
		body = d.Body
	}
	if body == nil {
		return nil
	}
	v := l.value(body)
	return &v
}

var syntaxAt = regexp.MustCompile(`^\[(\d+):(\d+)\] (.*)`)

// syntax says where a file is no YAML.
func (l *loader) syntax(err error) Issue {
	first, _, _ := strings.Cut(err.Error(), "\n")
	issue := Issue{Place: Place{l.file, 1, 1}, Problem: "this is not YAML: " + first}
	if parts := syntaxAt.FindStringSubmatch(first); parts != nil {
		fmt.Sscan(parts[1]+" "+parts[2], &issue.Line, &issue.Column)
		issue.Problem = "this is not YAML: " + parts[3]
	}
	return issue
}

func (l *loader) place(t *token.Token) Place {
	if t == nil || t.Position == nil {
		return Place{l.file, 1, 1}
	}
	return Place{l.file, t.Position.Line, t.Position.Column}
}

func (l *loader) value(node ast.Node) value {
	at := l.place(node.GetToken())
	if l.count.values++; l.count.values > maxValues {
		if !l.count.said {
			l.count.said = true
			l.wrong(at, "the files come to more than %d values", maxValues)
		}
		return value{place: at}
	}
	switch n := node.(type) {
	case *ast.MappingNode:
		if len(n.Values) > 0 {
			at = l.place(first(n.Values[0].Key))
		}
		v := value{place: at, kind: isMapping}
		for _, pair := range n.Values {
			l.pair(&v, pair)
		}
		return v
	case *ast.MappingValueNode:
		v := value{place: l.place(first(n.Key)), kind: isMapping}
		l.pair(&v, n)
		return v
	case *ast.SequenceNode:
		v := value{place: at, kind: isList}
		for _, one := range n.Values {
			v.list = append(v.list, l.value(one))
		}
		return v
	case *ast.AnchorNode:
		v := l.value(n.Value)
		l.anchors[n.Name.String()] = &v
		return v
	case *ast.AliasNode:
		known := l.anchors[n.Value.String()]
		if known == nil {
			l.wrong(at, "there is no anchor %s before this", n.Value)
			return value{place: at}
		}
		v := *known
		l.count.values += size(known)
		return v
	case *ast.TagNode:
		return l.value(n.Value)
	case *ast.LiteralNode:
		return value{place: at, scalar: l.filled(at, n.Value.Value)}
	case *ast.StringNode:
		return value{place: at, scalar: l.filled(at, n.Value)}
	case *ast.BoolNode:
		return value{place: at, scalar: n.Value}
	case *ast.NullNode:
		return value{place: at}
	case *ast.IntegerNode:
		switch i := n.Value.(type) {
		case int64:
			return value{place: at, scalar: float64(i)}
		case uint64:
			return value{place: at, scalar: float64(i)}
		}
	case *ast.FloatNode:
		return value{place: at, scalar: n.Value}
	}
	return value{place: at, scalar: l.filled(at, node.String())}
}

func first(node ast.Node) *token.Token { return node.GetToken() }

func size(v *value) int {
	n := 1
	for i := range v.list {
		n += size(&v.list[i])
	}
	for i := range v.fields {
		n += size(&v.fields[i].value)
	}
	return n
}

func (l *loader) pair(to *value, pair *ast.MappingValueNode) {
	at := l.place(first(pair.Key))
	if _, merge := pair.Key.(*ast.MergeKeyNode); merge {
		l.wrong(at, "<< is not read here; name blocks and write use: NAME")
		return
	}
	name := ""
	switch k := pair.Key.(type) {
	case *ast.StringNode:
		name = k.Value
	default:
		name = strings.TrimSpace(k.String())
	}
	if to.named(name) != nil {
		l.wrong(at, "%s stands here a second time", name)
		return
	}
	to.fields = append(to.fields, field{name, at, l.value(pair.Value)})
}

var variable = regexp.MustCompile(`\$?\$\{([^}]*)\}`)

// filled puts the values of the environment into a text: ${NAME}, or
// ${NAME:-otherwise}; $${ stands for ${ itself. A text that is one such value
// alone may come to a number, or to true or false.
func (l *loader) filled(at Place, text string) any {
	found := variable.FindAllString(text, -1)
	if found == nil {
		return text
	}
	out := variable.ReplaceAllStringFunc(text, func(whole string) string {
		if strings.HasPrefix(whole, "$$") {
			return whole[1:]
		}
		name, otherwise, has := strings.Cut(whole[2:len(whole)-1], ":-")
		if set, ok := l.env(name); ok && set != "" {
			return set
		}
		if !has {
			*l.issues = append(*l.issues, Issue{Place: at, Problem: fmt.Sprintf("the environment has no %s", name), Next: fmt.Sprintf("set it, or write ${%s:-VALUE} with what it is otherwise", name)})
		}
		return otherwise
	})
	if len(found) == 1 && found[0] == text && !strings.HasPrefix(text, "$$") {
		return plainScalar(out)
	}
	return out
}

// plainScalar reads a text as a file would have it without quotes.
func plainScalar(text string) any {
	parsed, err := parser.ParseBytes([]byte(text), 0)
	if err != nil || len(parsed.Docs) != 1 || parsed.Docs[0].Body == nil {
		return text
	}
	switch n := parsed.Docs[0].Body.(type) {
	case *ast.BoolNode:
		return n.Value
	case *ast.IntegerNode:
		if i, ok := n.Value.(uint64); ok {
			return float64(i)
		}
	case *ast.FloatNode:
		return n.Value
	}
	return text
}

// Files are what declarations are read from, by their names.
type Files interface {
	// List returns the names of the files of a declaration, in order.
	List() ([]string, error)
	// Read returns the content of one of them, or of one that it includes.
	Read(name string) ([]byte, error)
}

// Declaration is what files declare.
type Declaration struct {
	Name   string
	Things []Thing
}

// reading is how far the reading of a declaration is.
type reading struct {
	files    Files
	env      func(string) (string, bool)
	issues   []Issue
	count    count
	blocks   map[string]*field
	included map[string]bool
	out      Declaration
	named    Place
	seen     map[string]Place // things by key
}

// Read reads a declaration. It returns all that is wrong with it, in the order of
// the files; only without is it one.
func Read(files Files, env func(name string) (string, bool)) (*Declaration, []Issue, error) {
	names, err := files.List()
	if err != nil {
		return nil, nil, err
	}
	r := &reading{files: files, env: env, blocks: map[string]*field{}, included: map[string]bool{}, seen: map[string]Place{}}
	var roots []*value
	for _, name := range names {
		if root := r.load(name, Place{}); root != nil {
			roots = append(roots, root)
		}
	}
	for _, root := range roots {
		r.file(root)
	}
	if len(r.issues) == 0 && r.out.Name == "" {
		at := Place{"", 1, 1}
		if len(names) > 0 {
			at.File = names[0]
		}
		r.issue(at, "the declaration has no name", "", "begin a file with declaration: NAME")
	}
	Sort(r.out.Things)
	slices.SortStableFunc(r.issues, func(a, b Issue) int {
		return cmp.Or(cmp.Compare(slices.Index(names, a.File), slices.Index(names, b.File)), cmp.Compare(a.Line, b.Line), cmp.Compare(a.Column, b.Column))
	})
	return &r.out, r.issues, nil
}

func (r *reading) issue(at Place, problem, allowed, next string) {
	r.issues = append(r.issues, Issue{at, problem, allowed, next})
}

// load reads a file, notes its blocks, and reads what it includes for theirs.
func (r *reading) load(name string, from Place) *value {
	if r.included[name] {
		return nil
	}
	r.included[name] = true
	content, err := r.files.Read(name)
	if err != nil {
		if from.File == "" {
			from = Place{name, 1, 1}
		}
		r.issue(from, fmt.Sprintf("%s cannot be read: %v", name, err), "", "")
		return nil
	}
	l := &loader{file: name, env: r.env, anchors: map[string]*value{}, count: &r.count, issues: &r.issues}
	root := l.load(content)
	if root == nil {
		return nil
	}
	if root.kind != isMapping {
		r.issue(root.place, "a file is a mapping", strings.Join(fileKeys, ", "), "")
		return nil
	}
	if blocks := root.named("blocks"); blocks != nil {
		for i := range blocks.fields {
			b := &blocks.fields[i]
			if known := r.blocks[b.name]; known != nil {
				r.issue(b.place, fmt.Sprintf("the block %s stands at %s too", b.name, known.place), "", "")
				continue
			}
			r.blocks[b.name] = b
		}
	}
	if include := root.named("include"); include != nil {
		for _, one := range include.texts() {
			r.load(path.Join(path.Dir(name), one.text), one.place)
		}
	}
	return root
}

type placedText struct {
	text  string
	place Place
}

// texts are those of a list, or of one text alone.
func (v *value) texts() (all []placedText) {
	for _, one := range append(slices.Clone(v.list), *v) {
		if text, ok := one.scalar.(string); ok && one.kind == isScalar {
			all = append(all, placedText{text, one.place})
		}
	}
	return all
}
