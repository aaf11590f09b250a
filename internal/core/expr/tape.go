package expr

import (
	"encoding/json"
	"strconv"
	"unicode/utf8"
	"unsafe"
)

// tape is a parsed JSON text: one node a value in the order of the text, so
// that parsing is one pass and allocates nothing once the tape has grown. It
// takes the same texts as encoding/json, and understands them the same way.
// It points into the text and is valid as long as that is not changed.
type tape struct {
	text  []byte
	nodes []node
	open  []uint32 // containers that are not closed yet
	meter *meter
}

// node is a value: of a scalar where it is in the text, of a container the
// node behind it and how many values it has (a member is two: name, value).
type node struct {
	at   uint32
	size uint32 // with the kind in its three highest bits
}

type kind uint32

const (
	kindWord    kind = iota << 29 // null, true, false
	kindNumber                    // in range of a float64
	kindText                      // plain
	kindEscaped                   // a text with escapes or broken UTF-8
	kindArray
	kindObject
)

const sizeMask = 1<<29 - 1

func (n node) kind() kind { return kind(n.size &^ sizeMask) }
func (n node) len() int   { return int(n.size & sizeMask) }

// Bounds of a text.
const (
	maxNodes  = 4<<20 + 64
	maxDepth  = 10_000 // as encoding/json
	keptNodes = 1 << 16
)

// release lets go of what an unusually large text has left.
func (t *tape) release() {
	if cap(t.nodes) > keptNodes {
		t.nodes = nil
	}
	t.text = nil
}

// parse reads a JSON text; it reports whether it is one.
func (t *tape) parse(text []byte) bool {
	t.text, t.nodes, t.open = text, t.nodes[:0], t.open[:0]
	t.meter.read(len(text))
	if len(text) > sizeMask {
		t.meter.pay(maxWork)
	}
	i := t.space(0)
	for {
		var ok bool
		if i, ok = t.value(i); !ok {
			return false
		}
		for { // behind a value
			if i = t.space(i); len(t.open) == 0 {
				return i == len(text)
			}
			if i == len(text) {
				return false
			}
			top := t.open[len(t.open)-1]
			isObject := t.nodes[top].kind() == kindObject
			if c := text[i]; c == ',' {
				if i = t.space(i + 1); isObject {
					if i, ok = t.name(i); !ok {
						return false
					}
				}
				break
			} else if c == ']' && !isObject || c == '}' && isObject {
				t.close(top)
				i++
				continue
			}
			return false
		}
	}
}

func (t *tape) space(i int) int {
	for i < len(t.text) {
		switch t.text[i] {
		case ' ', '\n', '\r', '\t':
			i++
		default:
			return i
		}
	}
	return i
}

func (t *tape) add(n node) {
	if len(t.nodes) == cap(t.nodes) {
		t.grow()
	}
	t.nodes = append(t.nodes, n)
}

// grow makes room: for a large text at once, since doubling would need half
// of it again.
func (t *tape) grow() {
	if len(t.nodes) >= maxNodes {
		t.meter.pay(maxWork + 1)
	}
	t.meter.pay(lookEvery)
	want := max(64, 2*len(t.nodes))
	if want > keptNodes {
		values := 2
		for _, c := range t.text {
			if c == ',' || c == ':' || c == '[' || c == '{' {
				values++
			}
		}
		want = max(len(t.nodes)+1, values)
	}
	grown := make([]node, len(t.nodes), min(want, maxNodes))
	copy(grown, t.nodes)
	t.nodes = grown
}

// value reads a scalar whole, of a container what comes before its first
// value; an empty one is closed.
func (t *tape) value(i int) (next int, ok bool) {
	for {
		if i >= len(t.text) {
			return i, false
		}
		if len(t.open) > 0 {
			t.nodes[t.open[len(t.open)-1]].size++
		}
		switch c := t.text[i]; c {
		case '"':
			return t.textAt(i)
		case '{', '[':
			if len(t.open) == maxDepth {
				return i, false
			}
			at := uint32(len(t.nodes))
			t.open = append(t.open, at)
			k, end := kindArray, byte(']')
			if c == '{' {
				k, end = kindObject, '}'
			}
			t.add(node{0, uint32(k)})
			if i = t.space(i + 1); i < len(t.text) && t.text[i] == end {
				t.close(at)
				return i + 1, true
			}
			if c == '{' {
				if i, ok = t.name(i); !ok {
					return i, false
				}
			}
		case 'n':
			return t.word(i, "null")
		case 't':
			return t.word(i, "true")
		case 'f':
			return t.word(i, "false")
		default:
			return t.number(i)
		}
	}
}

func (t *tape) close(at uint32) {
	t.nodes[at].at = uint32(len(t.nodes))
	t.open = t.open[:len(t.open)-1]
}

// name reads the name of a member, and goes on to its value.
func (t *tape) name(i int) (int, bool) {
	if i >= len(t.text) || t.text[i] != '"' {
		return i, false
	}
	i, ok := t.textAt(i)
	if i = t.space(i); !ok || i >= len(t.text) || t.text[i] != ':' {
		return i, false
	}
	return t.space(i + 1), true
}

func (t *tape) word(i int, w string) (int, bool) {
	if len(t.text)-i < len(w) || string(t.text[i:i+len(w)]) != w {
		return i, false
	}
	t.add(node{uint32(i), uint32(kindWord) | uint32(len(w))})
	return i + len(w), true
}

func (t *tape) textAt(i int) (int, bool) {
	b, start := t.text, i+1
	k, wide := kindText, false
	for i = start; i < len(b); i++ {
		c := b[i]
		if c >= ' ' && c < utf8.RuneSelf && c != '"' && c != '\\' {
			continue
		}
		switch {
		case c == '"':
			if wide && k == kindText && !utf8.Valid(b[start:i]) {
				k = kindEscaped
			}
			t.add(node{uint32(start), uint32(k) | uint32(i-start)})
			return i + 1, true
		case c < ' ':
			return i, false
		case c != '\\':
			wide = true
		default:
			k = kindEscaped
			if i++; i == len(b) {
				return i, false
			}
			switch b[i] {
			case '"', '\\', '/', 'b', 'f', 'n', 'r', 't':
			case 'u':
				if len(b)-i < 5 || !isHex(b[i+1]) || !isHex(b[i+2]) || !isHex(b[i+3]) || !isHex(b[i+4]) {
					return i, false
				}
				i += 4
			default:
				return i, false
			}
		}
	}
	return i, false
}

func isHex(c byte) bool {
	return c >= '0' && c <= '9' || c >= 'a' && c <= 'f' || c >= 'A' && c <= 'F'
}

// number takes what the grammar of JSON allows and a float64 can hold.
func (t *tape) number(i int) (int, bool) {
	b, start := t.text, i
	digits := func() bool {
		from := i
		for i < len(b) && b[i] >= '0' && b[i] <= '9' {
			i++
		}
		return i > from
	}
	if b[i] == '-' {
		i++
	}
	if i < len(b) && b[i] == '0' {
		i++
	} else if !digits() {
		return i, false
	}
	if i < len(b) && b[i] == '.' {
		i++
		if !digits() {
			return i, false
		}
	}
	exponent := i < len(b) && (b[i] == 'e' || b[i] == 'E')
	if exponent {
		i++
		if i < len(b) && (b[i] == '+' || b[i] == '-') {
			i++
		}
		if !digits() {
			return i, false
		}
	}
	if exponent || i-start > 300 {
		if _, err := strconv.ParseFloat(view(b[start:i]), 64); err != nil {
			return i, false
		}
	}
	t.add(node{uint32(start), uint32(kindNumber) | uint32(i-start)})
	return i, true
}

// view shows bytes as a text without copying them.
func view(b []byte) string { return unsafe.String(unsafe.SliceData(b), len(b)) }

// after returns the node behind the value at a node.
func (t *tape) after(at uint32) uint32 {
	if n := t.nodes[at]; n.kind() >= kindArray {
		return n.at
	}
	return at + 1
}

// bytes returns a scalar as it stands in the text.
func (t *tape) bytes(at uint32) []byte {
	n := t.nodes[at]
	return t.text[n.at : int(n.at)+n.len()]
}

// stringAt returns what a text says.
func (t *tape) stringAt(at uint32) string {
	b := t.bytes(at)
	if t.nodes[at].kind() == kindText {
		return view(b)
	}
	t.meter.make(3 * len(b)) // a broken byte becomes three
	n := t.nodes[at]
	var s string
	if err := json.Unmarshal(t.text[n.at-1:int(n.at)+n.len()+1], &s); err != nil {
		panic(err) // it was parsed
	}
	return s
}

// is reports whether a text says s.
func (t *tape) is(at uint32, s string) bool {
	if t.nodes[at].kind() == kindText {
		return string(t.bytes(at)) == s
	}
	return t.stringAt(at) == s
}

func (t *tape) numberAt(at uint32) float64 {
	f, err := strconv.ParseFloat(view(t.bytes(at)), 64)
	if err != nil {
		panic(err) // it was parsed
	}
	return f
}
