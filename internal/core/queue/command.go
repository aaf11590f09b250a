package queue

import (
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"

	"github.com/google/uuid"

	"steadyferry/internal/core/pack"
)

// Op is what a command does.
type Op uint8

// The commands to a queue.
const (
	OpWork         Op = iota + 1 // settle leases, then take new ones
	OpTick                       // nothing but the time
	OpConfigure                  // take on settings
	OpReturn                     // dead letters go back to the queue
	OpDiscard                    // messages are set aside for good
	OpUndo                       // what was discarded becomes what it was
	OpSendOn                     // dead letters were sent elsewhere
	OpEdit                       // a dead letter gets another content
	OpCarry                      // messages are written again, so that old segments can go
	OpTake                       // a route takes waiting messages, to send them on
	OpCarryLetters               // letters that routes are to copy are written again
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

// Known reports whether it is one of the outcomes.
func (o Outcome) Known() bool { return o > 0 && o < outcomes }

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
// form, and the details of its history, in their order. Of a letter the content is the
// one that is to be copied, and there is one detail.
type Carried struct {
	LetterID
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
	Route    uuid.UUID // that takes

	detailAt uint32
}

// ErrCommand is wrapped by errors about commands that cannot be read.
var ErrCommand = errors.New("broken command")

// Encode appends the command to buf.
func (c *Command) Encode(buf []byte) []byte {
	buf = binary.LittleEndian.AppendUint64(buf, c.Nonce)
	buf = append(buf, byte(c.Op))
	buf = pack.Text(buf, c.Who)
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
				buf = pack.Text(pack.Text(buf, s.Reason), s.Detail)
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
		buf = pack.Text(buf, string(b))
	case OpReturn, OpDiscard, OpUndo, OpSendOn, OpEdit:
		buf = binary.AppendVarint(buf, c.After)
		buf = pack.Text(pack.Text(pack.Text(buf, c.Reason), c.Detail), string(c.Content))
		buf = appendOffsets(buf, c.Offsets)
	case OpTake:
		buf = appendOffsets(append(buf, c.Route[:]...), c.Offsets)
	case OpCarry, OpCarryLetters:
		buf = binary.AppendUvarint(buf, uint64(len(c.Carried)))
		for _, m := range c.Carried {
			if c.Op == OpCarryLetters {
				buf = binary.AppendUvarint(append(buf, m.Route[:]...), uint64(m.Number))
			}
			buf = binary.AppendUvarint(buf, uint64(m.Offset))
			buf = pack.Text(pack.Text(buf, string(m.Content)), string(m.Edited))
			buf = binary.AppendUvarint(buf, uint64(len(m.Details)))
			for _, d := range m.Details {
				buf = pack.Text(buf, string(d))
			}
		}
	}
	return buf
}

func appendOffsets(buf []byte, offsets []int64) []byte {
	buf = binary.AppendUvarint(buf, uint64(len(offsets)))
	last := int64(0)
	for _, o := range offsets {
		buf = binary.AppendVarint(buf, o-last)
		last = o
	}
	return buf
}

func readOffsets(r *pack.Reader) []int64 {
	offsets := make([]int64, r.Count(1))
	last := int64(0)
	for i := range offsets {
		last += r.Varint()
		offsets[i] = last
	}
	return offsets
}

func b2i(b bool) byte {
	if b {
		return 1
	}
	return 0
}

// parser reads a command; base is where it begins in the record's data.
type parser struct {
	pack.Reader
	size, base int
}

func newParser(b []byte, base int) *parser {
	return &parser{Reader: pack.Reader{Rest: b}, size: len(b), base: base}
}

func (p *parser) at() uint32 { return uint32(p.base + p.size - len(p.Rest)) }

// bytes returns a text and where it begins.
func (p *parser) bytes() ([]byte, uint32) {
	b := p.Bytes()
	return b, p.at() - uint32(len(b))
}

// Decode reads a command; base is where b begins in the record's data, for
// the places of its texts.
func Decode(b []byte, base int) (*Command, error) {
	p := newParser(b, base)
	if len(b) < 9 {
		return nil, fmt.Errorf("%w: %d bytes", ErrCommand, len(b))
	}
	c := &Command{Nonce: binary.LittleEndian.Uint64(b), Op: Op(b[8])}
	p.Rest = b[9:]
	c.Who = p.Text()
	switch c.Op {
	case OpWork:
		c.Settle = make([]Settlement, p.Count(3))
		for i := range c.Settle {
			s := &c.Settle[i]
			s.Offset, s.Serial = int64(p.Uvarint()), p.Uvarint()
			kind := p.Byte()
			s.Outcome, s.Untouched = Outcome(kind&0x7f), kind&0x80 != 0
			if s.Outcome != Accept {
				s.After = p.Varint()
				s.Reason = p.Text()
				var detail []byte
				detail, s.detailAt = p.bytes()
				s.Detail = string(detail)
			}
		}
		c.Max, c.For, c.AtOnce = int(p.Uvarint()), p.Varint(), p.Byte() != 0
	case OpConfigure:
		raw, _ := p.bytes()
		c.Settings = &Settings{}
		if err := json.Unmarshal(raw, c.Settings); err != nil && !p.Failed {
			return nil, fmt.Errorf("%w: settings: %v", ErrCommand, err)
		}
	case OpReturn, OpDiscard, OpUndo, OpSendOn, OpEdit:
		c.After = p.Varint()
		c.Reason = p.Text()
		var detail []byte
		detail, c.detailAt = p.bytes()
		c.Detail = string(detail)
		c.Content, _ = p.bytes()
		c.Offsets = readOffsets(&p.Reader)
	case OpTake:
		c.Route = uuid.UUID(p.Fixed(16))
		c.Offsets = readOffsets(&p.Reader)
	case OpCarry, OpCarryLetters:
		c.Carried = make([]Carried, p.Count(4))
		for i := range c.Carried {
			m := &c.Carried[i]
			if c.Op == OpCarryLetters {
				m.Route, m.Number = uuid.UUID(p.Fixed(16)), int64(p.Uvarint())
			}
			m.Offset = int64(p.Uvarint())
			m.Content, m.contentAt = p.bytes()
			m.Edited, _ = p.bytes()
			m.Details, m.detailsAt = make([][]byte, p.Count(1)), nil
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
	if !p.Whole() {
		return nil, fmt.Errorf("%w: it is cut off or has bytes too many", ErrCommand)
	}
	return c, nil
}
