package address

import "strings"

// Pattern names several things: each name of an address may have * for any
// characters. A pattern covers what its names fit, and all that belongs to it:
// coldchain covers the space with its channels and groups, coldchain/in* its
// channels that begin so with their groups, coldchain/*@* the groups alone.
type Pattern struct {
	text string
	// names of space, channel and group; empty: any, and none needed
	space, channel, group string
}

const patternForms = "*, coldchain, coldchain/in*, coldchain/*@*"

// ParsePattern reads a pattern. The error is an *Error.
func ParsePattern(text string) (Pattern, error) {
	p := Pattern{text: text}
	p.space, p.channel, p.group = namesIn(text)
	bad := func(problem string) (Pattern, error) {
		return Pattern{}, &Error{Text: text, Problem: problem, Allowed: patternForms}
	}
	switch {
	case text == "":
		return bad("it is empty")
	case text != Address{Space: p.space, Channel: p.channel, Group: p.group, Partition: -1, Offset: -1}.String():
		return bad("a name is missing")
	}
	names := []string{p.space}
	if p.channel != "" {
		names = append(names, p.channel)
	}
	if p.group != "" {
		for reader := range strings.SplitSeq(p.group, "/") {
			names = append(names, strings.TrimPrefix(reader, ofDead))
		}
	}
	for _, name := range names {
		if err := CheckName(strings.ReplaceAll(name, "*", "a")); err != nil {
			return bad(err.Error())
		}
	}
	return p, nil
}

func (p Pattern) String() string { return p.text }

// Covers reports whether the pattern covers the thing with the address.
func (p Pattern) Covers(address string) bool {
	space, channel, group := namesIn(address)
	return fits(p.space, space) && (p.channel == "" || channel != "" && fits(p.channel, channel)) && (p.group == "" || group != "" && fits(p.group, group))
}

// Reaches reports whether the pattern covers a space or may cover something in it.
func (p Pattern) Reaches(space string) bool { return fits(p.space, space) }

// fits matches * in a pattern against any characters, from the left as few as
// possible: each part between two of them is looked for behind the one before.
func fits(pattern, name string) bool {
	parts := strings.Split(pattern, "*")
	if len(parts) == 1 {
		return pattern == name
	}
	if !strings.HasPrefix(name, parts[0]) {
		return false
	}
	name = name[len(parts[0]):]
	for _, part := range parts[1 : len(parts)-1] {
		at := strings.Index(name, part)
		if at < 0 {
			return false
		}
		name = name[at+len(part):]
	}
	return strings.HasSuffix(name, parts[len(parts)-1])
}

// namesIn returns the parts of an address, or of a pattern, whatever they are.
func namesIn(text string) (space, channel, group string) {
	space, rest, _ := strings.Cut(text, "/")
	i := strings.IndexAny(rest, "@/")
	if i < 0 {
		return space, rest, ""
	}
	return space, rest[:i], rest[i+1:]
}

// Within reports whether all that the pattern covers is covered by the other one
// too, as far as their names show it: where it says false that may still be so.
func (p Pattern) Within(other Pattern) bool {
	// A * of the narrower pattern is met by a * of the wider one alone, since no
	// name has one.
	return other.Covers(p.text)
}
