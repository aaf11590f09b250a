// Package address parses and prints the one notation in which Steady Ferry
// names things and places in them: spaces, channels, partitions, messages,
// groups and dead letters, and the positions from which they are read.
package address

import (
	"errors"
	"fmt"
	"strconv"
	"strings"
)

// MaxPartitions is the highest number of partitions of a channel.
const MaxPartitions = 1000

const maxNameLength = 100

// Address names one thing. The zero value of a part means that the address
// does not have it; Partition and Offset are -1 then.
type Address struct {
	Space     string
	Channel   string
	Partition int
	Offset    int64
	// Group is the name of a reader in its channel: compliance, or, of one that reads dead
	// letters, dead@archive (those of a queue) and warm/dead@archive (those of a reader).
	Group string
	Dead  bool
}

// Nodes is where a space would be named in the addresses of what belongs to all nodes
// together, and of nodes: nodes/node-a.
const Nodes = "nodes"

// Kind tells what an Address names.
type Kind string

// The kinds of thing that an address can name.
const (
	KindSpace     Kind = "space"
	KindChannel   Kind = "channel"
	KindPartition Kind = "partition"
	KindMessage   Kind = "message"
	KindGroup     Kind = "group"
	KindDead      Kind = "dead letters"
)

// Error says which part of a text could not be read, and what is allowed.
type Error struct {
	Text    string // the text that was given
	Problem string // what is wrong with it
	Allowed string // what is allowed instead
}

func (e *Error) Error() string {
	return fmt.Sprintf("%q: %s; allowed: %s", e.Text, e.Problem, e.Allowed)
}

// QueuePart returns the address cut to its channel and group: that of a queue,
// or of a group, whose dead letters are one.
func (a Address) QueuePart() Address {
	q := a.ChannelPart()
	q.Group = a.Group
	return q
}

// ofDead is before the name of a reader of dead letters.
const ofDead = "dead@"

// Source returns what a reader reads, a channel or the queue with the dead letters of
// another reader, and its name there: with dead@ before it, it reads the dead letters.
func (a Address) Source() (source Address, name string) {
	source = a.ChannelPart()
	i := strings.LastIndex(a.Group, ofDead)
	if i < 0 {
		return source, a.Group
	}
	source.Group = strings.TrimSuffix(a.Group[:i], "/")
	return source, a.Group[i:]
}

// Reader returns the address of a reader of what the address names, by its name there.
func (a Address) Reader(name string) Address {
	r := a.QueuePart()
	if r.Group != "" {
		name = r.Group + "/" + name
	}
	r.Group = name
	return r
}

// ReadsDead reports whether the name of a reader is that of one that reads dead letters.
func ReadsDead(name string) bool { return strings.HasPrefix(name, ofDead) }

// Channel returns the address of a channel.
func Channel(space, channel string) Address {
	return Address{Space: space, Channel: channel, Partition: -1, Offset: -1}
}

// Kind returns what the address names.
func (a Address) Kind() Kind {
	switch {
	case a.Dead:
		return KindDead
	case a.Offset >= 0:
		return KindMessage
	case a.Partition >= 0:
		return KindPartition
	case a.Group != "":
		return KindGroup
	case a.Channel != "":
		return KindChannel
	}
	return KindSpace
}

// ChannelPart returns the address cut to its space and channel.
func (a Address) ChannelPart() Address { return Channel(a.Space, a.Channel) }

// At returns the address of one message of the channel.
func (a Address) At(partition int, offset int64) Address {
	return Address{Space: a.Space, Channel: a.Channel, Group: a.Group, Partition: partition, Offset: offset}
}

// String prints the address so that Parse reads it back.
func (a Address) String() string {
	var b strings.Builder
	b.WriteString(a.Space)
	if a.Channel != "" {
		b.WriteByte('/')
		b.WriteString(a.Channel)
	}
	if a.Group != "" {
		if ReadsDead(a.Group) {
			b.WriteByte('/')
		} else {
			b.WriteByte('@')
		}
		b.WriteString(a.Group)
	}
	if a.Partition >= 0 {
		b.WriteByte('#')
		b.WriteString(strconv.Itoa(a.Partition))
		if a.Offset >= 0 {
			b.WriteByte(':')
			b.WriteString(strconv.FormatInt(a.Offset, 10))
		}
	}
	if a.Dead {
		b.WriteString("/dead")
	}
	return b.String()
}

const addressForms = "SPACE, SPACE/CHANNEL, SPACE/CHANNEL#PARTITION, SPACE/CHANNEL#PARTITION:OFFSET, SPACE/CHANNEL@GROUP, a channel or a group with /dead, that with @ROUTE for a route that reads the dead letters, and SPACE/CHANNEL@GROUP#PARTITION:OFFSET for one of its dead letters"

// Parse reads an address. The error is an *Error.
func Parse(text string) (Address, error) {
	a := Address{Partition: -1, Offset: -1}
	space, rest, whole := strings.Cut(text, "/")
	a.Space = space
	var e *Error
	switch err := CheckName(space); {
	case text == "":
		e = &Error{Problem: "an address is missing", Allowed: addressForms}
	case err != nil:
		e = &Error{Problem: "the space: " + err.Error(), Allowed: nameRule}
	case whole:
		name, place, placed := strings.Cut(rest, "#")
		if e = a.name(name); e == nil && placed {
			e = a.place(place)
		}
	}
	if e != nil {
		e.Text = text
		return Address{}, e
	}
	return a, nil
}

// name reads a channel, its reader, those of dead letters, and that dead letters are meant.
func (a *Address) name(text string) *Error {
	text, a.Dead = strings.CutSuffix(text, "/dead")
	channel, rest, nested := strings.Cut(text, "/")
	channel, group, read := strings.Cut(channel, "@")
	if err := CheckName(channel); err != nil {
		return &Error{Problem: "the channel: " + err.Error(), Allowed: nameRule}
	}
	if err := CheckName(group); read && err != nil {
		return &Error{Problem: "the group: " + err.Error(), Allowed: nameRule}
	}
	a.Channel, a.Group = channel, group
	if !nested {
		return nil
	}
	for reader := range strings.SplitSeq(rest, "/") {
		name, ok := strings.CutPrefix(reader, ofDead)
		if !ok {
			return &Error{Problem: fmt.Sprintf("%q after the channel", "/"+reader), Allowed: "only /dead there, or /dead@ROUTE"}
		}
		if err := CheckName(name); err != nil {
			return &Error{Problem: "the route: " + err.Error(), Allowed: nameRule}
		}
		a.Group = a.Reader(reader).Group
	}
	return nil
}

// place reads a partition and an offset.
func (a *Address) place(text string) *Error {
	partition, offset, one := strings.Cut(text, ":")
	switch {
	case strings.Contains(text, "@"):
		return &Error{Problem: "a partition together with a group (" + text + ")", Allowed: addressForms}
	case a.Dead || strings.HasSuffix(text, "/dead"):
		return &Error{Problem: "a partition together with dead letters", Allowed: addressForms}
	}
	p, err := parseNumber(partition, MaxPartitions-1)
	if err != nil {
		return &Error{Problem: "the partition: " + err.Error(), Allowed: fmt.Sprintf("0 to %d", MaxPartitions-1)}
	}
	a.Partition = int(p)
	if !one {
		return nil
	}
	if a.Offset, err = parseNumber(offset, 1<<62); err != nil {
		return &Error{Problem: "the offset: " + err.Error(), Allowed: "a whole number from 0"}
	}
	return nil
}

// CheckReader says what is wrong with the name of a reader in its channel.
func CheckReader(name string) error {
	if name == "" {
		return CheckName(name)
	}
	a, err := Parse(Address{Space: "s", Channel: "c", Group: name, Partition: -1, Offset: -1}.String())
	if wrong := (&Error{}); errors.As(err, &wrong) {
		return errors.New(wrong.Problem)
	}
	if a.Group != name || a.Kind() != KindGroup {
		return fmt.Errorf("%q is no name of a reader", name)
	}
	return nil
}

// ParseChannel reads an address that must name a whole channel.
func ParseChannel(text string) (Address, error) {
	a, err := Parse(text)
	if err == nil && a.Kind() != KindChannel {
		err = &Error{Text: text, Problem: "this is the address of a " + string(a.Kind()), Allowed: "a channel, such as coldchain/readings"}
	}
	return a, err
}

const nameRule = "names of 1 to 100 of a-z 0-9 . _ - that start with a letter or a digit"

// CheckName says what is wrong with the name of a space, channel or group.
func CheckName(name string) error {
	if name == "" {
		return fmt.Errorf("the name is empty")
	}
	if len(name) > maxNameLength {
		return fmt.Errorf("the name has %d characters", len(name))
	}
	for i, c := range name {
		letter := c >= 'a' && c <= 'z' || c >= '0' && c <= '9'
		if !letter && (i == 0 || c != '.' && c != '_' && c != '-') {
			return fmt.Errorf("%q at character %d of %q", c, i+1, name)
		}
	}
	return nil
}

// parseNumber reads plain decimal digits only, so that every number has one
// way to be written.
func parseNumber(text string, most int64) (int64, error) {
	if text == "" {
		return 0, fmt.Errorf("a number is missing")
	}
	for _, c := range text {
		if c < '0' || c > '9' {
			return 0, fmt.Errorf("%q is not a whole number", text)
		}
	}
	if len(text) > 1 && text[0] == '0' {
		return 0, fmt.Errorf("%q starts with a 0", text)
	}
	n, err := strconv.ParseInt(text, 10, 64)
	if err != nil || n > most {
		return 0, fmt.Errorf("%s is too large", text)
	}
	return n, nil
}
