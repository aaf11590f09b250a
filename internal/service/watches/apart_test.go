package watches_test

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/access/accesstest"
	"steadyferry/internal/core/endpoint"
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/engine/postgres/testdb"
	"steadyferry/internal/service/watches"
)

// away has the records be away until what it returns is called.
func (p *place) away(j *judge) (back func()) {
	testdb.Exec(p.t, testdb.URL(), "ALTER DATABASE "+p.name+" ALLOW_CONNECTIONS false",
		"SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE datname = '"+p.name+"'")
	require.Eventually(p.t, func() bool {
		j.records.Reload(accesstest.Owner(p.t))
		return !j.records.AwaySince().IsZero()
	}, 10*time.Second, 10*time.Millisecond)
	return func() {
		testdb.Exec(p.t, testdb.URL(), "ALTER DATABASE "+p.name+" ALLOW_CONNECTIONS true")
		require.Eventually(p.t, func() bool {
			return j.records.Reload(accesstest.Owner(p.t)) == nil && j.records.AwaySince().IsZero()
		}, 10*time.Second, 10*time.Millisecond)
	}
}

// minded has a node look after what it told without the records.
func (p *place) minded(j *judge) *judge {
	ctx, cancel := context.WithCancel(accesstest.Owner(p.t))
	done := make(chan struct{})
	go func() {
		defer close(done)
		for ctx.Err() == nil {
			j.Mind(ctx)
			time.Sleep(20 * time.Millisecond)
		}
	}()
	p.t.Cleanup(func() { cancel(); <-done })
	return j
}

func newPlaceWithoutGrace(t *testing.T) *place {
	watches.TellApartAfter(0)
	t.Cleanup(func() { watches.TellApartAfter(time.Hour) })
	return newPlace(t)
}

// parted is a node that judges at once and tells the duty desk, and whose records are away until
// back is called.
func parted(t *testing.T) (p *place, j *judge, back func()) {
	p = newPlaceWithoutGrace(t)
	j = p.onDuty()
	p.watch(j, setting.Change{"for": time.Duration(0), "tell": []string{"coldchain/duty-desk"}})
	p.judge(accesstest.Owner(t), j, 0)
	return p, j, p.away(j)
}

// Those who shall know are told while the records are away, and what was told is recorded when
// they are back.
func TestTheRecordsBeingAwayKeepsNobodyFromBeingTold(t *testing.T) {
	p, j, back := parted(t)
	p.minded(j)
	p.judge(accesstest.Owner(t), j, 6)
	p.says("0 begins,")
	p.judge(accesstest.Owner(t), j, 12)
	p.says("0 begins,", "0 rises,")
	var n form.Notice
	unmarshal(t, p.received[0].Body, &n)
	assert.NotContains(t, n.Incidents[0].Link, "/incidents/")
	back()
	require.Eventually(t, func() bool { return len(p.incidents(j, true)) == 1 }, 20*time.Second, 50*time.Millisecond)
	require.Eventually(t, j.Knows, 10*time.Second, 5*time.Millisecond)
	p.judge(accesstest.Owner(t), j, 0)
	p.says("0 begins,", "0 rises,", "1 ends,")
	story, err := j.Story(accesstest.Owner(t), 1)
	require.NoError(t, err)
	assert.Equal(t, 12.0, story.Peak)
	p.toldInStory(j, 1, 3)
	times, _ := p.told()
	for id, n := range times {
		assert.Equal(t, 1, n, id)
	}
}

// What is not taken meanwhile is sent when the records are back.
func TestWhatIsNotTakenWaitsForTheRecords(t *testing.T) {
	p, j, back := parted(t)
	p.minded(j)
	p.answers = func(string) *endpoint.Answer { return nil }
	p.judge(accesstest.Owner(t), j, 6)
	time.Sleep(200 * time.Millisecond)
	p.says()
	p.mu.Lock()
	p.answers = nil
	p.mu.Unlock()
	back()
	p.says("0 begins,")
}

// Who loses the duty with the records and gets it again goes on with what it found.
func TestTheSameNodeGoesOnFromWhatItJudgedWithoutTheRecords(t *testing.T) {
	p, j, back := parted(t)
	p.judge(accesstest.Owner(t), j, 6)
	j.Mind(accesstest.Owner(t))
	p.says("0 begins,")
	back()
	require.Eventually(t, func() bool { return j.terms.Load() == 2 }, 20*time.Second, 5*time.Millisecond)
	p.judge(accesstest.Owner(t), j, 7)
	p.minded(j)
	require.Eventually(t, func() bool { return len(p.incidents(j, true)) == 1 }, 20*time.Second, 50*time.Millisecond)
	p.judge(accesstest.Owner(t), j, 0)
	p.says("0 begins,", "1 ends,")
	assert.Len(t, p.incidents(j, false), 1, "nobody else has judged meanwhile")
}

// When another node judges after that, what this one found stays among the incidents, and its
// end is told; what goes on the other one finds by itself.
func TestAnotherNodeGoesOnFromWhatWasJudgedWithoutTheRecords(t *testing.T) {
	p, j, back := parted(t)
	p.judge(accesstest.Owner(t), j, 6)
	j.Mind(accesstest.Owner(t))
	p.says("0 begins,")
	j.stop()
	back()
	other := p.onDuty()
	p.minded(j)
	require.Eventually(t, func() bool { return len(p.incidents(other, false)) == 1 }, 20*time.Second, 50*time.Millisecond)
	ended := p.incidents(other, false)[0]
	assert.Equal(t, "another node watches since", ended.EndedAs)
	p.says("0 begins,", "0 ends,")
	p.judge(accesstest.Owner(t), other, 7)
	p.says("0 begins,", "0 ends,", "2 begins,")
	assert.Len(t, p.incidents(other, true), 1)
}
