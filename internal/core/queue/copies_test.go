package queue

import (
	"testing"

	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/message"
)

// What a route copies of a dead letter is what that was, whatever happens to it later, and
// its bytes are needed until they are sent.
func TestALetterIsWhatItWasWhenItDied(t *testing.T) {
	b := newBench(t, plain)
	b.publishN(3)
	reject := func(offset int64, reason, detail string) {
		t.Helper()
		for _, h := range b.lease("w", 3) {
			s := Settlement{Offset: h.Offset, Serial: h.Serial, Outcome: Accept}
			if h.Offset == offset {
				s.Outcome, s.Reason, s.Detail = Reject, reason, detail
			} else {
				s.Outcome, s.Untouched = Release, true
			}
			b.settle(s)
		}
	}
	reject(1, "bad", "field /box is missing")
	b.both(func(q *Queue) { q.Copy(aCopy, true); q.Copy(aRoute, false) })
	require.Equal(t, Owed{Count: 1, Next: 1, Since: b.now}, b.q.Owed()[aCopy], "what is dead already is copied by one that reads all")
	require.Zero(t, b.q.NextNumber(aRoute))
	edit := b.index + 1
	b.do(Command{Op: OpEdit, Offsets: []int64{1}, Content: []byte("another")})
	b.do(Command{Op: OpReturn, Offsets: []int64{1}})
	reject(1, "worse", "")
	b.do(Command{Op: OpDiscard, Offsets: []int64{1}})
	b.do(Command{Op: OpUndo, Offsets: []int64{1}})
	for _, q := range []*Queue{b.q, b.twin} {
		all := q.Letters(aCopy, 0, 10)
		require.Len(t, all, 2, "one each time that it became a dead letter; that it came back from the discarded is none")
		require.Equal(t, []string{"bad", "worse"}, []string{all[0].Reason, all[1].Reason})
		require.Equal(t, []uint64{0, edit}, []uint64{all[0].Edited, all[1].Edited})
		require.NotZero(t, all[0].Detail.Size)
		require.Equal(t, all[1:], q.Letters(aRoute, 0, 10), "from the end: what died since")
	}
	b.reload()

	// With the message done, its batch is needed for the first letter.
	b.do(Command{Op: OpDiscard, Offsets: []int64{0, 1, 2}})
	b.pass(1000)
	require.Equal(t, State(0), b.state(1))
	starts, bases := []int64{0, 3}, []uint64{1, 3}
	kept, counts := b.q.KeptIn(starts, bases, 10)
	require.Equal(t, []int{1, 2}, counts, "the batch of the first, and where the second was edited, for two routes")
	require.Equal(t, []LetterID{{aCopy, 0}}, kept[0].Letters)

	carry := Command{Op: OpCarryLetters, Carried: []Carried{{LetterID: LetterID{aCopy, 0}, Offset: 1, Content: []byte("as it was"), Details: [][]byte{[]byte("field /box is missing")}}}}
	require.Equal(t, 1, b.do(carry).Changed)
	l := b.q.Letters(aCopy, 0, 1)[0]
	require.Equal(t, Ref{b.index, l.Content.At, 9}, l.Content)
	data := carry.Encode(make([]byte, message.StampSize))
	require.Equal(t, "as it was", string(data[l.Content.At:][:l.Content.Size]))
	require.Equal(t, "field /box is missing", string(data[l.Detail.At:][:l.Detail.Size]))
	_, counts = b.q.KeptIn(starts, bases, 10)
	require.Equal(t, []int{0, 3}, counts, "the first segment can go")

	b.both(func(q *Queue) { q.Sent(aCopy, 2); q.EndRoute(aRoute) })
	_, counts = b.q.KeptIn(starts, bases, 10)
	require.Equal(t, []int{0, 0}, counts)
	require.Zero(t, b.do(carry).Changed, "what is sent needs no bytes")
	require.Equal(t, int64(2), b.q.NextNumber(aCopy), "numbers count on")
}
