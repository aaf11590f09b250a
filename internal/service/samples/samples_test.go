package samples_test

import (
	"context"
	"math"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/access/accesstest"
	"steadyferry/internal/core/sample"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/ledger"
	"steadyferry/internal/engine/postgres/testdb"
	"steadyferry/internal/node/nodetest"
	"steadyferry/internal/service/samples"
)

func TestMain(m *testing.M) { testdb.Main(m) }

var (
	inspections = sample.Thing{Kind: sample.Channel.Name, ID: -7}
	warm        = sample.Thing{Kind: sample.Group.Name, ID: -7}
)

// deadAt is how many dead letters there were at a time: some more in each hour, and one peak
// of 10 s in each.
func deadAt(at time.Time) float64 {
	if at.Minute() == 17 && at.Second() == 20 {
		return 1000
	}
	return float64(at.Hour())
}

func measured(at time.Time) map[sample.Thing][]float64 {
	channel := make([]float64, len(sample.Channel.Values))
	channel[sample.Channel.Place("dead")] = deadAt(at)
	channel[sample.Channel.Place("in-rate")] = float64(at.Second())
	return map[sample.Thing][]float64{inspections: channel, warm: {float64(at.Minute()), 0, 0, 0, 1, 0}}
}

// alone is the service with records of its own, where no node measures.
func alone(t *testing.T) (*samples.Samples, *catalog.Catalog) {
	t.Helper()
	_, database := testdb.New(t)
	records, err := catalog.Open(accesstest.Owner(t), database, func(catalog.Delta) {})
	require.NoError(t, err)
	t.Cleanup(records.Close)
	return samples.New(nil, records, func() bool { return false }), records
}

// What was measured in a day and more is there in fine steps of lately and in coarser ones of
// before, the peaks too, whatever has become a block of it already.
func TestADayIsKeptInStepsThatBecomeCoarser(t *testing.T) {
	s, records := alone(t)
	first := time.Now().UTC().Truncate(24 * time.Hour).Add(-24 * time.Hour)
	end := first.Add(26*time.Hour + 30*time.Minute)
	for at := first; at.Before(end); at = at.Add(10 * time.Second) {
		if at.Hour() == 5 && at.Minute() >= 10 && at.Minute() < 20 {
			continue // nobody measured
		}
		s.Put(accesstest.Owner(t), at, measured(at))
	}
	dead, in := sample.Channel.Place("dead"), sample.Channel.Place("in-rate")
	history := func(from, to time.Time, most int) *sample.Block {
		b, err := s.History(accesstest.Owner(t), inspections, from, to, most)
		require.NoError(t, err)
		return b
	}
	check := func() {
		t.Helper()
		// An hour of yesterday.
		from := first.Add(3 * time.Hour)
		b := history(from, from.Add(time.Hour), 1500)
		require.Contains(t, []time.Duration{10 * time.Second, time.Minute}, b.Step)
		most, sum := 0.0, 0.0
		for i := range int(time.Hour / b.Step) {
			most, sum = max(most, b.At(dead, i)), sum+b.At(in, i)
		}
		assert.Equal(t, 1000.0, most, "a peak of 10 s stays")
		assert.InDelta(t, 25, sum/float64(time.Hour/b.Step), 0.01, "the mean of a rate stays")
		// All of it.
		b = history(first, end, 300)
		assert.Equal(t, 10*time.Minute, b.Step)
		assert.Equal(t, 26*6+3, b.Len())
		assert.Equal(t, 2.0, b.At(dead, 12))
		assert.Equal(t, 1000.0, b.At(dead, 13), "with the peak")
		assert.True(t, math.IsNaN(b.At(dead, 5*6+1)), "what nobody measured is not known")
		assert.Equal(t, 1.0, b.At(dead, 25*6), "the last hours too")
	}
	check()
	require.NoError(t, s.Compact(accesstest.Owner(t), end))
	left, err := ledger.Of(records).Stretches(accesstest.Owner(t), first, end)
	require.NoError(t, err)
	assert.Equal(t, 29, len(left), "of the hour that has not ended, but for the minute that is open")
	for _, l := range sample.Levels {
		rows, err := ledger.Of(records).Blocks(accesstest.Owner(t), inspections.Kind, []int64{inspections.ID}, l.Step, first, end)
		require.NoError(t, err)
		assert.Equal(t, int(26*time.Hour/l.Block), len(rows), "blocks of %s", l.Step)
	}
	check()
	require.NoError(t, s.Compact(accesstest.Owner(t), end.Add(10*24*time.Hour)))
	for i, l := range sample.Levels {
		rows, err := ledger.Of(records).Blocks(accesstest.Owner(t), warm.Kind, []int64{warm.ID}, l.Step, first, end)
		require.NoError(t, err)
		assert.Equal(t, i == len(sample.Levels)-1, len(rows) > 0, "10 days later blocks of %s", l.Step)
	}
}

// known returns what is known of a value lately, in order.
func known(t *testing.T, s *samples.Samples, k *sample.Kind, id int64, value string) (all []float64) {
	b, err := s.History(accesstest.Owner(t), sample.Thing{Kind: k.Name, ID: id}, time.Now().Add(-2*time.Hour), time.Now().Add(time.Hour), 2000)
	require.NoError(t, err)
	for i := range b.Len() {
		if x := b.At(k.Place(value), i); !math.IsNaN(x) {
			all = append(all, x)
		}
	}
	return all
}

// Things are measured by themselves, and what was measured outlives the node, also of a
// minute in which it began anew.
func TestANodeMeasures(t *testing.T) {
	n := nodetest.Open(t)
	q := n.Channel(setting.Queue, "coldchain/inspections", nil)
	n.Publish(q, 0, "1", "2", "3")
	require.Eventually(t, func() bool { return n.Cluster.IsOnDuty() }, 10*time.Second, 10*time.Millisecond)
	minute := time.Now().Truncate(time.Minute)
	n.Samples.Measure(accesstest.Owner(t), minute.Add(20*time.Second))
	n.Samples.Put(accesstest.Owner(t), minute.Add(20*time.Second), measured(minute))
	n.Reopen()
	assert.Equal(t, 3.0, slices.Max(known(t, n.Samples, sample.Channel, q.ID, "waiting")))
	assert.Less(t, slices.Max(known(t, n.Samples, sample.Channel, q.ID, "silent-for")), 60.0)
	assert.Equal(t, 0.0, slices.Max(known(t, n.Samples, sample.Channel, q.ID, "leaderless")))
	assert.Empty(t, known(t, n.Samples, sample.Channel, q.ID, "dead-rate"), "of the first time nothing is known of before")
	own := int64(n.Parts.ID())
	assert.Greater(t, slices.Min(known(t, n.Samples, sample.Node, own, "disk-free")), 0.0)
	assert.Equal(t, 1.0, slices.Max(known(t, n.Samples, sample.Node, own, "leads")))
	assert.Equal(t, 0.0, slices.Max(known(t, n.Samples, sample.Node, own, "node-away")))
	assert.Empty(t, known(t, n.Samples, sample.Node, own, "certificate-left"), "it shows none")
	space := n.Catalog.View().Spaces["coldchain"].ID
	assert.Empty(t, known(t, n.Samples, sample.Space, space, "bound-used"), "it has no bound")
	_, err := n.Manage.SetSpace(accesstest.Owner(t), "owner", "coldchain", setting.Change{"mostChannels": 4, "mostPartitions": 100}, false)
	require.NoError(t, err)
	n.Samples.Measure(accesstest.Owner(t), minute.Add(20*time.Second))
	assert.Equal(t, []float64{25}, known(t, n.Samples, sample.Space, space, "bound-used"), "the bound that is nearest")
	n.Samples.Put(accesstest.Owner(t), minute.Add(30*time.Second), measured(minute))
	n.Reopen()
	assert.Len(t, known(t, n.Samples, sample.Group, warm.ID, "lag"), 2, "of before and behind the start")
}

// What a node measured is kept while the records do not answer, up to a bound, and recorded
// when another one measures.
func TestWhatWaitsIsRecordedWhenAnotherNodeMeasures(t *testing.T) {
	s, records := alone(t)
	other := samples.New(nil, records, func() bool { return true })
	away, cut := context.WithCancel(accesstest.Owner(t))
	cut()
	begin := time.Now().Truncate(time.Minute).Add(-90 * time.Minute)
	for i := range 71 {
		s.Put(away, begin.Add(time.Duration(i)*time.Minute), map[sample.Thing][]float64{warm: {float64(i)}})
	}
	assert.Empty(t, known(t, other, sample.Group, warm.ID, "lag"))
	// Meanwhile others make blocks.
	var makers sync.WaitGroup
	for range 3 {
		makers.Go(func() {
			for range 20 {
				assert.NoError(t, other.Compact(accesstest.Owner(t), time.Now()))
			}
		})
	}
	s.Measure(accesstest.Owner(t), time.Now())
	makers.Wait()
	lags := known(t, other, sample.Group, warm.ID, "lag")
	assert.Len(t, lags, 60, "the last hour")
	assert.Equal(t, 70.0, slices.Max(lags))
}

// A stretch that comes when its time has become blocks joins them, those of each level; and
// what was measured of a minute in two parts is two.
func TestWhatComesLateJoinsItsBlocks(t *testing.T) {
	s, records := alone(t)
	day := time.Now().UTC().Truncate(24 * time.Hour).Add(-24 * time.Hour)
	put := func(at time.Duration, lag float64) {
		s.Put(accesstest.Owner(t), day.Add(at), map[sample.Thing][]float64{warm: {lag}})
		s.End(accesstest.Owner(t))
	}
	check := func(all ...float64) {
		t.Helper()
		require.NoError(t, s.Compact(accesstest.Owner(t), day.Add(25*time.Hour)))
		for _, l := range sample.Levels {
			var known []float64
			rows, err := ledger.Of(records).Blocks(accesstest.Owner(t), warm.Kind, []int64{warm.ID}, l.Step, day, day.Add(24*time.Hour))
			require.NoError(t, err)
			for _, r := range rows {
				b, err := sample.Group.Decode(r.Data)
				require.NoError(t, err)
				for i := range b.Len() {
					if x := b.At(0, i); !math.IsNaN(x) {
						known = append(known, x)
					}
				}
			}
			if l.Step == sample.Levels[0].Step {
				assert.Equal(t, all, known, "in steps of %s", l.Step)
			} else {
				assert.Equal(t, slices.Max(all), slices.Max(known), "in steps of %s", l.Step)
			}
		}
	}
	put(3*time.Hour+10*time.Second, 1)
	put(3*time.Hour+20*time.Second, 2)
	check(1, 2)
	put(3*time.Hour+40*time.Second, 4)
	put(3*time.Hour+30*time.Second, 3)
	check(1, 2, 3, 4)
}

// What was lived faster than time goes has its figures at the times at which it was; meanwhile
// nothing is measured of now.
func TestAPastThatIsLivedIsMeasured(t *testing.T) {
	n := nodetest.Open(t)
	topic := n.Channel(setting.Topic, "coldchain/readings", nil)
	require.Eventually(t, n.Cluster.IsOnDuty, 10*time.Second, 10*time.Millisecond)
	begin := time.Now().Add(-30 * time.Minute).Truncate(samples.Every)
	for i := range 12 {
		n.Publish(topic, 0, `{"celsius":5}`)
		n.Samples.Lived(accesstest.Owner(t), begin.Add(time.Duration(i)*5*time.Second)) // more often than things are measured
		n.Samples.Tick(accesstest.Owner(t), time.Now())
	}
	all, err := n.Samples.Deep(accesstest.Owner(t), sample.Channel.Name, []int64{topic.ID}, begin.Add(-time.Minute), time.Now().Add(time.Minute))
	require.NoError(t, err)
	measured := map[time.Time]float64{}
	for _, b := range all[topic.ID] {
		for i := range b.Len() {
			if x := b.At(sample.Channel.Place("messages"), i); x == x {
				measured[b.Begin.Add(time.Duration(i)*b.Step).UTC()] = x
			}
		}
	}
	for at := range measured {
		if time.Since(at) < time.Minute {
			delete(measured, at) // before it was lived
		}
	}
	require.Len(t, measured, 6)
	assert.EqualValues(t, 1, measured[begin.UTC()])
	assert.EqualValues(t, 11, measured[begin.Add(50*time.Second).UTC()])
}
