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
	rest, group, has := strings.Cut(text, "@")
	p.group = group
	space, channel, below := strings.Cut(rest, "/")
	p.space, p.channel = space, channel
	bad := func(problem string) (Pattern, error) {
		return Pattern{}, &Error{Text: text, Problem: problem, Allowed: patternForms}
	}
	switch {
	case text == "":
		return bad("it is empty")
	case below && channel == "", has && (group == "" || channel == ""):
		return bad("a name is missing")
	}
	for _, name := range []string{p.space, p.channel, p.group} {
		if plain := strings.ReplaceAll(name, "*", "a"); plain != "" {
			if err := CheckName(plain); err != nil {
				return bad(err.Error())
			}
		}
	}
	return p, nil
}

func (p Pattern) String() string { return p.text }

// Covers reports whether the pattern covers the thing with the address.
func (p Pattern) Covers(address string) bool {
	rest, group, _ := strings.Cut(address, "@")
	space, channel, _ := strings.Cut(rest, "/")
	return fits(p.space, space) && (p.channel == "" || channel != "" && fits(p.channel, channel)) && (p.group == "" || group != "" && fits(p.group, group))
}

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
