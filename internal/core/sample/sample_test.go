package sample

import (
	"math"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var start = time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)

// random is a block such as things make: steady, noisy, unknown for stretches.
func random(r *rand.Rand, k *Kind, steps int) *Block {
	b := k.NewBlock(start, 10*time.Second)
	level := make([]float64, len(k.Values))
	for i := range steps {
		values := make([]float64, len(k.Values))
		for v := range values {
			switch {
			case v%3 == 1:
				level[v] += float64(r.IntN(100))
			case v%3 == 2:
				level[v] = math.Abs(r.NormFloat64()) * 1000
			case r.IntN(50) == 0:
				level[v] = float64(r.IntN(5))
			}
			if values[v] = level[v]; i/20%7 == 3 && v%2 == 0 {
				values[v] = Unknown
			}
		}
		b.Put(start.Add(time.Duration(i)*b.Step), values)
	}
	return b
}

func TestABlockIsReadBack(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	for _, k := range Kinds {
		for _, steps := range []int{0, 1, 7, 360} {
			b := random(r, k, steps)
			raw := k.Encode(b, []byte("before"))[6:]
			again, err := k.Decode(raw)
			require.NoError(t, err)
			assert.Equal(t, b.Begin, again.Begin)
			assert.Equal(t, b.Len(), again.Len())
			for v := range k.Values {
				for i := range steps {
					want, got := b.At(v, i), again.At(v, i)
					require.Equal(t, math.IsNaN(want), math.IsNaN(got), "%s %d", k.Values[v].Name, i)
					if !math.IsNaN(want) {
						require.InDelta(t, want, got, 0.5001*math.Pow10(-k.Values[v].Digits), "%s %d", k.Values[v].Name, i)
					}
				}
			}
			assert.Equal(t, raw, k.Encode(again, nil), "what was read is written alike")
		}
	}
	// One of later, which has more values, is read too.
	more := &Kind{"channel", append(append([]Value{}, Channel.Values...), Value{Name: "new"})}
	b := random(r, more, 20)
	again, err := Channel.Decode(more.Encode(b, nil))
	require.NoError(t, err)
	assert.Len(t, again.Columns, len(Channel.Values))
}

func TestWhatDoesNotChangeTakesLittle(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	still := Channel.NewBlock(start, 10*time.Second)
	for i := range 360 {
		still.Put(start.Add(time.Duration(i)*still.Step), make([]float64, len(Channel.Values)))
	}
	assert.Less(t, len(Channel.Encode(still, nil)), 100)
	assert.Less(t, len(Channel.Encode(random(r, Channel, 360), nil)), 12<<10)
}

// A thing takes a bounded room in 30 days, however its values change.
func TestWhatAThingTakes(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	of := func(k *Kind) (total int) {
		for _, l := range Levels {
			total += len(k.Encode(random(r, k, l.Count()), nil)) * int(l.Kept/l.Block+1)
		}
		t.Logf("%s: %d KiB with noise in all values", k.Name, total>>10)
		return total
	}
	assert.Less(t, 2000*of(Channel)+500*of(Group), 2<<30, "2,000 channels and 500 groups")
}

func FuzzDecode(f *testing.F) {
	r := rand.New(rand.NewPCG(1, 2))
	f.Add(Group.Encode(random(r, Group, 40), nil))
	f.Add([]byte{form, 0, 10, 1, 3, 3, 0})
	f.Fuzz(func(t *testing.T, raw []byte) {
		b, err := Group.Decode(raw)
		if err != nil {
			require.ErrorIs(t, err, ErrForm)
			return
		}
		again, err := Group.Decode(Group.Encode(b, nil))
		require.NoError(t, err)
		assert.Equal(t, b.Len(), again.Len())
	})
}

// Coarser steps have the mean of rates, the peaks of backlogs and the fewest of what must be
// there, of what is known.
func TestFineStepsAreFolded(t *testing.T) {
	k := &Kind{"x", []Value{{Name: "rate", Fold: Mean}, {Name: "dead", Fold: Most}, {Name: "members", Fold: Least}}}
	fine := k.NewBlock(start, 10*time.Second)
	for i, x := range []float64{1, 2, 9, 4, 5, 3, Unknown, 7, Unknown, Unknown, 8, Unknown} {
		fine.Put(start.Add(time.Duration(i)*fine.Step), []float64{x, x, x})
	}
	coarse := k.NewBlock(start.Add(-time.Hour), time.Minute)
	k.Fold(coarse, fine)
	assert.Equal(t, []float64{4, 7.5}, coarse.Columns[0][60:])
	assert.Equal(t, []float64{9, 8}, coarse.Columns[1][60:])
	assert.Equal(t, []float64{1, 7}, coarse.Columns[2][60:])
	assert.True(t, math.IsNaN(coarse.At(0, 59)))
	assert.True(t, math.IsNaN(coarse.At(0, 62)))
	coarse.Put(start.Add(-2*time.Hour), []float64{1})
	assert.Equal(t, 62, coarse.Len(), "what is before its begin is not its")
}

func TestLevels(t *testing.T) {
	for i, l := range Levels {
		assert.Zero(t, l.Block%l.Step)
		if i > 0 {
			assert.Zero(t, l.Step%Levels[i-1].Step)
			assert.Zero(t, l.Block%Levels[i-1].Block)
			assert.Greater(t, Levels[i-1].Kept, Levels[i].Block+Levels[i-1].Block, "what a block is made of is there when it ends")
		}
	}
	for span, step := range map[time.Duration]time.Duration{10 * time.Minute: 10 * time.Second, time.Hour: 10 * time.Second, 24 * time.Hour: time.Minute, 30 * 24 * time.Hour: 10 * time.Minute} {
		assert.Equal(t, step, LevelFor(span, span, 1500).Step, span)
	}
	assert.Equal(t, 10*time.Minute, LevelFor(30*24*time.Hour, 30*24*time.Hour, 10).Step, "the coarsest, if it must be")
	assert.Equal(t, time.Minute, LevelFor(5*24*time.Hour, time.Hour, 1500).Step, "an hour of last week")
	assert.Equal(t, start, Levels[0].Begin(start.Add(59*time.Minute)))
	for _, k := range Kinds {
		assert.Same(t, k, Named(k.Name))
		for i := range k.Values {
			assert.Equal(t, i, k.Place(k.Values[i].Name))
		}
	}
	assert.Nil(t, Named("none"))
	assert.Equal(t, -1, Channel.Place("none"))
}

func BenchmarkEncode(b *testing.B) {
	block := random(rand.New(rand.NewPCG(1, 2)), Channel, 360)
	var buf []byte
	for b.Loop() {
		buf = Channel.Encode(block, buf[:0])
	}
	b.ReportMetric(float64(len(buf)), "bytes")
}
