// Package address parses and prints the one notation in which Steady Ferry
// names things and places in them: spaces, channels, partitions, messages,
// groups and dead letters, and the positions from which they are read.
package address

import (
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
	Group     string
	Dead      bool
}

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
		b.WriteByte('@')
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

const addressForms = "SPACE, SPACE/CHANNEL, SPACE/CHANNEL#PARTITION, SPACE/CHANNEL#PARTITION:OFFSET, SPACE/CHANNEL@GROUP, a channel or a group with /dead, and SPACE/CHANNEL@GROUP#PARTITION:OFFSET for one of its dead letters"

// Parse reads an address. The error is an *Error.
func Parse(text string) (Address, error) {
	bad := func(problem, allowed string) (Address, error) {
		return Address{}, &Error{Text: text, Problem: problem, Allowed: allowed}
	}
	a := Address{Partition: -1, Offset: -1}
	if text == "" {
		return bad("an address is missing", addressForms)
	}
	space, rest, found := strings.Cut(text, "/")
	if err := CheckName(space); err != nil {
		return bad("the space: "+err.Error(), nameRule)
	}
	a.Space = space
	if !found {
		return a, nil
	}
	channel, tail, hasTail := strings.Cut(rest, "/")
	if hasTail {
		if tail != "dead" {
			return bad(fmt.Sprintf("%q after the channel", "/"+tail), "only /dead there")
		}
		a.Dead = true
	}
	if before, after, ok := strings.Cut(channel, "#"); ok && strings.Contains(after, "@") {
		return bad(fmt.Sprintf("a partition together with a group (%s)", before), addressForms)
	}
	if name, place, ok := strings.Cut(channel, "#"); ok {
		if a.Dead {
			return bad("a partition together with dead letters", addressForms)
		}
		channel = name
		partition, offset, hasOffset := strings.Cut(place, ":")
		p, err := parseNumber(partition, MaxPartitions-1)
		if err != nil {
			return bad("the partition: "+err.Error(), fmt.Sprintf("0 to %d", MaxPartitions-1))
		}
		a.Partition = int(p)
		if hasOffset {
			if a.Offset, err = parseNumber(offset, 1<<62); err != nil {
				return bad("the offset: "+err.Error(), "a whole number from 0")
			}
		}
	}
	if name, group, ok := strings.Cut(channel, "@"); ok {
		if err := CheckName(group); err != nil {
			return bad("the group: "+err.Error(), nameRule)
		}
		channel, a.Group = name, group
	}
	if err := CheckName(channel); err != nil {
		return bad("the channel: "+err.Error(), nameRule)
	}
	a.Channel = channel
	return a, nil
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
