package expr

import (
	"strings"
	"unicode/utf8"

	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
)

func containsPrice(m *meter, args []ref.Val) ref.Val {
	s, ok := args[0].(types.String)
	sub, both := args[1].(types.String)
	if !ok || !both {
		return nil
	}
	m.read(len(s) + 4*len(sub))
	return types.Bool(newFinder(string(sub)).in(string(s)) >= 0)
}

// indexPrice finds a text in another; places are counted in characters.
func indexPrice(last bool) price {
	return func(m *meter, args []ref.Val) ref.Val {
		s, ok := args[0].(types.String)
		sub, both := args[1].(types.String)
		if !ok || !both {
			return nil
		}
		m.read(3*len(s) + 4*len(sub))
		text, wanted := whole(m, string(s)), whole(m, string(sub))
		runes := utf8.RuneCountInString(text)
		from := 0
		if last {
			from = runes
			if len(args) == 2 && wanted != "" {
				from = runes - 1
			}
		}
		if len(args) == 3 {
			given, ok := args[2].(types.Int)
			if !ok {
				return nil
			}
			if given < 0 {
				return types.NewErr("index out of range: %d", given)
			}
			from = int(min(given, types.Int(runes)+1))
		}
		switch {
		case wanted == "":
			return types.Int(min(from, runes))
		case from >= runes && !(last && len(args) == 2):
			return types.Int(-1)
		case !last:
			at := byteOf(text, from)
			found := newFinder(wanted).in(text[at:])
			if found < 0 {
				return types.Int(-1)
			}
			return types.Int(from + utf8.RuneCountInString(text[at:at+found]))
		}
		if from < 0 {
			return types.Int(-1)
		}
		// The last place that is not after from.
		end := min(byteOf(text, min(from, runes))+len(wanted), len(text))
		m.make(end + len(wanted))
		found := newFinder(backward(wanted)).in(backward(text[:end]))
		if found < 0 {
			return types.Int(-1)
		}
		return types.Int(utf8.RuneCountInString(text[:end-found-len(wanted)]))
	}
}

func backward(s string) string {
	b := make([]byte, len(s))
	for i := range b {
		b[i] = s[len(s)-1-i]
	}
	return view(b)
}

// whole makes a text valid UTF-8, a broken byte a character of its own.
func whole(m *meter, s string) string {
	if utf8.ValidString(s) {
		return s
	}
	m.make(7 * len(s))
	return string([]rune(s))
}

// byteOf returns where the n-th character begins.
func byteOf(s string, n int) int {
	for i := range s {
		if n == 0 {
			return i
		}
		n--
	}
	return len(s)
}

func replacePrice(m *meter, args []ref.Val) ref.Val {
	s, ok := args[0].(types.String)
	old, both := args[1].(types.String)
	with, all := args[2].(types.String)
	if !ok || !both || !all {
		return nil
	}
	most := -1
	if len(args) == 4 {
		n, ok := args[3].(types.Int)
		if !ok {
			return nil
		}
		most = int(max(min(n, 1<<40), -1))
	}
	places := m.places(string(s), string(old), most)
	if places == 0 || old == with {
		return s
	}
	m.make(len(s) + places*max(len(with)-len(old), 0))
	if old == "" {
		return types.String(strings.Replace(string(s), "", string(with), most))
	}
	var out strings.Builder
	out.Grow(len(s) + places*(len(with)-len(old)))
	find, rest := newFinder(string(old)), string(s)
	for range places {
		at := find.in(rest)
		out.WriteString(rest[:at])
		out.WriteString(string(with))
		rest = rest[at+len(old):]
	}
	out.WriteString(rest)
	return types.String(out.String())
}

// places counts how often a text is in another, up to most unless that is
// negative; nothing is between all characters.
func (m *meter) places(s, part string, most int) (n int) {
	m.read(2*len(s) + 4*len(part))
	if part == "" {
		n = utf8.RuneCountInString(s) + 1
		if most >= 0 {
			n = min(n, most)
		}
		return n
	}
	find := newFinder(part)
	for most < 0 || n < most {
		at := find.in(s)
		if at < 0 {
			break
		}
		n++
		s = s[at+len(part):]
	}
	m.pay(int64(n))
	return n
}

func splitPrice(m *meter, args []ref.Val) ref.Val {
	s, ok := args[0].(types.String)
	sep, both := args[1].(types.String)
	if !ok || !both {
		return nil
	}
	most := -1
	if len(args) == 3 {
		n, ok := args[2].(types.Int)
		if !ok {
			return nil
		}
		most = int(max(min(n, 1<<40), -1))
	}
	if most == 0 {
		return types.NewStringList(types.DefaultTypeAdapter, nil)
	}
	cuts := m.places(string(s), string(sep), most)
	m.make((cuts + 1) * cellBytes)
	if sep == "" {
		return types.NewStringList(types.DefaultTypeAdapter, strings.SplitN(string(s), "", most))
	}
	find, rest := newFinder(string(sep)), string(s)
	parts := make([]string, 0, cuts+1)
	for most < 0 || len(parts) < most-1 {
		at := find.in(rest)
		if at < 0 {
			break
		}
		parts = append(parts, rest[:at])
		rest = rest[at+len(sep):]
	}
	return types.NewStringList(types.DefaultTypeAdapter, append(parts, rest))
}

// finder finds a text in others in time that grows with their length alone:
// by the standard library where that holds, else with the table of Knuth,
// Morris and Pratt ("Fast pattern matching in strings", 1977).
type finder struct {
	part string
	back []int32 // how much of part still fits when its next byte does not
}

// shortPart is up to where the standard library compares in one step.
const shortPart = 32

func newFinder(part string) *finder {
	f := &finder{part: part}
	if len(part) <= shortPart {
		return f
	}
	f.back = make([]int32, len(part)+1)
	f.back[0] = -1
	k := int32(-1)
	for i := 0; i < len(part); i++ {
		for k >= 0 && part[k] != part[i] {
			k = f.back[k]
		}
		k++
		f.back[i+1] = k
	}
	return f
}

// in returns where the text is first in s, or -1.
func (f *finder) in(s string) int {
	if f.back == nil {
		return strings.Index(s, f.part)
	}
	k := int32(0)
	for i := 0; i < len(s); i++ {
		for k >= 0 && f.part[k] != s[i] {
			k = f.back[k]
		}
		if k++; int(k) == len(f.part) {
			return i + 1 - len(f.part)
		}
	}
	return -1
}
