package queue

import (
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/message"
)

const second = int64(1e6)

var plain = Settings{Lease: 30 * second, Attempts: 3, BackoffMin: second, BackoffMax: 4 * second, RetainDead: 1000 * second, RetainDiscarded: 100 * second, MaxBlocked: 100}

// bench drives a queue as a log would, and keeps a second one that is saved
// and loaded again and again: both must always answer the same.
type bench struct {
	t     testing.TB
	q     *Queue
	twin  *Queue
	now   int64
	index uint64
}

func newBench(t testing.TB, s Settings) *bench {
	b := &bench{t: t, q: New(), twin: New(), now: second}
	b.do(Command{Op: OpConfigure, Settings: &s})
	return b
}

func (b *bench) reload() {
	twin, err := Load(b.twin.Encode())
	require.NoError(b.t, err)
	b.twin = twin
}

func (b *bench) do(c Command) Result {
	b.index++
	stamp := message.Stamp{Offset: b.q.End(), Time: b.now}
	decoded, err := Decode(c.Encode(nil), message.StampSize)
	require.NoError(b.t, err)
	r := b.q.Apply(b.index, stamp, decoded)
	require.Equal(b.t, r, b.twin.Apply(b.index, stamp, decoded), "the saved and loaded state answers otherwise")
	require.Equal(b.t, b.q.Counts(), b.twin.Counts())
	return r
}

// both does something to the state and to its twin.
func (b *bench) both(f func(q *Queue)) {
	f(b.q)
	f(b.twin)
	require.Equal(b.t, b.q.Counts(), b.twin.Counts())
}

func (b *bench) publish(messages ...message.Message) {
	b.index++
	var builder message.Builder
	for i := range messages {
		builder.Add(&messages[i])
	}
	stamp := message.Stamp{Offset: b.q.End(), Time: b.now, Count: uint32(len(messages))}
	batch, err := message.OpenBatch(slices.Clone(builder.Build(message.Plain, nil)))
	require.NoError(b.t, err)
	b.q.Publish(stamp, batch)
	b.twin.Publish(stamp, batch)
}

func (b *bench) publishN(n int) {
	b.publish(slices.Repeat([]message.Message{{Body: []byte("x")}}, n)...)
}

func (b *bench) lease(who string, most int) []Handed {
	return b.do(Command{Op: OpWork, Who: who, Max: most}).Handed
}

func (b *bench) settle(s ...Settlement) []Settled {
	return b.do(Command{Op: OpWork, Who: "w", Settle: s}).Settled
}

func (b *bench) pass(seconds int64) {
	b.now += seconds * second
	b.do(Command{Op: OpTick})
}

func (b *bench) state(offset int64) State {
	i, ok := b.q.Look(offset)
	require.True(b.t, ok)
	return i.State
}

func offsets(handed []Handed) (all []int64) {
	for _, h := range handed {
		all = append(all, h.Offset)
	}
	return all
}

func TestEveryTransition(t *testing.T) {
	end := func(h Handed, o Outcome) Settlement {
		return Settlement{Offset: h.Offset, Serial: h.Serial, Outcome: o, Reason: "code", Detail: "why"}
	}
	for _, c := range []struct {
		name string
		do   func(b *bench, h Handed)
		want State
	}{
		{"accept", func(b *bench, h Handed) { b.settle(end(h, Accept)) }, 0},
		{"release", func(b *bench, h Handed) { b.settle(end(h, Release)) }, Waiting},
		{"release after", func(b *bench, h Handed) { s := end(h, Release); s.After = second; b.settle(s) }, Delayed},
		{"release with backoff", func(b *bench, h Handed) { s := end(h, Release); s.After = Auto; b.settle(s) }, Delayed},
		{"due", func(b *bench, h Handed) { s := end(h, Release); s.After = second; b.settle(s); b.pass(1) }, Waiting},
		{"reject", func(b *bench, h Handed) { b.settle(end(h, Reject)) }, Dead},
		{"run out", func(b *bench, h Handed) { b.pass(30) }, Delayed},
		{"run out and due", func(b *bench, h Handed) { b.pass(30); b.pass(1) }, Waiting},
		{"extend", func(b *bench, h Handed) {
			b.pass(29)
			s := end(h, Extend)
			s.After = 60 * second
			b.settle(s)
			b.pass(30)
		}, Leased},
		{"attempts-used-up", func(b *bench, h Handed) {
			for range 3 {
				b.settle(end(h, Release))
				if next := b.lease("w", 1); len(next) > 0 {
					h = next[0]
				}
			}
		}, Dead},
		{"untouched releases are no attempts", func(b *bench, h Handed) {
			for range 9 {
				s := end(h, Release)
				s.Untouched = true
				b.settle(s)
				h = b.lease("w", 1)[0]
			}
		}, Leased},
		{"return", func(b *bench, h Handed) {
			b.settle(end(h, Reject))
			b.do(Command{Op: OpReturn, Offsets: []int64{0}})
		}, Waiting},
		{"discard", func(b *bench, h Handed) {
			b.settle(end(h, Reject))
			b.do(Command{Op: OpDiscard, Offsets: []int64{0}})
		}, Discarded},
		{"undo", func(b *bench, h Handed) {
			b.settle(end(h, Reject))
			b.do(Command{Op: OpDiscard, Offsets: []int64{0}})
			b.do(Command{Op: OpUndo, Offsets: []int64{0}})
		}, Dead},
		{"forget what was discarded", func(b *bench, h Handed) {
			b.settle(end(h, Reject))
			b.do(Command{Op: OpDiscard, Offsets: []int64{0}})
			b.pass(100)
		}, 0},
		{"forget a dead letter", func(b *bench, h Handed) { b.settle(end(h, Reject)); b.pass(1000) }, 0},
		{"send on", func(b *bench, h Handed) {
			b.settle(end(h, Reject))
			b.do(Command{Op: OpSendOn, Offsets: []int64{0}, Reason: "coldchain/other"})
		}, Discarded},
		{"what is leased cannot be discarded", func(b *bench, h Handed) { b.do(Command{Op: OpDiscard, Offsets: []int64{0}}) }, Leased},
	} {
		t.Run(c.name, func(t *testing.T) {
			b := newBench(t, plain)
			b.publishN(1)
			c.do(b, b.lease("w", 1)[0])
			require.Equal(t, c.want, b.state(0))
			b.reload()
			b.pass(0)
		})
	}
}

func TestSettlingWithAnOldLeaseChangesNothing(t *testing.T) {
	b := newBench(t, plain)
	b.publishN(2)
	h := b.lease("w", 1)[0]
	b.pass(30)
	b.pass(1)
	for _, o := range []Outcome{Accept, Release, Reject, Extend} {
		require.Equal(t, []Settled{{Status: NotHeld}}, b.settle(Settlement{Offset: h.Offset, Serial: h.Serial, Outcome: o}))
	}
	require.Equal(t, []Settled{{Status: Unknown}}, b.settle(Settlement{Offset: 1, Serial: 99, Outcome: Accept}))
	require.Equal(t, []Settled{{Status: Unknown}}, b.settle(Settlement{Offset: 7, Serial: 1, Outcome: Accept}))
	require.Equal(t, Counts{Waiting: 2, Attempts: 1}, b.q.Counts())
	again := b.lease("w", 1)[0]
	require.Equal(t, 2, again.Attempt)
	require.Equal(t, h.Offset, again.Offset)
}

func TestTerms(t *testing.T) {
	b := newBench(t, plain)
	at := func(seconds int64) time.Time { return time.UnixMicro(b.now + seconds*second) }
	b.publish(
		message.Message{Terms: &message.Terms{NotBefore: at(10)}},
		message.Message{Terms: &message.Terms{Expires: at(5)}},
		message.Message{},
		message.Message{Terms: &message.Terms{Reason: "bad", Detail: "box 12 unknown", By: "m", From: "a/b#0:7"}},
		message.Message{Terms: &message.Terms{Reason: "bad", Detail: "box 12 unknown", By: "m", From: "a/b#0:7"}},
	)
	require.Equal(t, Counts{Waiting: 2, Delayed: 1, Dead: 1, Rejected: 1}, b.q.Counts(), "what a member rejects twice is kept once")
	b.reload()
	b.pass(6)
	require.Equal(t, Dead, b.state(1))
	i, _ := b.q.Look(1)
	require.Equal(t, ReasonExpired, i.Reason)
	require.Equal(t, []int64{2}, offsets(b.lease("w", 9)))
	b.pass(4)
	require.Equal(t, []int64{0}, offsets(b.lease("w", 9)))
	require.Len(t, b.q.Causes(0, b.now, 4), 2)
}

func TestTheQueueItselfLetsMessagesExpire(t *testing.T) {
	for _, drop := range []bool{false, true} {
		s := plain
		s.Expire, s.DropExpired = 10*second, drop
		b := newBench(t, s)
		b.publishN(5)
		b.pass(3)
		b.publishN(5)
		h := b.lease("w", 1)[0]
		b.pass(9)
		b.settle(Settlement{Offset: h.Offset, Serial: h.Serial, Outcome: Release})
		b.pass(0)
		if drop {
			require.Equal(t, Counts{Waiting: 5, Attempts: 1}, b.q.Counts())
		} else {
			require.Equal(t, Counts{Waiting: 5, Dead: 5, Attempts: 1, Rejected: 5}, b.q.Counts())
		}
	}
}

func TestAcceptingOnDelivery(t *testing.T) {
	b := newBench(t, plain)
	b.publishN(3)
	r := b.do(Command{Op: OpWork, Who: "w", Max: 2, AtOnce: true})
	require.Equal(t, []int64{0, 1}, offsets(r.Handed))
	require.Equal(t, Counts{Waiting: 1, Accepted: 2, Attempts: 2}, b.q.Counts())
}

func TestMessagesOfAKeyComeOneAtATimeAndInOrder(t *testing.T) {
	s := plain
	s.ByKey = true
	b := newBench(t, s)
	for _, k := range []string{"a", "a", "b", "a", "", "b", ""} {
		b.publish(message.Message{Key: k})
	}
	first := b.lease("m1", 9)
	require.Equal(t, []int64{0, 2, 4, 6}, offsets(first), "a and b once, and those without a key")
	require.Empty(t, b.lease("m2", 9))
	b.settle(Settlement{Offset: 0, Serial: first[0].Serial, Outcome: Release, After: second})
	require.Empty(t, b.lease("m2", 9), "what comes again holds up what follows")
	b.settle(Settlement{Offset: 2, Serial: first[1].Serial, Outcome: Reject, Reason: "bad"})
	require.Equal(t, []int64{5}, offsets(b.lease("m2", 9)), "a dead letter holds up nothing")
	b.reload()
	b.pass(1)
	h := b.lease("m2", 9)
	require.Equal(t, []int64{0}, offsets(h))
	b.settle(Settlement{Offset: 0, Serial: h[0].Serial, Outcome: Accept})
	h = b.lease("m2", 9)
	require.Equal(t, []int64{1}, offsets(h))
	b.settle(Settlement{Offset: 1, Serial: h[0].Serial, Outcome: Accept})
	require.Equal(t, []int64{3}, offsets(b.lease("m2", 9)))
}

func FuzzDecode(f *testing.F) {
	c := Command{Nonce: 7, Op: OpWork, Who: "w", Max: 3, Settle: []Settlement{{Offset: 1, Serial: 2, Outcome: Reject, Reason: "r", Detail: "d"}}}
	f.Add(c.Encode(nil))
	f.Add((&Command{Op: OpCarry, Carried: []Carried{{Offset: 1, Content: []byte("b"), Details: [][]byte{[]byte("d")}}}}).Encode(nil))
	f.Add((&Command{Op: OpReturn, Offsets: []int64{5, 3}}).Encode(nil))
	f.Fuzz(func(t *testing.T, b []byte) {
		c, err := Decode(b, 0)
		if err != nil {
			require.ErrorIs(t, err, ErrCommand)
			return
		}
		_, err = Decode(c.Encode(nil), 0)
		require.NoError(t, err)
	})
}

// A saved state is read or refused, whatever became of it.
func FuzzLoad(f *testing.F) {
	b := newBench(f, plain)
	b.publishN(9)
	h := b.lease("w", 4)
	b.settle(Settlement{Offset: h[0].Offset, Serial: h[0].Serial, Outcome: Reject, Reason: "r", Detail: "d"}, Settlement{Offset: h[1].Offset, Serial: h[1].Serial, Outcome: Release, After: second})
	b.do(Command{Op: OpDiscard, Offsets: []int64{7}})
	f.Add(b.q.Encode())
	f.Fuzz(func(t *testing.T, saved []byte) {
		if q, err := Load(saved); err == nil {
			q.Apply(1, message.Stamp{Time: 1 << 50}, &Command{Op: OpWork, Max: 10})
		}
	})
}

func TestPattern(t *testing.T) {
	for detail, want := range map[string]string{
		`box box-1047 is not known`:                            `box * is not known`,
		`celsius is "46.4 F", want a number`:                   `celsius is '…', want a number`,
		`field "celsius": got '46.4 F'`:                        `field "celsius": got '…'`,
		`timeout after 30.5s at 2026-11-23T08:00:00Z`:          `timeout after * at *`,
		`-12 is under -5`:                                      `0 is under 0`,
		`id 550e8400-e29b-41d4-a716-446655440000 seen 3 times`: `id * seen 0 times`,
		"it doesn't fit\n  at parse (reader.js:12:7)":          "it doesn't fit\n  at parse (*)",
		`quote " alone`:                                        `quote " alone`,
		"":                                                     "",
	} {
		require.Equal(t, want, Pattern(detail))
	}
	for detail, want := range map[string]string{
		"no lease within 30 s":                 "no lease within … s",
		"box 7 is not in register of 40 boxes": "box … is not in register of … boxes",
		"field \"0\" is 12":                    "field \"…\" is …",
		"nothing differs":                      "nothing differs",
	} {
		require.Equal(t, want, Shown(Pattern(detail)))
	}
	a := causeID("bad", Pattern("box 1 unknown"))
	b := causeID("bad", Pattern("box 2 unknown"))
	c := causeID("worse", Pattern("box 2 unknown"))
	require.Equal(t, a, b)
	require.NotEqual(t, b, c)
}

func TestWhatOldSegmentsAreKeptFor(t *testing.T) {
	b := newBench(t, plain)
	b.publishN(10)
	h := b.lease("w", 8)
	b.settle(Settlement{Offset: 3, Serial: h[3].Serial, Outcome: Reject, Reason: "r", Detail: "because"})
	for _, i := range []int{0, 1, 2, 4, 6, 7} {
		b.settle(Settlement{Offset: h[i].Offset, Serial: h[i].Serial, Outcome: Accept})
	}
	kept, counts := b.q.KeptIn([]int64{0, 5, 9}, []uint64{1, 3, 100}, 10)
	require.Equal(t, []int{1, 1, 0}, counts)
	require.Equal(t, []int64{3}, kept[0].Offsets)
	require.Equal(t, []int64{5}, kept[1].Offsets)
	require.Equal(t, []bool{false, true, true}, []bool{kept[0].Waiting, kept[1].Waiting, kept[2].Waiting})
	b.index = 150
	b.do(Command{Op: OpCarry, Carried: []Carried{{Offset: 3, Content: []byte("batch"), Details: [][]byte{[]byte("because")}}}})
	_, counts = b.q.KeptIn([]int64{0, 5, 9}, []uint64{1, 3, 100}, 10)
	require.Equal(t, []int{0, 1, 1}, counts)
	i, _ := b.q.Look(3)
	require.EqualValues(t, 151, i.Home)
	require.EqualValues(t, 151, i.History[0].Detail.Index)
}
