package queue

import (
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
)

// Op is what a command does.
type Op uint8

// The commands to a queue.
const (
	OpWork      Op = iota + 1 // settle leases, then take new ones
	OpTick                    // nothing but the time
	OpConfigure               // take on settings
	OpReturn                  // dead letters go back to the queue
	OpDiscard                 // messages are set aside for good
	OpUndo                    // what was discarded becomes what it was
	OpSendOn                  // dead letters were sent elsewhere
	OpEdit                    // a dead letter gets another content
	OpCarry                   // messages are written again, so that old segments can go
	ops
)

// Outcome is how a lease ends, or goes on.
type Outcome uint8

// The outcomes of a lease.
const (
	Accept  Outcome = iota + 1
	Reject          // set it aside as a dead letter
	Release         // give it back
	Extend          // hold it longer
	outcomes
)

// Auto as the delay of a release takes the queue's backoff.
const Auto = -1

// Settlement ends a lease, or extends it.
type Settlement struct {
	Offset    int64
	Serial    uint64 // of the lease
	Outcome   Outcome
	After     int64 // microseconds; of a release the delay, or Auto; of an extension the new time from now on
	Untouched bool  // a release that does not count as an attempt
	Reason    string
	Detail    string
	detailAt  uint32 // in the command's bytes
}

// Carried is a message that is written again: its content, that of its edited
// form, and the details of its history, in their order.
type Carried struct {
	Offset    int64
	Content   []byte // a batch of one message
	Edited    []byte // the same, or nothing
	Details   [][]byte
	contentAt uint32
	detailsAt []uint32
}

// Size returns the bytes of what is written again.
func (c *Carried) Size() int {
	n := len(c.Content) + len(c.Edited)
	for _, d := range c.Details {
		n += len(d)
	}
	return n
}

// Command is a change that the leader proposes. Which fields count depends on
// the Op.
type Command struct {
	Nonce    uint64 // by which the proposer knows its command again
	Op       Op
	Who      string // member, or principal
	Settle   []Settlement
	Max      int   // messages to lease
	For      int64 // microseconds of a lease; 0: as the queue is set
	AtOnce   bool  // leased messages count as accepted
	Offsets  []int64
	After    int64 // delay of what returns
	Reason   string
	Detail   string
	Content  []byte // of an edit: a batch of one message
	Settings *Settings
	Carried  []Carried

	detailAt uint32
}

// ErrCommand is wrapped by errors about commands that cannot be read.
var ErrCommand = errors.New("broken command")

// Encode appends the command to buf.
func (c *Command) Encode(buf []byte) []byte {
	buf = binary.LittleEndian.AppendUint64(buf, c.Nonce)
	buf = append(buf, byte(c.Op))
	buf = text(buf, c.Who)
	switch c.Op {
	case OpWork:
		buf = binary.AppendUvarint(buf, uint64(len(c.Settle)))
		for i := range c.Settle {
			s := &c.Settle[i]
			buf = binary.AppendUvarint(binary.AppendUvarint(buf, uint64(s.Offset)), s.Serial)
			kind := byte(s.Outcome)
			if s.Untouched {
				kind |= 0x80
			}
			buf = append(buf, kind)
			if s.Outcome != Accept {
				buf = binary.AppendVarint(buf, s.After)
				buf = text(text(buf, s.Reason), s.Detail)
			}
		}
		buf = binary.AppendUvarint(buf, uint64(c.Max))
		buf = binary.AppendVarint(buf, c.For)
		buf = append(buf, b2i(c.AtOnce))
	case OpConfigure:
		b, err := json.Marshal(c.Settings)
		if err != nil {
			panic(err) // numbers
		}
		buf = text(buf, string(b))
	case OpReturn, OpDiscard, OpUndo, OpSendOn, OpEdit:
		buf = binary.AppendVarint(buf, c.After)
		buf = text(text(text(buf, c.Reason), c.Detail), string(c.Content))
		buf = binary.AppendUvarint(buf, uint64(len(c.Offsets)))
		last := int64(0)
		for _, o := range c.Offsets {
			buf = binary.AppendVarint(buf, o-last)
			last = o
		}
	case OpCarry:
		buf = binary.AppendUvarint(buf, uint64(len(c.Carried)))
		for _, m := range c.Carried {
			buf = binary.AppendUvarint(buf, uint64(m.Offset))
			buf = text(text(buf, string(m.Content)), string(m.Edited))
			buf = binary.AppendUvarint(buf, uint64(len(m.Details)))
			for _, d := range m.Details {
				buf = text(buf, string(d))
			}
		}
	}
	return buf
}

func text(buf []byte, s string) []byte {
	return append(binary.AppendUvarint(buf, uint64(len(s))), s...)
}

func b2i(b bool) byte {
	if b {
		return 1
	}
	return 0
}

// parser takes parts off the front of a command; base is where it begins in
// the record's data. Once a part is cut off it has failed and gives nothing.
type parser struct {
	all, rest []byte
	base      int
	failed    bool
}

func (p *parser) at() uint32 { return uint32(p.base + len(p.all) - len(p.rest)) }

func (p *parser) uvarint() uint64 {
	v, n := binary.Uvarint(p.rest)
	if n <= 0 {
		p.failed, p.rest = true, nil
		return 0
	}
	p.rest = p.rest[n:]
	return v
}

func (p *parser) varint() int64 {
	v, n := binary.Varint(p.rest)
	if n <= 0 {
		p.failed, p.rest = true, nil
		return 0
	}
	p.rest = p.rest[n:]
	return v
}

func (p *parser) byte() byte {
	if len(p.rest) == 0 {
		p.failed = true
		return 0
	}
	b := p.rest[0]
	p.rest = p.rest[1:]
	return b
}

// bytes returns a text and where it begins.
func (p *parser) bytes() ([]byte, uint32) {
	n := p.uvarint()
	if n > uint64(len(p.rest)) {
		p.failed, p.rest = true, nil
		return nil, 0
	}
	at := p.at()
	b := p.rest[:n:n]
	p.rest = p.rest[n:]
	return b, at
}

func (p *parser) text() string {
	b, _ := p.bytes()
	return string(b)
}

// count reads how many things of at least so many bytes follow.
func (p *parser) count(least int) int {
	n := p.uvarint()
	if n > uint64(len(p.rest)/max(least, 1)) {
		p.failed, p.rest = true, nil
		return 0
	}
	return int(n)
}

// Decode reads a command; base is where b begins in the record's data, for
// the places of its texts.
func Decode(b []byte, base int) (*Command, error) {
	p := &parser{all: b, rest: b, base: base}
	if len(b) < 9 {
		return nil, fmt.Errorf("%w: %d bytes", ErrCommand, len(b))
	}
	c := &Command{Nonce: binary.LittleEndian.Uint64(b), Op: Op(b[8])}
	p.rest = b[9:]
	c.Who = p.text()
	switch c.Op {
	case OpWork:
		c.Settle = make([]Settlement, p.count(3))
		for i := range c.Settle {
			s := &c.Settle[i]
			s.Offset, s.Serial = int64(p.uvarint()), p.uvarint()
			kind := p.byte()
			s.Outcome, s.Untouched = Outcome(kind&0x7f), kind&0x80 != 0
			if s.Outcome != Accept {
				s.After = p.varint()
				s.Reason = p.text()
				var detail []byte
				detail, s.detailAt = p.bytes()
				s.Detail = string(detail)
			}
		}
		c.Max, c.For, c.AtOnce = int(p.uvarint()), p.varint(), p.byte() != 0
	case OpConfigure:
		raw, _ := p.bytes()
		c.Settings = &Settings{}
		if err := json.Unmarshal(raw, c.Settings); err != nil && !p.failed {
			return nil, fmt.Errorf("%w: settings: %v", ErrCommand, err)
		}
	case OpReturn, OpDiscard, OpUndo, OpSendOn, OpEdit:
		c.After = p.varint()
		c.Reason = p.text()
		var detail []byte
		detail, c.detailAt = p.bytes()
		c.Detail = string(detail)
		c.Content, _ = p.bytes()
		c.Offsets = make([]int64, p.count(1))
		last := int64(0)
		for i := range c.Offsets {
			last += p.varint()
			c.Offsets[i] = last
		}
	case OpCarry:
		c.Carried = make([]Carried, p.count(4))
		for i := range c.Carried {
			m := &c.Carried[i]
			m.Offset = int64(p.uvarint())
			m.Content, m.contentAt = p.bytes()
			m.Edited, _ = p.bytes()
			m.Details, m.detailsAt = make([][]byte, p.count(1)), nil
			for j := range m.Details {
				var at uint32
				m.Details[j], at = p.bytes()
				m.detailsAt = append(m.detailsAt, at)
			}
		}
	case OpTick:
	default:
		return nil, fmt.Errorf("%w: operation %d", ErrCommand, c.Op)
	}
	if p.failed || len(p.rest) > 0 {
		return nil, fmt.Errorf("%w: it is cut off or has bytes too many", ErrCommand)
	}
	return c, nil
}
