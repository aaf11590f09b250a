package queue

import (
	"encoding/binary"
	"encoding/json"
	"fmt"

	"github.com/google/uuid"

	"steadyferry/internal/core/pack"
)

// savedForm is the form that is written; the one before had no letters.
const (
	savedForm   = 3
	withLetters = 3
)

// Encode returns the state, for a checkpoint. What follows from the rest (the
// heaps, the lanes, the counts of causes) is left out.
func (q *Queue) Encode() []byte {
	settings, err := json.Marshal(q.settings)
	if err != nil {
		panic(err) // numbers
	}
	e := &encoder{buf: make([]byte, 0, 256+48*q.items.count+4*len(q.keys)), texts: map[string]uint64{}}
	e.u(savedForm)
	e.buf = pack.Text(e.buf, string(settings))
	e.i(q.head, q.end, int64(q.serial), q.now, q.counts.Accepted, q.counts.Attempts, q.counts.Rejected)
	e.u(uint64(q.items.count))
	for it := range q.items.all() {
		e.item(q, it)
	}
	for _, stories := range []map[int64]*story{q.stories, q.past} {
		e.u(uint64(len(stories)))
		for offset, s := range stories {
			e.i(offset)
			e.story(s)
		}
	}
	e.u(uint64(len(q.gone)))
	for offset := range q.gone {
		e.i(offset)
	}
	e.u(uint64(len(q.expires)))
	for offset, at := range q.expires {
		e.i(offset, at)
	}
	e.u(uint64(len(q.stored)))
	for _, p := range q.stored {
		e.i(p.offset, p.at)
	}
	e.u(uint64(len(q.keys)))
	for _, k := range q.keys {
		e.buf = binary.LittleEndian.AppendUint32(e.buf, k)
	}
	e.u(uint64(len(q.finished)))
	for i := range q.finished {
		f := &q.finished[(q.turn+i)%len(q.finished)]
		e.i(f.Offset)
		e.u(f.Home)
		e.u(f.Edited)
		e.events(f.History)
	}
	e.u(uint64(len(q.taken)))
	for route, t := range q.taken {
		e.buf = append(e.buf, route[:]...)
		e.i(t.first)
		e.buf = appendOffsets(e.buf, t.offsets)
	}
	e.u(uint64(len(q.copied)))
	for route, c := range q.copied {
		e.buf = append(e.buf, route[:]...)
		e.i(c.first)
		e.u(uint64(len(c.letters)))
		for i := range c.letters {
			e.letter(&c.letters[i])
		}
	}
	return e.buf
}

// encoder writes each text once, and then its number.
type encoder struct {
	buf   []byte
	texts map[string]uint64
}

func (e *encoder) u(v uint64) { e.buf = binary.AppendUvarint(e.buf, v) }
func (e *encoder) i(all ...int64) {
	for _, v := range all {
		e.buf = binary.AppendVarint(e.buf, v)
	}
}

func (e *encoder) text(s string) {
	if s == "" {
		e.u(0)
		return
	}
	n, known := e.texts[s]
	if !known {
		n = uint64(len(e.texts) + 1)
		e.texts[s] = n
	}
	e.u(n)
	if !known {
		e.buf = pack.Text(e.buf, s)
	}
}

func (e *encoder) item(q *Queue, it *item) {
	e.buf = append(e.buf, byte(it.state), byte(it.was), b2i(it.holds))
	e.i(it.offset, it.due, it.expires, it.stored)
	e.u(it.serial)
	e.u(uint64(it.key))
	e.u(uint64(it.attempts))
	if it.state == Leased {
		run := q.leases.run(it)
		e.text(run.member)
		e.i(run.began)
	}
}

func (e *encoder) story(s *story) {
	e.u(s.home)
	e.u(s.edited)
	e.i(s.wasDue)
	e.u(s.cause)
	e.text(s.pattern)
	e.text(s.from)
	e.events(s.history)
}

func (e *encoder) events(history []Event) {
	e.u(uint64(len(history)))
	for i := range history {
		v := &history[i]
		e.buf = append(e.buf, byte(v.Kind))
		e.i(v.At, v.Began)
		e.text(v.Who)
		e.text(v.Reason)
		e.ref(v.Detail)
	}
}

func (e *encoder) ref(r Ref) {
	e.u(r.Index)
	e.u(uint64(r.At))
	e.u(uint64(r.Size))
}

func (e *encoder) letter(l *Letter) {
	e.i(l.Offset, l.At, int64(l.Attempts))
	e.text(l.Reason)
	e.text(l.From)
	e.u(l.Home)
	e.u(l.Edited)
	e.ref(l.Detail)
	e.ref(l.Content)
}

type decoder struct {
	pack.Reader
	texts []string
}

func (d *decoder) word() string {
	n := d.Uvarint()
	switch {
	case n == 0:
		return ""
	case n <= uint64(len(d.texts)):
		return d.texts[n-1]
	}
	s := d.Text()
	d.texts = append(d.texts, s)
	return s
}

func (d *decoder) events() []Event {
	history := make([]Event, d.Count(8))
	for i := range history {
		v := &history[i]
		v.Kind = EventKind(d.Byte())
		v.At, v.Began = d.Varint(), d.Varint()
		v.Who, v.Reason = d.word(), d.word()
		v.Detail = d.ref()
	}
	return history
}

func (d *decoder) ref() Ref {
	return Ref{Index: d.Uvarint(), At: uint32(d.Uvarint()), Size: uint32(d.Uvarint())}
}

func (d *decoder) letter() Letter {
	return Letter{Offset: d.Varint(), At: d.Varint(), Attempts: int(d.Varint()), Reason: d.word(), From: d.word(), Home: d.Uvarint(), Edited: d.Uvarint(), Detail: d.ref(), Content: d.ref()}
}

func (d *decoder) story() *story {
	s := &story{home: d.Uvarint(), edited: d.Uvarint(), wasDue: d.Varint(), cause: d.Uvarint(), pattern: d.word(), from: d.word()}
	s.history = d.events()
	return s
}

// item reads an item, and of a leased one to whom it was given.
func (d *decoder) item(runs map[handout]*handout) (item, *handout) {
	it := item{state: State(d.Byte()), was: State(d.Byte()), holds: d.Byte() != 0}
	it.offset, it.due, it.expires, it.stored = d.Varint(), d.Varint(), d.Varint(), d.Varint()
	it.serial, it.key, it.attempts = d.Uvarint(), uint32(d.Uvarint()), uint16(d.Uvarint())
	if it.state == Leased {
		h := handout{member: d.word(), began: d.Varint()}
		if runs[h] == nil {
			runs[h] = &h
		}
		return it, runs[h]
	}
	return it, nil
}

// Load reads what Encode wrote; nothing gives the state of an empty log.
func Load(b []byte) (*Queue, error) {
	q := New()
	if len(b) == 0 {
		return q, nil
	}
	d := &decoder{Reader: pack.Reader{Rest: b}}
	form := d.Uvarint()
	if form != savedForm && form != withLetters-1 {
		return nil, fmt.Errorf("%w: state of form %d", ErrCommand, form)
	}
	if err := json.Unmarshal([]byte(d.Text()), &q.settings); err != nil {
		return nil, fmt.Errorf("%w: settings: %v", ErrCommand, err)
	}
	q.head, q.end, q.serial, q.now = d.Varint(), d.Varint(), uint64(d.Varint()), d.Varint()
	q.counts.Accepted, q.counts.Attempts, q.counts.Rejected = d.Varint(), d.Varint(), d.Varint()
	runs := map[handout]*handout{}
	for range d.Count(10) {
		one, run := d.item(runs)
		if one.state == 0 || one.state >= states || one.offset < 0 {
			return nil, fmt.Errorf("%w: message %d in state %d", ErrCommand, one.offset, one.state)
		}
		it := q.items.add(one)
		if run != nil {
			q.leases.push(hold{it, run})
		}
	}
	for range d.Count(2) {
		offset := d.Varint()
		q.stories[offset] = d.story()
		if it := q.items.get(offset); it != nil {
			it.told = true
		}
	}
	for range d.Count(2) {
		offset := d.Varint()
		q.past[offset] = d.story()
	}
	for range d.Count(1) {
		q.gone[d.Varint()] = struct{}{}
	}
	for range d.Count(2) {
		offset := d.Varint()
		q.expires[offset] = d.Varint()
	}
	for range d.Count(2) {
		offset := d.Varint()
		q.stored = append(q.stored, place{d.Varint(), offset})
	}
	if n := d.Count(4); n > 0 {
		q.keys = make([]uint32, n)
		for i := range q.keys {
			q.keys[i] = binary.LittleEndian.Uint32(d.Rest)
			d.Rest = d.Rest[4:]
		}
	}
	for range d.Count(2) {
		f := Finished{Offset: d.Varint(), Home: d.Uvarint(), Edited: d.Uvarint()}
		f.History = d.events()
		q.finished = append(q.finished, f)
	}
	for range d.Count(18) {
		route := uuid.UUID(d.Fixed(16))
		q.taken[route] = &transfers{first: d.Varint(), offsets: readOffsets(&d.Reader)}
	}
	if form >= withLetters {
		d.copies(q)
	}
	if !d.Whole() {
		return nil, fmt.Errorf("%w: a state that is cut off", ErrCommand)
	}
	q.derive()
	return q, nil
}

// copies reads what routes are to copy.
func (d *decoder) copies(q *Queue) {
	for range d.Count(18) {
		route, c := uuid.UUID(d.Fixed(16)), &copying{first: d.Varint()}
		c.letters = make([]Letter, d.Count(13))
		for i := range c.letters {
			c.letters[i] = d.letter()
		}
		q.copied[route] = c
	}
}

// derive makes what follows from the rest.
func (q *Queue) derive() {
	q.counts.Waiting = q.end - q.head - int64(len(q.gone))
	var waiting, delays, deads, discards, expiries []place
	for it := range q.items.all() {
		if it.offset >= q.head {
			q.counts.Waiting--
		}
		*q.counts.of(it.state)++
		here := place{it.due, it.offset}
		switch it.state {
		case Waiting:
			q.loose++
			waiting = append(waiting, place{it.offset, it.offset})
		case Delayed:
			delays = append(delays, here)
		case Dead:
			deads = append(deads, here)
			q.countCause(it)
		case Discarded:
			discards = append(discards, here)
		}
		if it.state == Waiting || it.state == Delayed {
			if at := q.expiry(it); at > 0 {
				expiries = append(expiries, place{at, it.offset})
			}
		}
		if it.holds {
			q.lanes[it.key] = &lane{holder: it.offset, busy: true}
		}
		if s := q.storyOf(it); s != nil && s.from != "" {
			q.origins[s.from] = it.offset
		}
	}
	for offset, at := range q.expires {
		expiries = append(expiries, place{at, offset})
	}
	q.findOldest()
	q.delays, q.deads, q.discards, q.expiries = heapOf(delays), heapOf(deads), heapOf(discards), heapOf(expiries)
	for order := heapOf(waiting); len(order) > 0; {
		q.join(q.items.get(order.pop().offset))
	}
}

func (q *Queue) countCause(it *item) {
	s := q.story(it)
	c := q.causes[s.cause]
	if c == nil {
		c = &causeText{pattern: s.pattern, reason: reasonOf(s.history)}
		q.causes[s.cause] = c
	}
	s.pattern = c.pattern
	c.count++
}

// reasonOf returns why a message became a dead letter last.
func reasonOf(history []Event) string {
	for i := len(history) - 1; i >= 0; i-- {
		if k := history[i].Kind; k == Rejected || k == UsedUp || k == Expired {
			return history[i].Reason
		}
	}
	return ""
}
