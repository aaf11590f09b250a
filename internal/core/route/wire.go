package route

import (
	"encoding/binary"
	"errors"
	"fmt"

	"github.com/google/uuid"

	"steadyferry/internal/core/pack"
)

// ErrForm is wrapped by errors about commands and states that cannot be read.
var ErrForm = errors.New("broken form of a route")

// form is the first byte of what is encoded; the one before had no lanes.
const (
	form      = 2
	withLanes = 2
)

type writer []byte

func (w *writer) u(all ...uint64) {
	for _, v := range all {
		*w = binary.AppendUvarint(*w, v)
	}
}

func (w *writer) i(all ...int64) {
	for _, v := range all {
		*w = binary.AppendVarint(*w, v)
	}
}

func (w *writer) place(p Place) {
	w.u(p.Epoch, p.Cut)
	w.i(p.Offset)
}

func (w *writer) counts(all []uint64) {
	w.u(uint64(len(all)))
	w.u(all...)
}

func (w *writer) places(all []Place) {
	w.u(uint64(len(all)))
	for _, p := range all {
		w.place(p)
	}
}

func (w *writer) terms(t *Terms) {
	w.i(t.Version, t.Target, int64(t.Partitions))
	*w = pack.Text(*w, t.Text)
}

type reader struct {
	pack.Reader
	form byte
}

func (r *reader) id() uuid.UUID { return uuid.UUID(r.Fixed(16)) }

func (r *reader) place() Place {
	return Place{Epoch: r.Uvarint(), Cut: r.Uvarint(), Offset: r.Varint()}
}

func (r *reader) counts() []uint64 {
	n := r.Count(1)
	if n == 0 {
		return nil
	}
	all := make([]uint64, n)
	for i := range all {
		all[i] = r.Uvarint()
	}
	return all
}

func (r *reader) places() []Place {
	if r.form < withLanes {
		return nil
	}
	n := r.Count(3)
	if n == 0 {
		return nil
	}
	all := make([]Place, n)
	for i := range all {
		all[i] = r.place()
	}
	return all
}

func (r *reader) terms() (t Terms) {
	t.Version, t.Target, t.Partitions = r.Varint(), r.Varint(), int(r.Varint())
	t.Text = r.Text()
	return t
}

// begin reads the form of a state; nothing is the state of an empty log.
func (r *reader) begin() error {
	if r.form = r.Byte(); r.form == 0 || r.form > form {
		return fmt.Errorf("%w: form %d", ErrForm, r.form)
	}
	return nil
}

func (r *reader) end(what string) error {
	if !r.Whole() {
		return fmt.Errorf("%w: %s is cut off or has bytes too many", ErrForm, what)
	}
	return nil
}

// Encode appends the command to buf.
func (c *Command) Encode(buf []byte) []byte {
	w := writer(append(binary.LittleEndian.AppendUint64(buf, c.Nonce), form))
	w.u(c.Epoch, uint64(len(c.Steps)))
	for i := range c.Steps {
		s := &c.Steps[i]
		w = append(append(w, byte(s.Op)), s.Route[:]...)
		w.u(s.Seq)
		switch s.Op {
		case Make, MakeOfDead, Recut:
			w.i(s.Offset)
			w.terms(&s.Terms)
			w.counts(s.Targets)
		case Seek:
			w.i(s.Offset)
		case Floor:
			w.place(s.Floor)
			w.i(s.Lost)
			w.counts(s.Targets)
			w.places(s.Lanes)
		}
	}
	return w
}

// DecodeCommand reads what Encode wrote.
func DecodeCommand(b []byte) (*Command, error) {
	if len(b) < 9 {
		return nil, fmt.Errorf("%w: a command of %d bytes", ErrForm, len(b))
	}
	c := &Command{Nonce: binary.LittleEndian.Uint64(b)}
	r := &reader{Reader: pack.Reader{Rest: b[8:]}}
	if err := r.begin(); err != nil {
		return nil, err
	}
	c.Epoch = r.Uvarint()
	c.Steps = make([]Step, r.Count(18))
	for i := range c.Steps {
		s := &c.Steps[i]
		s.Op, s.Route, s.Seq = Op(r.Byte()), r.id(), r.Uvarint()
		switch s.Op {
		case Make, MakeOfDead, Recut:
			s.Offset, s.Terms, s.Targets = r.Varint(), r.terms(), r.counts()
		case Seek:
			s.Offset = r.Varint()
		case Floor:
			s.Floor, s.Lost, s.Targets, s.Lanes = r.place(), r.Varint(), r.counts(), r.places()
		case End:
		default:
			return nil, fmt.Errorf("%w: step %d", ErrForm, s.Op)
		}
	}
	return c, r.end("a command")
}

// Encode returns the state, for a checkpoint.
func (ps *Plans) Encode() []byte {
	w := writer{form}
	w.u(ps.epoch, uint64(len(ps.plans)))
	for id, p := range ps.plans {
		w = append(w, id[:]...)
		w.u(p.Seq)
		w.place(p.Floor)
		w.i(p.Lost)
		w.counts(p.Targets)
		w.places(p.Lanes)
		w.u(uint64(len(p.Cuts)))
		for i := range p.Cuts {
			c := &p.Cuts[i]
			w.u(c.Epoch, c.Number)
			w.i(c.From, c.To)
			// Most cuts have the terms of the one before.
			if same := i > 0 && c.Terms == p.Cuts[i-1].Terms; same {
				w = append(w, 1)
			} else {
				w = append(w, 0)
				w.terms(&c.Terms)
			}
		}
	}
	w.ends(ps.ended)
	return w
}

// DecodePlans reads what Encode wrote; nothing is the state of an empty log.
func DecodePlans(b []byte) (*Plans, error) {
	ps := NewPlans()
	if len(b) == 0 {
		return ps, nil
	}
	r := &reader{Reader: pack.Reader{Rest: b}}
	if err := r.begin(); err != nil {
		return nil, err
	}
	ps.epoch = r.Uvarint()
	for range r.Count(20) {
		p := &Plan{Route: r.id(), Seq: r.Uvarint(), Floor: r.place(), Lost: r.Varint(), Targets: r.counts(), Lanes: r.places()}
		p.Cuts = make([]Cut, r.Count(5))
		for i := range p.Cuts {
			c := &p.Cuts[i]
			c.Epoch, c.Number, c.From, c.To = r.Uvarint(), r.Uvarint(), r.Varint(), r.Varint()
			if same := r.Byte() == 1 && i > 0; same {
				c.Terms = p.Cuts[i-1].Terms
			} else {
				c.Terms = r.terms()
			}
		}
		if len(p.Cuts) == 0 {
			return nil, fmt.Errorf("%w: a plan without cuts", ErrForm)
		}
		ps.plans[p.Route] = p
	}
	r.ends(ps.ended)
	return ps, r.end("the state of routes")
}

func (w *writer) ends(ended map[uuid.UUID]int64) {
	w.u(uint64(len(ended)))
	for id, at := range ended {
		*w = append(*w, id[:]...)
		w.i(at)
	}
}

func (r *reader) ends(ended map[uuid.UUID]int64) {
	for range r.Count(17) {
		id := r.id()
		ended[id] = r.Varint()
	}
}

// Encode returns the state, for a checkpoint.
func (o *Origins) Encode() []byte {
	w := writer{form}
	w.u(uint64(len(o.at)))
	for s, p := range o.at {
		w = append(w, s.Route[:]...)
		w.u(uint64(s.Partition))
		w.place(p)
	}
	w.ends(o.ended)
	return w
}

// DecodeOrigins reads what Encode wrote; nothing is the state of an empty log.
func DecodeOrigins(b []byte) (*Origins, error) {
	o := NewOrigins()
	if len(b) == 0 {
		return o, nil
	}
	r := &reader{Reader: pack.Reader{Rest: b}}
	if err := r.begin(); err != nil {
		return nil, err
	}
	for range r.Count(20) {
		s := Source{Route: r.id(), Partition: uint32(r.Uvarint())}
		o.at[s] = r.place()
	}
	r.ends(o.ended)
	return o, r.end("the places of routes")
}
