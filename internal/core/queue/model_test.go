package queue

import (
	"cmp"
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/google/uuid"

	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/message"
)

// model is the slowest queue there is: a list of messages that is looked
// through for everything.
type model struct {
	s      Settings
	all    []*modelMessage
	serial uint64
	now    int64
	head   int     // the first message that nobody has looked at
	taken  []int64 // by the route, in the order of their numbers
	sent   int64   // how many of them ever were sent

	copies []int64 // of every dead letter, since a route reads them
	reads  bool
}

type modelMessage struct {
	state, was  State
	looked      bool // no longer one that nobody had
	due, wasDue int64
	serial      uint64
	attempts    int
}

func (m *model) die(o int64) {
	m.all[o].state, m.all[o].due = Dead, m.now
	if m.reads {
		m.copies = append(m.copies, o)
	}
}

// dead are the offsets of the dead letters, the oldest first.
func (m *model) dead() (all []int64) {
	for o, x := range m.all {
		if x.state == Dead {
			all = append(all, int64(o))
		}
	}
	slices.SortStableFunc(all, func(a, b int64) int { return cmp.Compare(m.all[a].due, m.all[b].due) })
	return all
}

func (m *model) fail(o, after int64) {
	x := m.all[o]
	switch {
	case x.attempts >= m.s.Attempts:
		m.die(o)
	case after > 0:
		x.state, x.due = Delayed, m.now+after
	default:
		x.state = Waiting
	}
}

func (m *model) advance(now int64) {
	m.now = max(m.now, now)
	var over []int64
	for o, x := range m.all {
		if x.state == Leased && x.due <= m.now {
			over = append(over, int64(o))
		}
	}
	slices.SortStableFunc(over, func(a, b int64) int { return cmp.Compare(m.all[a].due, m.all[b].due) })
	for _, o := range over {
		m.fail(o, m.s.Backoff(m.all[o].attempts))
	}
	for _, x := range m.all {
		if x.state == Delayed && x.due <= m.now {
			x.state, x.looked = Waiting, true
		}
		if x.state == Dead && x.due+m.s.RetainDead <= m.now || x.state == Discarded && x.due+m.s.RetainDiscarded <= m.now {
			x.state = 0
		}
	}
}

func (m *model) lease(most int) (got []int64) {
	for _, looked := range []bool{true, false} {
		for o, x := range m.all {
			if len(got) == most {
				return got
			}
			if !looked {
				m.head = max(m.head, o+1)
			}
			if x.state == Waiting && x.looked == looked {
				m.serial++
				x.state, x.looked, x.due, x.serial = Leased, true, m.now+m.s.Lease, m.serial
				x.attempts++
				got = append(got, int64(o))
			}
		}
	}
	return got
}

func (m *model) settle(s Settlement) Status {
	if s.Offset >= int64(len(m.all)) || s.Serial > m.serial || s.Serial == 0 {
		return Unknown
	}
	x := m.all[s.Offset]
	if x.state != Leased || x.serial != s.Serial {
		return NotHeld
	}
	switch s.Outcome {
	case Accept:
		x.state = 0
	case Reject:
		m.die(s.Offset)
	case Extend:
		x.due = m.now + s.After
	case Release:
		if s.Untouched {
			x.attempts--
			if x.state = Waiting; s.After > 0 {
				x.state, x.due = Delayed, m.now+s.After
			}
		} else {
			m.fail(s.Offset, s.After)
		}
	}
	return Done
}

func (m *model) act(op Op, o int64) bool {
	x := m.all[o]
	switch {
	case op == OpReturn && x.state == Dead:
		x.state, x.attempts, x.looked = Waiting, 0, true
	case op == OpDiscard && (x.state == Dead || x.state == Waiting || x.state == Delayed):
		x.was, x.wasDue, x.state, x.due = x.state, x.due, Discarded, m.now
	case op == OpUndo && x.state == Discarded:
		x.state, x.due = x.was, m.now
		if x.was == Delayed && x.wasDue <= m.now {
			x.state = Waiting
		} else if x.was == Delayed {
			x.due = x.wasDue
		}
		if x.state == Waiting {
			x.looked = int(o) < m.head || x.attempts > 0
		}
	default:
		return false
	}
	return true
}

func (m *model) take(offsets []int64) (n int) {
	for _, o := range offsets {
		if x := m.all[o]; x.state == Waiting {
			x.state, x.looked = Taken, true
			m.taken = append(m.taken, o)
			n++
		}
	}
	return n
}

func (m *model) send(number int64) {
	for len(m.taken) > 0 && m.sent < number {
		m.all[m.taken[0]].state = 0
		m.taken, m.sent = m.taken[1:], m.sent+1
	}
}

func (m *model) counts() (c Counts) {
	for _, x := range m.all {
		if x.state > 0 {
			*c.of(x.state)++
		}
	}
	return c
}

var aCopy = uuid.MustParse("5c1d8a53-6c4e-4c0e-8f0b-3a1c35d0a0f2")

var aRoute = uuid.MustParse("0ab4ff4f-5f8f-4f1e-9a57-0e2b46a2d7a1")

// drive runs random commands, drawn from the numbers, against the model.
func drive(t *testing.T, numbers func(n int) int, steps int) {
	b := newBench(t, plain)
	m := &model{s: plain}
	var handed []Handed
	for step := range steps {
		what := fmt.Sprintf("step %d", step)
		switch numbers(12) {
		case 11:
			m.advance(b.now)
			b.do(Command{Op: OpTick})
			switch all := numbers(2) == 0; {
			case !m.reads:
				m.reads = true
				if m.copies = nil; all {
					m.copies = m.dead()
				}
				b.both(func(q *Queue) { q.Copy(aCopy, all) })
			case numbers(6) == 0:
				m.reads = false
				b.both(func(q *Queue) { q.EndRoute(aCopy) })
			case len(m.copies) > 0:
				sent := int64(numbers(len(m.copies) + 1))
				b.both(func(q *Queue) { q.Sent(aCopy, sent) })
				require.Len(t, b.q.Letters(aCopy, 0, 1<<40), int(b.q.Owed()[aCopy].Count), what)
			}
		case 9:
			var some []int64
			for o := range m.all {
				if numbers(3) == 0 {
					some = append(some, int64(o))
				}
			}
			m.advance(b.now)
			require.Equal(t, m.take(some), b.do(Command{Op: OpTake, Route: aRoute, Offsets: some}).Changed, what)
		case 10:
			if numbers(8) == 0 {
				b.both(func(q *Queue) { q.EndRoute(aRoute) })
				for _, o := range m.taken {
					m.all[o].state = Waiting
				}
				m.taken, m.sent = nil, 0
				break
			}
			number := m.sent + int64(numbers(4))
			m.send(number)
			b.both(func(q *Queue) { q.Sent(aRoute, number) })
			offsets, first := b.q.Transfers(aRoute, 0, 1<<40)
			require.Equal(t, append([]int64{}, m.taken...), append([]int64{}, offsets...), what)
			if len(m.taken) > 0 {
				require.Equal(t, m.sent, first, what)
			}
			require.Equal(t, m.sent+int64(len(m.taken)), b.q.NextNumber(aRoute), what)
		case 0, 1:
			n := 1 + numbers(4)
			b.now += int64(numbers(int(2 * second)))
			m.advance(b.now)
			b.publishN(n)
			for range n {
				m.all = append(m.all, &modelMessage{state: Waiting})
			}
		case 2, 3:
			most := 1 + numbers(4)
			b.now += int64(numbers(int(2 * second)))
			m.advance(b.now)
			got := b.lease("w", most)
			require.Equal(t, m.lease(most), offsets(got), what)
			handed = append(handed, got...)
		case 4, 5:
			s := Settlement{Offset: int64(numbers(9)), Serial: uint64(numbers(9)), Outcome: Outcome(1 + numbers(4)), Reason: "r", Detail: "number " + fmt.Sprint(numbers(9))}
			if len(handed) > 0 && numbers(5) > 0 {
				h := handed[max(len(handed)-1-numbers(6), 0)]
				s.Offset, s.Serial = h.Offset, h.Serial
			}
			s.After = int64(numbers(3)) * second
			if s.Outcome == Extend {
				s.After += second
			}
			s.Untouched = s.Outcome == Release && numbers(4) == 0
			m.advance(b.now)
			require.Equal(t, m.settle(s), b.settle(s)[0].Status, what)
		case 6:
			op := []Op{OpReturn, OpDiscard, OpUndo}[numbers(3)]
			if len(m.all) == 0 {
				continue
			}
			o := int64(numbers(len(m.all)))
			m.advance(b.now)
			want := 0
			// What is behind the head and may be done is told apart only by
			// the model.
			if m.act(op, o) {
				want = 1
			}
			require.Equal(t, want, b.do(Command{Op: op, Offsets: []int64{o}}).Changed, "%s: %d of %d", what, op, o)
		case 7:
			b.now += int64(numbers(60)) * second
			m.advance(b.now)
			b.do(Command{Op: OpTick})
			// A lease that ran out may have been delayed into the past.
			m.advance(b.now)
		case 8:
			b.reload()
		}
		if m.reads {
			require.Equal(t, int64(len(m.copies)), b.q.NextNumber(aCopy), what)
			left := b.q.Letters(aCopy, 0, 1<<40)
			for i, l := range left {
				require.Equal(t, m.copies[len(m.copies)-len(left)+i], l.Offset, what)
			}
			require.Equal(t, left, b.twin.Letters(aCopy, 0, 1<<40), what)
		}
		got, want := b.q.Counts(), m.counts()
		got.Accepted, got.Attempts, got.Rejected = 0, 0, 0
		require.Equal(t, want, got, what)
		for o, x := range m.all {
			require.Equal(t, x.state, b.state(int64(o)), "%s: message %d", what, o)
		}
	}
}

func TestRandomCommandsAgreeWithTheModel(t *testing.T) {
	for seed := range uint64(200) {
		r := rand.New(rand.NewPCG(seed, 1))
		drive(t, r.IntN, 120)
		if t.Failed() {
			t.Fatalf("seed %d", seed)
		}
	}
}

func FuzzCommandsAgreeWithTheModel(f *testing.F) {
	f.Add([]byte("0123456789 some bytes that choose commands, and what they are about"))
	f.Fuzz(func(t *testing.T, choices []byte) {
		at := 0
		drive(t, func(n int) int {
			v := 0
			for k := n; k > 0 && at < len(choices); k >>= 8 {
				v = v<<8 | int(choices[at])
				at++
			}
			return v % n
		}, min(len(choices), 200))
	})
}

// Of a key a route takes messages in their order, and none while an earlier one waits
// for it or is under way.
func TestARouteTakesKeysInOrder(t *testing.T) {
	s := plain
	s.ByKey = true
	b := newBench(t, s)
	for _, k := range []string{"a", "a", "b", "a", "", "b"} {
		b.publish(message.Message{Key: k})
	}
	take := func(offsets ...int64) int { return b.do(Command{Op: OpTake, Route: aRoute, Offsets: offsets}).Changed }
	require.Zero(t, take(1, 3), "0 waits before them")
	require.Equal(t, 1, take(4), "it has no key")
	require.Equal(t, 2, take(1, 0), "in their order, whatever that of the command is")
	offsets, _ := b.q.Transfers(aRoute, 0, 10)
	require.Equal(t, []int64{4, 0, 1}, offsets)
	held := b.lease("w", 1)
	require.Equal(t, int64(2), held[0].Offset)
	require.Zero(t, take(5), "2 of its key is leased")
	b.settle(Settlement{Offset: 2, Serial: held[0].Serial, Outcome: Accept})
	require.Equal(t, 2, take(5, 3))
	b.reload()
	offsets, first := b.q.Transfers(aRoute, 1, 4)
	require.Equal(t, []int64{0, 1, 3}, offsets)
	require.Zero(t, first)
	b.both(func(q *Queue) { q.Sent(aRoute, 4) })
	require.Equal(t, Counts{Taken: 1, Accepted: 5, Attempts: 1}, b.q.Counts())
	b.both(func(q *Queue) { q.EndRoute(aRoute) })
	require.Equal(t, int64(1), b.q.Counts().Waiting)
	require.Equal(t, int64(5), b.lease("w", 3)[0].Offset, "it is given back")
}

func TestRandomWorkKeepsTheOrderOfKeys(t *testing.T) {
	s := plain
	s.ByKey, s.Attempts, s.MaxBlocked = true, 5, 7
	for seed := range uint64(100) {
		r := rand.New(rand.NewPCG(seed, 2))
		b := newBench(t, s)
		var keys []string
		held := map[int64]Handed{}
		aside := map[int64]bool{} // was discarded or dead: what follows went on without it
		for range 300 {
			switch r.IntN(7) {
			case 0, 1:
				k := string(rune('a' + r.IntN(4)))
				keys = append(keys, k)
				b.publish(message.Message{Key: k})
			case 2, 3:
				for _, h := range b.lease("w", 1+r.IntN(3)) {
					for o, k := range keys {
						if k != keys[h.Offset] || int64(o) == h.Offset {
							continue
						}
						state := b.state(int64(o))
						require.NotEqual(t, Leased, state, "two of key %s are leased: %d and %d", k, o, h.Offset)
						if int64(o) < h.Offset && !aside[int64(o)] {
							require.True(t, state == 0 || state == Dead, "%d was leased before %d of its key, which is %s", h.Offset, o, state)
						}
					}
					held[h.Offset] = h
				}
			case 4:
				for o, h := range held {
					b.settle(Settlement{Offset: o, Serial: h.Serial, Outcome: []Outcome{Accept, Accept, Release, Reject}[r.IntN(4)], After: int64(r.IntN(2)) * second})
					delete(held, o)
					break
				}
			case 5:
				if all := b.q.Offsets(Filter{States: []State{Waiting, Delayed, Dead, Discarded}}, 0, 100); len(all) > 0 {
					o := all[r.IntN(len(all))]
					if b.do(Command{Op: []Op{OpDiscard, OpUndo, OpReturn}[r.IntN(3)], Offsets: []int64{o}}).Changed > 0 {
						aside[o] = true
					}
				}
			case 6:
				if r.IntN(3) == 0 {
					b.pass(int64(r.IntN(40)))
				}
				b.reload()
			}
		}
	}
}
