package route

import (
	"math/rand/v2"
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/message"
)

// lanesTo are the terms of a route to a place outside with so many lanes.
func lanesTo(lanes int) Terms { return Terms{Version: 1, Text: "out", Target: 7, Partitions: lanes} }

func TestPlacesOfLanesAreKeptWithTheFloor(t *testing.T) {
	id := uuid.New()
	ps := NewPlans()
	at := message.Stamp{Offset: 100, Time: 1}
	require.Equal(t, []Outcome{Done}, ps.Apply(at, &Command{Steps: []Step{{Op: Make, Route: id, Terms: lanesTo(2)}}}, nil))
	w := NewWalk()
	w.KeepLanes = true
	p, _ := ps.Of(id)
	w.Look(p, 100)
	for _, n := range w.Unknown() {
		w.Told(n, p.Lane(n), 0)
	}
	cut, from, to, ok := w.Next()
	require.True(t, ok)
	assert.Equal(t, []int64{0, 100}, []int64{from, to})
	for i := range int64(10) { // even ones for one lane, odd ones for the other
		w.Add(1+int(i%2), cut.At(i), cut.At(i+1))
	}
	w.Passed(10)
	_, one, _ := w.Flush(1)
	_, two, _ := w.Flush(2)
	w.Reached(1, one, cut.At(5)) // three of its five
	w.Taken(2, two)
	s, ok := w.Progress()
	require.True(t, ok)
	assert.Equal(t, cut.At(5), s.Floor, "the first lane has what lies before")
	assert.Equal(t, []Place{cut.At(5), cut.At(10)}, s.Lanes)
	require.Equal(t, []Outcome{Done}, ps.Apply(at, &Command{Steps: []Step{s}}, nil))

	// Another worker goes on with each lane where it was.
	back, err := DecodePlans(ps.Encode())
	require.NoError(t, err)
	p, _ = back.Of(id)
	assert.Equal(t, s.Lanes, p.Lanes)
	other := NewWalk()
	other.Look(p, 100)
	for _, n := range other.Unknown() {
		other.Told(n, p.Lane(n), 0)
	}
	assert.True(t, other.Wants(1, cut.At(7)))
	assert.False(t, other.Wants(2, cut.At(10)), "the second lane has it")
	assert.True(t, other.Wants(2, cut.At(12)))

	// What was not sent comes anew, of that lane alone.
	w.Look(p, 100)
	w.Returned(1, one)
	cut, from, _, ok = w.Next()
	require.True(t, ok)
	assert.EqualValues(t, 5, from)
	assert.True(t, w.Wants(1, cut.At(7)))
	assert.False(t, w.Wants(2, cut.At(8)))
}

// Commands and states without lanes are read as they were written before there were any.
func TestTheFormBeforeLanes(t *testing.T) {
	id := uuid.New()
	c := &Command{Epoch: 1, Steps: []Step{{Op: Floor, Route: id, Seq: 2, Floor: Place{Cut: 1, Offset: 9}, Lost: 3}}}
	b := c.Encode(nil)
	old := append([]byte{}, b[:len(b)-1]...) // without the count of lanes
	old[8] = 1
	read, err := DecodeCommand(old)
	require.NoError(t, err)
	assert.Equal(t, c, read)
	_, err = DecodeCommand(b[:len(b)-1])
	assert.ErrorIs(t, err, ErrForm)
	b[8] = 3
	_, err = DecodeCommand(b)
	assert.ErrorIs(t, err, ErrForm, "a form of later")
}

// laneWorld is a place outside that keeps nothing, and workers that crash between a
// delivery and its record.
type laneWorld struct {
	rnd   *rand.Rand
	plans *Plans
	id    uuid.UUID
	end   int64
	lanes int
	walk  *Walk
	sent  map[int][]int64 // by lane, the offsets as they came
	first map[int64]bool
	under map[int][]Place // batches under way: where each message leads up to
	upTo  map[int]Place
	open  map[int][]Place
	start int
}

func (w *laneWorld) crash() {
	w.walk = NewWalk()
	w.walk.KeepLanes = true
	w.under, w.upTo, w.open, w.start = map[int][]Place{}, map[int]Place{}, map[int][]Place{}, 0
}

func (w *laneWorld) step(t *testing.T) {
	p, _ := w.plans.Of(w.id)
	w.walk.Look(p, w.end)
	if n := w.walk.Starts(); n != w.start {
		w.start, w.open = n, map[int][]Place{}
	}
	switch w.rnd.IntN(6) {
	case 0:
		for _, n := range w.walk.Unknown() {
			w.walk.Told(n, p.Lane(n), 0)
		}
	case 1, 2: // it decides some
		cut, from, to, ok := w.walk.Next()
		if !ok {
			return
		}
		to = min(to, from+1+w.rnd.Int64N(8))
		for o := from; o < to; o++ {
			lane, upTo := Number(int(o%int64(w.lanes))), cut.At(o+1)
			if w.walk.Wants(lane, upTo) {
				w.walk.Add(lane, cut.At(o), upTo)
				w.open[lane] = append(w.open[lane], upTo)
			}
		}
		w.walk.Passed(to)
	case 3: // a lane begins
		for lane, all := range w.open {
			if _, flying := w.under[lane]; flying || w.walk.Restarts() || len(all) == 0 {
				continue
			}
			_, w.upTo[lane], _ = w.walk.Flush(lane)
			w.under[lane] = all
			delete(w.open, lane)
		}
	case 4: // a message is delivered, and perhaps that is told
		for lane, all := range w.under {
			if len(all) == 0 {
				w.walk.Taken(lane, w.upTo[lane])
				delete(w.under, lane)
				break
			}
			o := all[0].Offset - 1
			w.sent[lane] = append(w.sent[lane], o)
			w.first[o] = true
			w.under[lane] = all[1:]
			if w.rnd.IntN(2) == 0 && len(all) > 1 {
				w.walk.Reached(lane, w.upTo[lane], all[0])
			}
			break
		}
	case 5:
		if s, ok := w.walk.Progress(); ok {
			outcome := w.plans.Apply(message.Stamp{Offset: w.end, Time: 1}, &Command{Steps: []Step{s}}, nil)
			require.Equal(t, []Outcome{Done}, outcome)
		}
		if w.rnd.IntN(12) == 0 {
			w.crash()
		}
	}
}

// A place outside gets each message of a lane in order, at least once, and again only
// what was not recorded before a crash.
func TestRandomLanes(t *testing.T) {
	for seed := range uint64(runs(t, 300)) {
		w := &laneWorld{rnd: rand.New(rand.NewPCG(seed, 3)), plans: NewPlans(), id: uuid.New(), end: 60, lanes: 1 + int(seed%4), sent: map[int][]int64{}, first: map[int64]bool{}}
		w.plans.Apply(message.Stamp{Offset: w.end, Time: 1}, &Command{Steps: []Step{{Op: Make, Route: w.id, Terms: lanesTo(w.lanes)}}}, nil)
		w.crash()
		for n := 0; n < 20_000 && len(w.first) < int(w.end); n++ {
			w.step(t)
		}
		require.Len(t, w.first, int(w.end), "seed %d: each came", seed)
		for lane, offsets := range w.sent {
			seen, most := map[int64]bool{}, int64(-1)
			for _, o := range offsets {
				require.EqualValues(t, lane, Number(int(o%int64(w.lanes))), "seed %d", seed)
				if !seen[o] {
					require.Greater(t, o, most, "seed %d: what comes first comes in order", seed)
				}
				seen[o], most = true, max(most, o)
			}
		}
	}
}
