package group

import (
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"steadyferry/internal/core/form"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func deskOf(t *testing.T, partitions int, members ...string) (*Desk, time.Time) {
	t.Helper()
	now := time.Unix(1_800_000_000, 0)
	table := NewTable(partitions)
	for _, id := range members {
		require.NoError(t, table.Join(id, Member{Timeout: time.Second}))
	}
	table.Balance(now)
	return NewDesk(table, map[int]int64{}, now), now
}

func TestWhoMayCommitWhat(t *testing.T) {
	d, now := deskOf(t, 2, "a", "b") // a holds 0, b holds 1
	commit := func(id string, partition int, offset int64) error {
		round, _ := d.Has(id, nil)
		_, err := d.BeginCommit(id, round, []form.OffsetOf{{Partition: partition, Offset: offset}})
		if err == nil {
			d.EndCommit([]form.OffsetOf{{Partition: partition, Offset: offset}}, true)
		}
		return err
	}
	require.NoError(t, commit("a", 0, 7))
	assert.ErrorIs(t, commit("b", 0, 8), ErrNotHeld)
	assert.ErrorIs(t, commit("z", 0, 8), ErrNoMember)
	var below *BelowError
	require.ErrorAs(t, commit("a", 0, 6), &below)
	assert.Equal(t, BelowError{0, 7, 6}, *below)
	assert.Equal(t, map[int]int64{0: 7}, d.Committed())

	_, err := d.BeginCommit("a", 1, []form.OffsetOf{{Partition: 0, Offset: 9}})
	require.NoError(t, err)
	assert.False(t, d.Settled(), "one is on its way")
	d.EndCommit([]form.OffsetOf{{Partition: 0, Offset: 9}}, false)
	assert.Equal(t, int64(7), d.Committed()[0], "it is not in the records")
	require.NoError(t, d.BeginSeek())
	assert.ErrorIs(t, d.BeginSeek(), ErrSeeking)
	assert.ErrorIs(t, commit("a", 0, 9), ErrSeeking)
	assert.True(t, d.Settled())
	next := d.Next(2)
	next.Sought([]int{0})
	d.Sought(map[int]int64{0: 2})
	d.Show(next, now)
	d.EndSeek()
	require.NoError(t, commit("a", 0, 3), "it may begin below what was committed")
	_, err = d.BeginCommit("a", 1, []form.OffsetOf{{Partition: 0, Offset: 9}})
	assert.ErrorIs(t, err, ErrOldRound, "with what it read before the move")

	require.NoError(t, d.BeginSeek())
	d.Doubt()
	d.EndSeek()
	assert.ErrorIs(t, commit("a", 0, 4), ErrOver, "the records must be read first")
	assert.ErrorIs(t, d.Over(), ErrOver)
	_, err = d.Standing("a")
	assert.NoError(t, err, "reading goes on")
	d.End()
	_, err = d.Standing("a")
	assert.ErrorIs(t, err, ErrOver)
	assert.ErrorIs(t, d.BeginSeek(), ErrOver)
}

func TestWhoFallsSilentIsFound(t *testing.T) {
	d, now := deskOf(t, 2, "a", "b")
	require.NoError(t, d.Hear("a", now.Add(900*time.Millisecond)))
	assert.ErrorIs(t, d.Hear("z", now), ErrNoMember)
	late := now.Add(1001 * time.Millisecond)
	assert.Equal(t, []string{"b"}, d.Silent(late))
	assert.True(t, d.Due(late, 2))
	d.Forgive(time.Second)
	assert.Empty(t, d.Silent(late), "nobody could be heard for a while")
	assert.False(t, d.Due(late, 2))
	assert.True(t, d.Due(late, 3), "the topic has grown")
}

// A member that asks for its next keeps what it has in hand of a partition that it shall
// give up until an answer has told it so.
func TestWhatIsInHandIsKeptUntilItIsToldToGo(t *testing.T) {
	d, now := deskOf(t, 2, "a")
	d.Sent("a", 1, 1, 5)
	next := d.Next(2)
	require.NoError(t, next.Join("b", Member{Timeout: time.Second}))
	next.Balance(now)
	d.Show(next, now)
	s, err := d.Standing("a")
	require.NoError(t, err)
	require.Equal(t, []int{1}, s.Leaving)
	assert.Equal(t, s.Round, s.Touched)
	holds := d.Keeps("a")
	assert.Equal(t, []int{0, 1}, holds)
	assert.False(t, d.GivesUp("a", holds))
	d.Told("a", s.Leaving, now)
	holds = d.Keeps("a")
	assert.Equal(t, []int{0}, holds, "by its next call it has let go")
	assert.True(t, d.GivesUp("a", holds))
	round, offsets := d.Has("a", UpTo{1: {Since: 1, Offset: 5}})
	assert.Equal(t, []form.OffsetOf{{Partition: 1, Offset: 5}}, offsets, "and commits what it had")
	_, err = d.BeginCommit("a", round, offsets)
	assert.NoError(t, err)
}

// reader is a member as it sees itself.
type reader struct {
	upTo   UpTo            // of the last answer that it has
	hand   map[int]Reached // what it has of each partition, to be committed by itself
	silent bool
}

// world is a group whose messages, records, calls and nodes fail at random. The
// records are a table and offsets with an epoch; a desk is one node's.
type world struct {
	t         *testing.T
	random    *rand.Rand
	now       time.Time
	ends      []int64
	shares    []byte // in the records
	committed map[int]int64
	epoch     int
	desk      *Desk
	readers   map[string]*reader
	flying    []func(sure bool) // commits that are on their way
	base      []int64           // from which on everything must have been read
	moved     []uint64          // round of the last seek
	got       []map[int64]bool  // what has arrived since, by partition
	made      int
	waited    bool // a seek has waited for the commits on their way
	calm      bool // nothing fails any more
}

func (w *world) take() {
	if w.desk != nil {
		w.desk.End()
	}
	for len(w.flying) > 0 {
		w.land(0)
	}
	w.epoch++
	w.waited = false
	table := NewTable(0)
	require.NoError(w.t, json.Unmarshal(w.shares, table))
	w.desk = NewDesk(table, maps.Clone(w.committed), w.now)
}

// land has a commit arrive at the records.
func (w *world) land(i int) {
	f := w.flying[i]
	w.flying = slices.Delete(w.flying, i, i+1)
	f(w.calm || w.random.IntN(4) > 0)
}

func (w *world) record(table *Table) (err error) {
	w.shares, err = json.Marshal(table)
	return err
}

// change changes the table as the coordinator does.
func (w *world) change(f func(*Table)) {
	if w.desk.Over() != nil {
		w.take()
	}
	next := w.desk.Next(len(w.ends))
	f(next)
	next.Balance(w.now)
	require.NoError(w.t, w.record(next))
	w.desk.Show(next, w.now)
}

func (w *world) join() {
	id := fmt.Sprintf("m%d", w.made)
	w.made++
	w.change(func(t *Table) { require.NoError(w.t, t.Join(id, Member{Timeout: 2 * time.Second})) })
	w.readers[id] = &reader{upTo: UpTo{}, hand: map[int]Reached{}}
}

func (w *world) tend() {
	if !w.desk.Due(w.now, len(w.ends)) {
		return
	}
	silent := w.desk.Silent(w.now)
	w.change(func(t *Table) {
		for _, id := range silent {
			t.Leave(id)
		}
		t.Overdue(w.now)
	})
}

// commit has a member commit what it has: by its answer, or by itself.
func (w *world) commit(id string, r *reader) error {
	round, offsets := w.desk.Has(id, r.upTo)
	if w.random.IntN(2) == 0 {
		// Under the round in which it got the partition.
		p := w.random.IntN(len(w.ends))
		round, offsets = r.hand[p].Since, []form.OffsetOf{{Partition: p, Offset: r.hand[p].Offset}}
	}
	if len(offsets) == 0 {
		return nil
	}
	if _, err := w.desk.BeginCommit(id, round, offsets); errors.Is(err, ErrOver) {
		w.take()
		return err
	} else if err != nil {
		return err
	}
	desk, epoch := w.desk, w.epoch
	w.flying = append(w.flying, func(arrives bool) {
		recorded := arrives && epoch == w.epoch
		for _, o := range offsets {
			if recorded {
				w.committed[o.Partition] = max(w.committed[o.Partition], o.Offset)
			}
		}
		desk.EndCommit(offsets, recorded)
	})
	return nil
}

// next has a member ask for messages; its answer may be lost, and what is asked
// may come to a desk that is no longer in charge while it reads.
func (w *world) next(id string, arrives bool) {
	r := w.readers[id]
	if errors.Is(w.desk.Hear(id, w.now), ErrNoMember) {
		delete(w.readers, id)
		return
	}
	if w.random.IntN(2) == 0 {
		if err := w.commit(id, r); err != nil {
			return
		}
	}
	if holds := w.desk.Keeps(id); w.desk.GivesUp(id, holds) {
		w.change(func(t *Table) { t.GiveUp(id, holds) })
	}
	s, err := w.desk.Standing(id)
	if err != nil {
		return
	}
	if !w.calm && w.random.IntN(20) == 0 {
		w.join() // while it reads
	}
	next := maps.Clone(r.upTo)
	for _, h := range s.Holds {
		from := r.upTo.From(h.Partition, h.Round, h.Offset)
		to := min(from+int64(w.random.IntN(5)), w.ends[h.Partition])
		if to <= from {
			continue
		}
		next[h.Partition] = Reached{h.Round, to}
		w.desk.Sent(id, h.Partition, h.Round, to)
		if arrives && h.Round >= w.moved[h.Partition] {
			for o := from; o < to; o++ {
				w.got[h.Partition][o] = true
			}
		}
	}
	w.desk.Told(id, s.Leaving, w.now)
	if arrives {
		r.upTo = next
		maps.Copy(r.hand, next)
	}
}

// seek begins to move offsets, waits for the commits on their way, and records
// it: one of these at a time.
func (w *world) seek() {
	switch err := w.desk.BeginSeek(); {
	case errors.Is(err, ErrOver):
		w.take()
		return
	case err == nil || !w.waited:
		w.waited = err != nil && w.desk.Settled()
		return // what it has waited for is not looked at again
	}
	w.waited = false
	p := w.random.IntN(len(w.ends))
	to := w.random.Int64N(w.ends[p] + 1)
	next := w.desk.Next(len(w.ends))
	next.Sought([]int{p})
	if w.random.IntN(5) > 0 { // it may not be recorded
		w.committed[p] = to
		require.NoError(w.t, w.record(next))
		w.base[p], w.moved[p], w.got[p] = to, next.Round, map[int64]bool{}
		if w.random.IntN(5) == 0 { // it is, but nobody knows
			w.desk.Doubt()
		} else {
			w.desk.Sought(map[int]int64{p: to})
			w.desk.Show(next, w.now)
		}
	}
	w.desk.EndSeek()
}

// check holds what is promised: nothing is committed that nobody has.
func (w *world) check(step int) {
	for p := range w.ends {
		for o := w.base[p]; o < w.committed[p]; o++ {
			require.True(w.t, w.got[p][o], "step %d: %d:%d is committed and was never read", step, p, o)
		}
		if w.desk.Over() == nil {
			require.LessOrEqual(w.t, w.desk.Committed()[p], w.committed[p], "what the desk says is in the records")
		}
	}
}

// Members come, go, fall silent and lose answers; commits fail, offsets are
// moved, the topic grows, nodes take over: what is committed was read by
// somebody, and in the end all is read and committed.
func TestNothingIsCommittedThatNobodyHasRead(t *testing.T) {
	for seed := range uint64(12) {
		w := &world{t: t, random: rand.New(rand.NewPCG(seed, 2)), now: time.Unix(1_800_000_000, 0), committed: map[int]int64{}, readers: map[string]*reader{}}
		grow := func() {
			w.ends, w.base, w.moved, w.got = append(w.ends, 0), append(w.base, 0), append(w.moved, 0), append(w.got, map[int64]bool{})
		}
		for range 3 {
			grow()
		}
		require.NoError(t, w.record(NewTable(3)))
		w.take()
		for step := range 1500 {
			w.now = w.now.Add(time.Duration(w.random.IntN(150)) * time.Millisecond)
			ids := slices.Sorted(maps.Keys(w.readers))
			switch n := w.random.IntN(40); {
			case n == 0 && len(ids) < 6 || len(ids) == 0:
				w.join()
			case n == 1:
				id := ids[w.random.IntN(len(ids))]
				w.change(func(t *Table) { t.Leave(id) })
				delete(w.readers, id)
			case n == 2:
				w.readers[ids[w.random.IntN(len(ids))]].silent = true
			case n == 3:
				w.take()
			case n == 4 && len(w.ends) < 8:
				grow()
			case n == 5 || n == 6:
				w.seek()
			case n < 12:
				w.ends[w.random.IntN(len(w.ends))] += int64(w.random.IntN(6))
			case n < 18 && len(w.flying) > 0:
				w.land(w.random.IntN(len(w.flying)))
			case n < 20:
				w.tend()
			default:
				if id := ids[w.random.IntN(len(ids))]; !w.readers[id].silent {
					w.next(id, w.random.IntN(4) > 0)
				}
			}
			w.check(step)
		}
		w.settle()
		w.check(-1)
		for p, end := range w.ends {
			require.Equal(t, end, w.committed[p], "seed %d: all of partition %d is committed in the end", seed, p)
		}
	}
}

// settle lets everything go well from now on, until all that can come has.
func (w *world) settle() {
	w.calm = true
	w.take()
	for _, r := range w.readers {
		r.silent = false
	}
	w.join()
	for range 200 {
		w.now = w.now.Add(100 * time.Millisecond)
		w.tend()
		for _, id := range slices.Sorted(maps.Keys(w.readers)) {
			if w.next(id, true); w.readers[id] != nil {
				_ = w.commit(id, w.readers[id])
			}
			for len(w.flying) > 0 {
				w.land(0)
			}
		}
	}
}
