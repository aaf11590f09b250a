package watches_test

import (
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/access/accesstest"
	"steadyferry/internal/core/endpoint"
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/engine/ledger"
	"steadyferry/internal/engine/postgres/testdb"
)

// says waits until the place outside was told so.
func (p *place) says(wanted ...string) {
	p.t.Helper()
	assert.EventuallyWithT(p.t, func(c *assert.CollectT) {
		_, said := p.told()
		assert.Equal(c, wanted, said)
	}, 10*time.Second, 20*time.Millisecond)
}

func TestThoseWhoShallKnowAreTold(t *testing.T) {
	p := newPlace(t)
	j := p.onDuty()
	p.watch(j, setting.Change{"for": time.Duration(0), "tell": []string{"coldchain/duty-desk"}, "repeat": 40 * time.Second})
	for _, dead := range []float64{0, 6, 6, 12} {
		p.judge(accesstest.Owner(t), j, dead)
	}
	p.says("1 begins,", "1 rises,")
	for range 4 {
		p.judge(accesstest.Owner(t), j, 12)
	}
	p.says("1 begins,", "1 rises,", "1 goes-on,")
	require.NoError(t, j.Say(accesstest.Owner(t), "owner", 1, &form.IncidentSaying{Acknowledge: true}))
	for range 6 {
		p.judge(accesstest.Owner(t), j, 12)
	}
	p.judge(accesstest.Owner(t), j, 0)
	p.says("1 begins,", "1 rises,", "1 goes-on,", "1 ends,")
	var n form.Notice
	unmarshal(t, p.received[0].Body, &n)
	assert.Equal(t, "begins: coldchain/inspections: dead at or above 5 for 0s, 6 at worst so far", strip(n.Says))
	assert.Contains(t, n.Incidents[0].Link, "/incidents/1")
	p.toldInStory(j, 1, 4)
}

// toldInStory says how often the story of an incident has it that somebody was told, once what
// the desk has answered is recorded: that comes behind the answer.
func (p *place) toldInStory(j *judge, number int64, times int) {
	p.t.Helper()
	told := func() (n int) {
		story, err := j.Story(accesstest.Owner(p.t), number)
		require.NoError(p.t, err)
		for _, note := range story.Notes {
			if note.Event == "told" {
				assert.Contains(p.t, note.Text, "coldchain/duty-desk: 200")
				n++
			}
		}
		return n
	}
	require.Eventually(p.t, func() bool { return told() >= times }, 10*time.Second, 10*time.Millisecond)
	assert.Equal(p.t, times, told())
}

// Of one source nobody is told again and again: what begins while it is known that there is
// trouble comes with the next word about it, and what is worse at once.
func TestIncidentsOfOneSourceAreToldTogether(t *testing.T) {
	p := newPlace(t)
	j := p.onDuty()
	tell := []string{"coldchain/duty-desk"}
	p.watch(j, setting.Change{"for": time.Duration(0), "tell": tell, "repeat": 40 * time.Second, "alarm": "1000"})
	for name, level := range map[string]string{"more": "8", "many": "9"} {
		p.watch(j, setting.Change{"name": name, "for": time.Duration(0), "tell": tell, "warn": level, "alarm": "1000"})
	}
	p.watch(j, setting.Change{"name": "worse", "for": time.Duration(0), "tell": tell, "warn": "", "alarm": "20"})
	for _, dead := range []float64{6, 9, 9} {
		p.judge(accesstest.Owner(t), j, dead)
	}
	p.says("1 begins,")
	p.judge(accesstest.Owner(t), j, 9)
	p.judge(accesstest.Owner(t), j, 9)
	p.says("1 begins,", "1 goes-on,2 begins,3 begins,")
	p.judge(accesstest.Owner(t), j, 25)
	p.says("1 begins,", "1 goes-on,2 begins,3 begins,", "4 begins,")
	var n form.Notice
	unmarshal(t, p.received[1].Body, &n)
	assert.Contains(t, n.Says, "(and 2 more incidents of coldchain/inspections)")
	p.judge(accesstest.Owner(t), j, 0)
	p.says("1 begins,", "1 goes-on,2 begins,3 begins,", "4 begins,", "1 ends,2 ends,3 ends,4 ends,")
}

// Who was told of the beginning is told of the end, also when the watch is removed.
func TestTheEndIsToldWithoutTheWatch(t *testing.T) {
	p := newPlace(t)
	j := p.onDuty()
	w := p.watch(j, setting.Change{"for": time.Duration(0), "tell": []string{"coldchain/duty-desk"}})
	p.judge(accesstest.Owner(t), j, 6)
	p.says("1 begins,")
	_, err := j.Remove(accesstest.Owner(t), "owner", at(w), false)
	require.NoError(t, err)
	j.stop()
	j.records.Close()
	j = p.onDuty()
	p.judge(accesstest.Owner(t), j, 6)
	p.says("1 begins,", "1 ends,")
}

// A silenced incident is not told of, and when the silence has ended it is.
func TestASilenceIsKept(t *testing.T) {
	p := newPlace(t)
	j := p.onDuty()
	w := p.watch(j, setting.Change{"for": time.Duration(0)})
	p.judge(accesstest.Owner(t), j, 6)
	require.NoError(t, j.Say(accesstest.Owner(t), "owner", 1, &form.IncidentSaying{Silence: "1h", Text: "known"}))
	_, err := j.Set(accesstest.Owner(t), "owner", at(w), setting.Change{"description": "as it was"}, false)
	require.NoError(t, err)
	testdb.Exec(t, p.database, `UPDATE watches SET settings = settings || '{"tell": ["coldchain/duty-desk"]}', revision = revision + 1`)
	testdb.Exec(t, p.database, `UPDATE catalog_version SET version = version + 1`)
	require.NoError(t, j.records.Reload(accesstest.Owner(t)))
	p.now = time.Now().UTC().Truncate(10 * time.Second)
	p.judge(accesstest.Owner(t), j, 6)
	time.Sleep(1200 * time.Millisecond)
	p.says()
	require.NoError(t, j.Say(accesstest.Owner(t), "owner", 1, &form.IncidentSaying{Silence: "0s"}))
	p.judge(accesstest.Owner(t), j, 6)
	p.says("1 begins,")
}

// No more than so many notices come in an hour: what is held back comes later, together.
func TestNoticesAreBounded(t *testing.T) {
	p := newPlace(t)
	j := p.onDuty()
	p.watch(j, setting.Change{"for": time.Duration(0), "tell": []string{"coldchain/duty-desk"}, "hourly": 2})
	for _, dead := range []float64{6, 12, 0, 6, 12} { // begins, rises; its end and the next one wait
		p.judge(accesstest.Owner(t), j, dead)
	}
	p.says("1 begins,", "1 rises,")
	p.now = p.now.Add(time.Hour)
	p.judge(accesstest.Owner(t), j, 12)
	p.says("1 begins,", "1 rises,", "1 ends,2 begins,")
}

// Whoever is killed at whatever moment: each incident is told, and none more than twice.
func TestNoticesOverKills(t *testing.T) {
	random := rand.New(rand.NewPCG(5, 5))
	p := newPlace(t)
	j := p.onDuty()
	p.watch(j, setting.Change{"for": time.Duration(0), "tell": []string{"coldchain/duty-desk"}, "hourly": 1000})
	killed := make(chan struct{}, 1)
	p.answers = func(string) *endpoint.Answer {
		if random.IntN(4) == 0 {
			select {
			case killed <- struct{}{}: // it is taken, and who has sent it does not hear of that
			default:
			}
		}
		return &endpoint.Answer{Status: 200, Means: endpoint.Done}
	}
	for n := range 24 {
		p.judge(accesstest.Owner(t), j, map[bool]float64{true: 50, false: 0}[n%2 == 0])
		select {
		case <-killed:
			j.stop()
			j.records.Close()
			j = p.onDuty()
		case <-time.After(300 * time.Millisecond):
		}
	}
	begun, err := ledger.Of(j.records).Incidents(accesstest.Owner(t), ledger.IncidentsAsked{Limit: 100})
	require.NoError(t, err)
	require.Len(t, begun, 12)
	testdb.Exec(t, p.database, `UPDATE notices SET next_at = now() WHERE next_at IS NOT NULL`)
	assert.EventuallyWithT(t, func(c *assert.CollectT) {
		times, said := p.told()
		assert.Len(c, said, 24, "each beginning and each end")
		for id, n := range times {
			assert.LessOrEqual(c, n, 2, id)
		}
	}, 20*time.Second, 50*time.Millisecond)
}

// What is not taken is sent again, and given up when it is refused; the story says so.
func TestWhoCannotBeTold(t *testing.T) {
	p := newPlace(t)
	j := p.onDuty()
	p.watch(j, setting.Change{"for": time.Duration(0), "tell": []string{"coldchain/duty-desk"}})
	p.answers = func(string) *endpoint.Answer { return &endpoint.Answer{Status: 503, Means: endpoint.Again} }
	p.judge(accesstest.Owner(t), j, 6)
	require.Eventually(t, func() bool { times, _ := p.told(); return len(times) == 1 }, 10*time.Second, 20*time.Millisecond)
	p.mu.Lock()
	p.answers = func(string) *endpoint.Answer { return &endpoint.Answer{Status: 404, Means: endpoint.Refused} }
	p.mu.Unlock()
	testdb.Exec(t, p.database, `UPDATE notices SET next_at = now()`)
	assert.EventuallyWithT(t, func(c *assert.CollectT) {
		story, err := j.Story(accesstest.Owner(t), 1)
		require.NoError(c, err)
		last := story.Notes[len(story.Notes)-1]
		assert.Equal(c, "not-told", last.Event)
		assert.Contains(c, last.Text, "coldchain/duty-desk: it is refused: 404")
	}, 10*time.Second, 20*time.Millisecond)
}
