package watch_test

import (
	"math"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/sample"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/core/watch"
)

var begin = time.Date(2026, 11, 28, 3, 0, 0, 0, time.UTC)

const step = 10 * time.Second

func rule(t testing.TB, w setting.Watch) *watch.Rule {
	t.Helper()
	if w.Of == "" {
		w.Of = "coldchain/*"
	}
	r, err := watch.New(&w)
	require.NoError(t, err)
	return r
}

// Every value that can be watched is measured of something.
func TestEveryValueIsMeasured(t *testing.T) {
	for _, v := range watch.Values {
		r := rule(t, setting.Watch{Value: v.Name, Warn: map[string]string{"s": "1m", "B": "1GiB"}[unitOf(t, v.Name)] + map[string]string{"": "1", "/s": "1", "%": "1%"}[unitOf(t, v.Name)]})
		assert.NotEmpty(t, r.Kinds, v.Name)
		assert.Equal(t, v.Below, r.Below, v.Name)
	}
}

// The bounds of a space are of the space, not of what is in it.
func TestAWatchOfASpace(t *testing.T) {
	for _, s := range watch.OfSpaces {
		w := s.Settings("coldchain")
		r, err := watch.New(&w)
		require.NoError(t, err)
		assert.Equal(t, s.Name == "bounds", r.Covers(sample.Space, "coldchain"), s.Name)
		assert.Equal(t, s.Name == "dead-letters", r.Covers(sample.Channel, "coldchain/inspections") && s.Value == "dead", s.Name)
	}
	r := rule(t, setting.Watch{Of: "coldchain", Value: "bound-used", Warn: "80%", Alarm: "97"})
	warn, alarm, calm := r.Levels()
	assert.Equal(t, []float64{80, 97, 64}, []float64{warn, alarm, calm})
	assert.Equal(t, "87.5%", watch.FormatLevel(87.5, r.Unit))
	assert.False(t, r.Covers(sample.Space, "depots"))
	_, err := watch.New(&setting.Watch{Of: "coldchain", Value: "bound-used", Warn: "much"})
	assert.ErrorContains(t, err, `warn is "much"`)
}

func unitOf(t *testing.T, name string) string {
	for _, k := range sample.Kinds {
		if i := k.Place(name); i >= 0 {
			return k.Values[i].Unit
		}
	}
	require.Fail(t, "nothing measures it", name)
	return ""
}

func TestWhatAWatchSaysOfFigures(t *testing.T) {
	x := sample.Unknown
	for name, c := range map[string]struct {
		watch   setting.Watch
		figures []float64
		turns   string // b begins, r rises, f falls, e ends, . stays
		begun   int    // step at which the last crossing began
		peak    float64
	}{
		"at once":                         {setting.Watch{Value: "dead", Warn: "5", Alarm: "10"}, []float64{0, 4, 5, 10, 9, 5, 4, 0}, "..brf.e.", 2, 10},
		"what lasts too short is nothing": {setting.Watch{Value: "dead", Warn: "5", ForMS: 20_000}, []float64{5, 5, 4, 5, 5, 4, 4}, ".......", 3, 5},
		"it begins when it crossed":       {setting.Watch{Value: "dead", Warn: "5", ForMS: 20_000}, []float64{0, 5, 7, 6, 0, 0, 0}, "...b..e", 1, 7},
		"what ends must last too":         {setting.Watch{Value: "dead", Warn: "5", ForMS: 10_000}, []float64{5, 5, 0, 5, 0, 0}, ".b...e", 0, 5},
		"nearly good does not end":        {setting.Watch{Value: "dead", Warn: "10"}, []float64{10, 9, 9, 10, 8.5, 8}, "b....e", 0, 10},
		"a level of its own ends it":      {setting.Watch{Value: "dead", Warn: "10", Calm: "2"}, []float64{10, 8, 3, 2}, "b..e", 0, 10},
		"an alarm becomes a warning":      {setting.Watch{Value: "dead", Warn: "5", Alarm: "10"}, []float64{12, 9.5, 8, 7, 3}, "b.f.e", 0, 12},
		"an alarm alone":                  {setting.Watch{Value: "dead", Alarm: "10"}, []float64{9, 10, 9, 8}, ".b.e", 1, 10},
		"below":                           {setting.Watch{Value: "members", Warn: "1", Alarm: "0"}, []float64{3, 1, 0, 1, 2}, ".brfe", 1, 0},
		"below said":                      {setting.Watch{Value: "lag", When: "below", Warn: "10"}, []float64{30, 10, 11, 12}, ".b.e", 1, 10},
		"nothing known changes nothing":   {setting.Watch{Value: "dead", Warn: "5", ForMS: 20_000}, []float64{5, x, 5, x, 0, x, 0}, "..b...e", 0, 5},
		"an alarm of what rose slowly":    {setting.Watch{Value: "dead", Warn: "5", Alarm: "10", ForMS: 20_000}, []float64{5, 10, 6, 10, 10, 10}, "..b..r", 0, 10},
		"durations":                       {setting.Watch{Value: "lag-age", Warn: "2m"}, []float64{119, 120}, ".b", 1, 120},
	} {
		t.Run(name, func(t *testing.T) {
			r := rule(t, c.watch)
			var s watch.State
			turns := ""
			for i, x := range c.figures {
				var turn watch.Turn
				s, turn = r.Step(s, begin.Add(time.Duration(i)*step), x)
				turns += map[watch.Turn]string{watch.Stays: ".", watch.Begins: "b", watch.Rises: "r", watch.Falls: "f", watch.Ends: "e"}[turn]
			}
			assert.Equal(t, c.turns, turns)
			assert.Equal(t, c.peak, s.Peak)
			if s.Open() || c.turns[len(c.turns)-1] == 'e' {
				assert.Equal(t, begin.Add(time.Duration(c.begun)*step), s.Begun)
			}
		})
	}
}

func TestWatchesThatCannotBe(t *testing.T) {
	for wanted, w := range map[string]setting.Watch{
		"it watches nothing":                     {Of: "", Value: "dead", Warn: "1"},
		"it has no value":                        {Of: "a/b", Warn: "1"},
		"did you mean dead":                      {Of: "a/b", Value: "deaf", Warn: "1"},
		"it has no level":                        {Of: "a/b", Value: "dead"},
		`warn is "1m"; allowed: a number`:        {Of: "a/b", Value: "dead", Warn: "1m"},
		`warn is "5"; allowed: a duration`:       {Of: "a/b", Value: "lag-age", Warn: "5"},
		"allowed: a size":                        {Of: "nodes/*", Value: "disk-free", Warn: "x"},
		"more than warn":                         {Of: "a/b", Value: "dead", Warn: "5", Alarm: "5"},
		"less than warn":                         {Of: "a/b", Value: "members", Warn: "1", Alarm: "2"},
		"nearer to good":                         {Of: "a/b", Value: "dead", Warn: "5", Calm: "6"},
		"a level nearer to good than those":      {Of: "a/b", Value: "members", Warn: "1", Calm: "0"},
		"no kind of thing has all that it needs": {Of: "a/b", Value: "lag + dead", Warn: "1"},
		"in which nothing is measured":           {Of: "a/b", Value: "1 + 1", Warn: "1"},
		"which gives a string":                   {Of: "a/b", Value: "dead > 1 ? 'a' : 'b'", Warn: "1"},
		"undeclared reference to 'deaf'":         {Of: "a/b", Value: "deaf > 1", Warn: "1"},
		"Syntax error":                           {Of: "a/b", Value: "dead >", Warn: "1"},
	} {
		_, err := watch.New(&w)
		if w.Of == "" {
			assert.ErrorContains(t, err, "it watches nothing")
			continue
		}
		assert.ErrorContains(t, err, wanted, "%+v", w)
	}
}

// An expression computes with figures, whole ones too; what is not known makes it not known.
func TestExpressions(t *testing.T) {
	values := make([]float64, len(sample.Channel.Values))
	set := func(name string, x float64) { values[sample.Channel.Place(name)] = x }
	set("dead", 6)
	set("waiting", 100)
	set("in-rate", 0)
	set("oldest-waiting", sample.Unknown)
	for source, wanted := range map[string]float64{
		"dead * 2":                         12,
		"dead > 0.05 * waiting ? dead : 0": 6,
		"dead > 5 && waiting >= 100":       1,
		"dead > 6":                         0,
		"waiting / in_rate":                sample.Unknown,
		"oldest_waiting + dead":            sample.Unknown,
		"-dead + 1.5":                      -4.5,
	} {
		got := rule(t, setting.Watch{Value: source, Warn: "1"}).Figure(sample.Channel, values)
		if math.IsNaN(wanted) {
			assert.True(t, math.IsNaN(got), "%s gives %v", source, got)
		} else {
			assert.Equal(t, wanted, got, source)
		}
	}
	assert.True(t, math.IsNaN(rule(t, setting.Watch{Value: "dead", Warn: "1"}).Figure(sample.Channel, values[:3])), "values of an older version are fewer")
}

func TestWhatIsCovered(t *testing.T) {
	for _, c := range []struct {
		of, value string
		kind      *sample.Kind
		at        string
		covered   bool
	}{
		{"coldchain/*", "dead", sample.Channel, "coldchain/inspections", true},
		{"coldchain/*", "dead", sample.Channel, "coldchain/readings@warm", true},
		{"coldchain/*", "lag", sample.Channel, "coldchain/readings", false},
		{"coldchain/*", "lag", sample.Group, "coldchain/readings@warm", true},
		{"coldchain/in*", "in-rate", sample.Channel, "coldchain/inspections", true},
		{"coldchain/in*", "in-rate", sample.Channel, "coldchain/readings", false},
		{"nodes/*", "disk-free", sample.Node, "nodes/node-a", true},
		{"coldchain", "disk-free", sample.Node, "nodes/node-a", false},
		{"coldchain", "endpoint-failing", sample.Endpoint, "coldchain/clinic-hook", true},
	} {
		level := map[string]string{"disk-free": "1GiB", "endpoint-failing": "1m"}[c.value]
		if level == "" {
			level = "1"
		}
		assert.Equal(t, c.covered, rule(t, setting.Watch{Of: c.of, Value: c.value, Warn: level}).Covers(c.kind, c.at), "%+v", c)
	}
}

// model says the same as the states of Step, from all figures there were.
type model struct {
	warn, alarm, calm, calmAlarm float64
	lasts                        time.Duration
	level                        watch.Level
	at                           []time.Time
	is                           []watch.Level
	from                         int // first step behind the last change
}

func (m *model) step(at time.Time, x float64) watch.Level {
	if math.IsNaN(x) {
		return m.level
	}
	is := watch.Calm
	switch {
	case x >= m.alarm || m.level == watch.Alarm && x > m.calmAlarm:
		is = watch.Alarm
	case x >= m.warn || m.level > watch.Calm && x > m.calm:
		is = watch.Warn
	}
	m.at, m.is = append(m.at, at), append(m.is, is)
	// lasted tells whether all of the steps from one on have held for long enough.
	lasted := func(from int, holds func(watch.Level) bool) (worst watch.Level, ok bool) {
		i := len(m.is)
		for i > from && holds(m.is[i-1]) {
			i--
			worst = max(worst, m.is[i])
		}
		return worst, i < len(m.is) && at.Sub(m.at[i]) >= m.lasts
	}
	next := m.level
	if _, ok := lasted(0, func(l watch.Level) bool { return l == watch.Alarm }); ok {
		next = watch.Alarm
	} else if _, ok := lasted(0, func(l watch.Level) bool { return l >= watch.Warn }); ok && m.level == watch.Calm {
		next = watch.Warn
	} else if worst, ok := lasted(m.from, func(l watch.Level) bool { return l < m.level }); ok {
		next = worst
	}
	if next != m.level {
		m.level, m.from = next, len(m.is)
	}
	return m.level
}

// At random, the states are those of the model; and what would have been said of the past
// is what was said while it was.
func TestStatesAgainstAModel(t *testing.T) {
	for seed := range uint64(400) {
		random := rand.New(rand.NewPCG(seed, 1))
		lasts := time.Duration(random.IntN(6)) * step
		r := rule(t, setting.Watch{Value: "dead", Warn: "10", Alarm: "20", Calm: "7", ForMS: lasts.Milliseconds()})
		m := &model{warn: 10, alarm: 20, calm: 7, calmAlarm: 17, lasts: lasts}
		b := sample.Channel.NewBlock(begin, step)
		dead := sample.Channel.Place("dead")
		var s watch.State
		x, live := 8.0, 0
		for i := range 300 {
			x = max(0, x+float64(random.IntN(13)-6))
			figure := x
			if random.IntN(12) == 0 {
				figure = sample.Unknown
			}
			values := make([]float64, len(sample.Channel.Values))
			values[dead] = figure
			at := begin.Add(time.Duration(i) * step)
			b.Put(at, values)
			var turn watch.Turn
			was := s.Level
			s, turn = r.Step(s, at, figure)
			require.Equal(t, m.step(at, figure), s.Level, "seed %d, step %d", seed, i)
			require.Equal(t, turn == watch.Stays, was == s.Level, "seed %d, step %d", seed, i)
			if turn == watch.Begins {
				live++
			}
		}
		crossings, known := r.Try(sample.Channel, b)
		require.Len(t, crossings, live, "seed %d", seed)
		require.Greater(t, known, 200)
		for i, c := range crossings {
			require.False(t, c.Rang.Before(c.Begun.Add(lasts)), "seed %d", seed)
			require.GreaterOrEqual(t, c.Peak, 10.0, "seed %d", seed)
			require.Equal(t, c.Ended.IsZero(), i == live-1 && s.Open(), "seed %d", seed)
			if !c.Ended.IsZero() {
				require.True(t, c.Ended.After(c.Rang) || lasts == 0, "seed %d", seed)
			}
		}
	}
}

// Levels that are proposed are round, and seldom reached by what they were made of.
func TestWhatThePastProposes(t *testing.T) {
	figures := make([]float64, 0, 10_000)
	for i := range 10_000 {
		figures = append(figures, float64(i%1000))
	}
	above := rule(t, setting.Watch{Value: "dead", Warn: "1"})
	warn, alarm := above.Propose(figures)
	assert.Equal(t, []float64{1000, 2000}, []float64{warn, alarm})
	below := rule(t, setting.Watch{Value: "members", Warn: "1"})
	warn, alarm = below.Propose([]float64{40, 41, 43, 44})
	assert.Equal(t, []float64{39, 19}, []float64{warn, alarm})
	warn, alarm = above.Propose(make([]float64, 50))
	assert.Equal(t, []float64{1, 2}, []float64{warn, alarm}, "of what was always 0")
	warn, _ = above.Propose([]float64{sample.Unknown})
	assert.True(t, math.IsNaN(warn))
	for seed := range uint64(50) {
		random := rand.New(rand.NewPCG(seed, 2))
		figures := make([]float64, 1000)
		for i := range figures {
			figures[i] = math.Abs(random.NormFloat64()) * 1000
		}
		warn, alarm := above.Propose(figures)
		reached := 0
		for _, x := range figures {
			if x >= warn {
				reached++
			}
		}
		assert.LessOrEqual(t, reached, 10, "seed %d", seed)
		assert.Greater(t, alarm, warn, "seed %d", seed)
	}
}

func FuzzWatches(f *testing.F) {
	for _, seed := range [][4]string{{"coldchain/*", "dead", "5", "10"}, {"*", "dead > 5 ? dead : 0", "1", ""}, {"a/*@*", "lag-age", "2m", "1h"}, {"nodes/*", "disk-free", "10GiB", "1GiB"}} {
		f.Add(seed[0], seed[1], seed[2], seed[3], 3.0)
	}
	f.Fuzz(func(t *testing.T, of, value, warn, alarm string, x float64) {
		r, err := watch.New(&setting.Watch{Of: of, Value: value, Warn: warn, Alarm: alarm})
		if err != nil {
			return
		}
		for _, k := range r.Kinds {
			values := make([]float64, len(k.Values))
			for i := range values {
				values[i] = x
			}
			s, turn := r.Step(watch.State{}, begin, r.Figure(k, values))
			if (turn == watch.Begins) != s.Open() {
				t.Fatalf("%v, and %+v", turn, s)
			}
		}
	})
}

// The watches that come by themselves are such as can be made.
func TestSensibleWatchesAreSound(t *testing.T) {
	for _, space := range []string{"coldchain", "nodes"} {
		for _, s := range watch.SensibleOf(space) {
			w := s.Settings(space)
			_, err := watch.New(&w)
			assert.NoError(t, err, s.Name)
			assert.LessOrEqual(t, len(s.Reason), setting.MaxDescription, s.Name)
		}
	}
}
