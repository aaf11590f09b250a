package quota

import (
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var noon = time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)

func Example() {
	var a Account
	a.Set(1000, noon) // a second
	fmt.Println(a.Pay(5000, noon), a.Pay(1, noon), a.Pay(1, noon.Add(4*time.Second)))
	// Output: 0s 3.001s 0s
}

func TestAnAccountLetsALargeThingThroughAndThenNothing(t *testing.T) {
	var a Account
	assert.Zero(t, a.Pay(1e12, noon), "there is no bound")
	a.Set(100, noon)
	assert.Zero(t, a.Pay(150, noon), "two seconds are saved up")
	assert.Zero(t, a.Pay(100, noon), "50 are left: it is let through whole")
	assert.Equal(t, 501*time.Millisecond, a.Pay(1, noon), "50 are owed")
	assert.Equal(t, 251*time.Millisecond, a.Owed(noon.Add(250*time.Millisecond)))
	assert.Zero(t, a.Pay(1, noon.Add(600*time.Millisecond)))
	a.Owe(1000, noon.Add(time.Second))
	assert.Greater(t, a.Owed(noon.Add(time.Second)), 9*time.Second, "what was used is paid afterwards")
	a.Back(1000)
	assert.Zero(t, a.Owed(noon.Add(time.Second)))
	asked, used := a.Told()
	assert.EqualValues(t, 1e12+150+100+1+1, asked, "what was refused was asked for too")
	assert.EqualValues(t, 1e12+150+100+1, used)
	asked, used = a.Told()
	assert.Zero(t, asked+used)
}

func TestADebtStaysWhenTheRateIsAnother(t *testing.T) {
	var a Account
	a.Set(100, noon)
	a.Owe(1200, noon)
	a.Set(1000, noon)
	assert.Equal(t, 1001*time.Millisecond, a.Owed(noon), "1000 are owed")
	a.Set(0, noon)
	assert.Zero(t, a.Owed(noon), "without a bound nothing is owed")
	a.Set(10, noon)
	assert.Zero(t, a.Owed(noon), "and a new bound begins anew")
	assert.Zero(t, a.Owed(noon.Add(-time.Hour)), "a clock that goes back takes nothing")
}

// Whatever is asked, and in which steps: over a long time no more is let through than the rate,
// what is saved, and one thing too large.
func TestNoMoreIsPaidThanIsEarned(t *testing.T) {
	for seed := range uint64(200) {
		r := rand.New(rand.NewPCG(seed, 7))
		var a Account
		rate, largest := 1+r.Float64()*1000, r.Float64()*5000
		a.Set(rate, noon)
		now, paid := noon, 0.0
		for range 400 {
			now = now.Add(time.Duration(r.IntN(200)) * time.Millisecond)
			amount := r.Float64() * largest
			after := a.Pay(amount, now)
			if after == 0 {
				paid += amount
				continue
			}
			require.Zero(t, a.Owed(now.Add(after)), "seed %d: it said %s", seed, after)
			a.earnBackTo(now)
		}
		most := rate*(now.Sub(noon)+Saved).Seconds() + largest
		require.LessOrEqual(t, paid, most+1e-6, "seed %d", seed)
	}
}

// earnBackTo undoes a look into the time to come.
func (a *Account) earnBackTo(now time.Time) {
	a.balance -= a.rate * a.at.Sub(now).Seconds()
	a.at = now
}

func TestNodesDivideWhatIsAllowed(t *testing.T) {
	for _, c := range []struct {
		own    float64
		others []float64
		want   float64
		why    string
	}{
		{50, nil, 100, "alone"},
		{0, []float64{0, 0}, 100, "nothing is asked"},
		{30, []float64{20, 10}, 70, "what the others leave"},
		{100, []float64{100}, 50, "even"},
		{300, []float64{100}, 75, "by what is asked"},
		{0, []float64{500}, 5, "one that was idle has a little"},
		{0, []float64{60}, 40, "or what is left"},
	} {
		assert.InDelta(t, c.want, Share(100, c.own, c.others), 1e-9, c.why)
	}
}

// While more is asked than is allowed, the parts of all nodes are no more than it, but for the
// little that idle ones have.
func TestPartsAreTheWhole(t *testing.T) {
	for seed := range uint64(300) {
		r := rand.New(rand.NewPCG(seed, 9))
		asked := make([]float64, 1+r.IntN(6))
		sum := 0.0
		for i := range asked {
			asked[i] = r.Float64() * 100
			sum += asked[i]
		}
		allowed := r.Float64() * 300
		all := 0.0
		for i := range asked {
			var others []float64
			others = append(append(others, asked[:i]...), asked[i+1:]...)
			share := Share(allowed, asked[i], others)
			if sum <= allowed {
				require.GreaterOrEqual(t, share, asked[i]-1e-9, "seed %d", seed)
			}
			all += share
		}
		if sum > allowed {
			require.LessOrEqual(t, all, allowed*1.1+1e-9, "seed %d", seed)
		}
	}
}

func BenchmarkPay(b *testing.B) {
	var a Account
	a.Set(1e18, noon)
	now := time.Now()
	b.ReportAllocs()
	for b.Loop() {
		if a.Pay(100, now) != 0 {
			b.Fatal("it is refused")
		}
	}
}
