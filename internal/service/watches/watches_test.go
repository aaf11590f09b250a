package watches_test

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"regexp"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/access/accesstest"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/endpoint"
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/message"
	"steadyferry/internal/core/sample"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/core/watch"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/ledger"
	"steadyferry/internal/engine/postgres/testdb"
	"steadyferry/internal/service/samples"
	"steadyferry/internal/service/watches"
)

func TestMain(m *testing.M) { testdb.Main(m) }

const step = 10 * time.Second

// place is records with a queue, coldchain/inspections, and nodes that judge what the test
// says was measured.
type place struct {
	t        testing.TB
	name     string
	database string
	records  *catalog.Catalog
	queue    int64
	now      time.Time

	mu       sync.Mutex
	answers  func(at string) *endpoint.Answer // unset: all is taken
	received []*message.Message
}

// Post is the place outside that is told.
func (p *place) Post(ctx context.Context, at string, m *message.Message) (*endpoint.Answer, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	answer := &endpoint.Answer{Status: 200, Means: endpoint.Done}
	if p.answers != nil {
		answer = p.answers(at)
	}
	if answer != nil {
		p.received = append(p.received, m)
		return answer, nil
	}
	return nil, errors.New("the connection broke")
}

// told are the notices that came, by their ids: how often each, and what it says in short.
func (p *place) told() (times map[string]int, said []string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	times = map[string]int{}
	for _, m := range p.received {
		if times[m.ID]++; times[m.ID] > 1 {
			continue
		}
		var n form.Notice
		require.NoError(p.t, json.Unmarshal(m.Body, &n))
		text := ""
		for _, i := range n.Incidents {
			text += fmt.Sprintf("%d %s,", i.Number, i.Word)
		}
		said = append(said, text)
	}
	return times, said
}

// judge is a node that has the duty.
type judge struct {
	*watches.Watches
	records *catalog.Catalog
	terms   atomic.Int32 // how often it got the duty
	stop    func()
}

func newPlace(t testing.TB) *place {
	name, database := testdb.New(t)
	p := &place{t: t, name: name, database: database, now: time.Now().UTC().Truncate(time.Minute).Add(-3 * time.Hour)}
	p.records = p.open()
	require.NoError(t, p.records.NewSpace(accesstest.Owner(t), &catalog.Space{Name: "coldchain"}, nil))
	ch := &catalog.Channel{SpaceID: p.records.View().Spaces["coldchain"].ID, Name: "inspections", Kind: catalog.KindQueue, Channel: setting.Channel{Partitions: 1, Replicas: 1}}
	require.NoError(t, p.records.NewChannel(accesstest.Owner(t), ch, [][]uint64{{7}}, nil))
	p.queue = ch.ID
	return p
}

func (p *place) open() *catalog.Catalog {
	c, err := catalog.Open(accesstest.Owner(p.t), p.database, func(catalog.Delta) {})
	require.NoError(p.t, err)
	p.t.Cleanup(c.Close)
	return c
}

// onDuty is another node, which gets the duty.
func (p *place) onDuty() *judge {
	records := p.open()
	j := &judge{Watches: watches.New(nil, records, samples.New(nil, records, func() bool { return false }), p), records: records}
	ctx, cancel := context.WithCancel(accesstest.Owner(p.t))
	done := make(chan struct{})
	go func() {
		defer close(done)
		records.WhileOnDuty(ctx, func(ctx context.Context) {
			j.terms.Add(1)
			j.Run(ctx)
		})
	}()
	j.stop = func() { cancel(); <-done }
	p.t.Cleanup(j.stop)
	require.Eventually(p.t, j.Knows, 10*time.Second, 5*time.Millisecond)
	return j
}

// judge has a node judge that there are so many dead letters, 10 s after the last time.
func (p *place) judge(ctx context.Context, j *judge, dead float64) {
	values := make([]float64, len(sample.Channel.Values))
	values[sample.Channel.Place("dead")] = dead
	measured := map[sample.Thing][]float64{{Kind: sample.Channel.Name, ID: p.queue}: values}
	if dead < 0 {
		measured = nil
	}
	p.now = p.now.Add(step)
	j.Judge(ctx, p.now, measured)
}

func (p *place) watch(j *judge, settings setting.Change) *catalog.Watch {
	p.t.Helper()
	all := setting.Change{"of": "coldchain/*", "value": "dead", "warn": "5", "alarm": "10", "for": 20 * time.Second}
	for name, value := range settings {
		all[name] = value
	}
	name := "dead-inspections"
	if text, given := all["name"].(string); given {
		name = text
		delete(all, "name")
	}
	w := &catalog.Watch{Owned: catalog.Owned{ID: catalog.NewOwnedID(), Name: name, SpaceID: sql.NullInt64{Int64: p.records.View().Spaces["coldchain"].ID, Valid: true}}}
	setting.Watches.SetDefaults(&w.Watch, "")
	setting.Watches.Apply(&w.Watch, all)
	require.NoError(p.t, j.records.NewWatch(accesstest.Owner(p.t), w, nil))
	return w
}

func (p *place) incidents(j *judge, open bool) []*ledger.Incident {
	p.t.Helper()
	all, err := ledger.Of(j.records).Incidents(accesstest.Owner(p.t), ledger.IncidentsAsked{Open: open, Limit: 1000})
	require.NoError(p.t, err)
	return all
}

func TestAnIncidentFromItsBeginToItsEnd(t *testing.T) {
	p := newPlace(t)
	j := p.onDuty()
	p.watch(j, nil)
	begin := p.now
	for _, dead := range []float64{0, 6, 7, 8, 12, 12, 12} {
		p.judge(accesstest.Owner(t), j, dead)
	}
	open := p.incidents(j, true)
	require.Len(t, open, 1)
	i := open[0]
	assert.Equal(t, "coldchain/inspections", i.Address)
	assert.Equal(t, "coldchain/inspections", i.Source)
	assert.Equal(t, []any{watch.Alarm, watch.Alarm, 12.0, 5.0}, []any{i.Level, i.Worst, i.Peak, *i.Warn})
	assert.Equal(t, begin.Add(2*step), i.BegunAt.UTC(), "when it crossed")
	assert.Equal(t, begin.Add(4*step), i.RangAt.UTC(), "when it had lasted")
	assert.Equal(t, begin.Add(5*step), i.PeakAt.UTC())
	w, err := j.Of(accesstest.Owner(t), address.Channel("coldchain", "dead-inspections"))
	require.NoError(t, err)
	shown, err := j.Show(accesstest.Owner(t), w)
	require.NoError(t, err)
	assert.Equal(t, []any{"alarm", 1, 1, 0}, []any{shown.State, shown.Things, shown.Alarms, shown.Warns})
	assert.Equal(t, i.Number, shown.Watched[0].Incident)
	listed, err := j.List(accesstest.Owner(t), "coldchain")
	require.NoError(t, err)
	assert.Equal(t, []any{"alarm", 1, 1, 0, 0}, []any{listed[0].State, listed[0].Things, listed[0].Alarms, listed[0].Warns, listed[0].Unknown}, "the same is counted in the records")
	for _, dead := range []float64{0, 0, -1, 0, 0} {
		p.judge(accesstest.Owner(t), j, dead)
	}
	p.judge(accesstest.Owner(t), j, -1) // hours ago by the clock of the machine
	listed, err = j.List(accesstest.Owner(t), "coldchain")
	require.NoError(t, err)
	assert.Equal(t, []any{"no-data", 1, 1}, []any{listed[0].State, listed[0].Things, listed[0].Unknown})
	assert.Empty(t, p.incidents(j, true))
	story, err := j.Story(accesstest.Owner(t), i.Number)
	require.NoError(t, err)
	assert.Equal(t, "calm", story.EndedAs)
	whats := []string{}
	for _, n := range story.Notes {
		whats = append(whats, n.Event)
	}
	assert.Equal(t, []string{"begins", "rises", "ends"}, whats)
	assert.Contains(t, story.Says, "coldchain/inspections: dead at or above 10 for")
	assert.Equal(t, "ferry dead coldchain/inspections", story.Next)
	assert.Len(t, p.incidents(j, false), 1)
}

// Whoever judges, and however often another one goes on, what is found is what the past
// shows: each crossing once, with its times.
func TestIncidentsAreThoseOfThePastOverChangesOfDuty(t *testing.T) {
	for seed := range uint64(4) {
		random := rand.New(rand.NewPCG(seed, 3))
		p := newPlace(t)
		j := p.onDuty()
		p.watch(j, nil)
		begin := p.now.Add(step)
		b := sample.Channel.NewBlock(begin, step)
		away, cut := context.WithCancel(accesstest.Owner(t))
		cut()
		dead, isAway := 5.0, 0
		for range 120 {
			dead = max(0, dead+float64(random.IntN(11)-5))
			ctx := accesstest.Owner(t)
			if isAway > 0 {
				ctx = away
				isAway--
			} else if random.IntN(15) == 0 {
				isAway = random.IntN(5)
			} else if random.IntN(40) == 0 {
				j.stop() // nothing more is heard of it
				j.records.Close()
				j = p.onDuty()
			}
			p.judge(ctx, j, dead)
			values := make([]float64, len(sample.Channel.Values))
			values[sample.Channel.Place("dead")] = dead
			b.Put(p.now, values)
		}
		p.judge(accesstest.Owner(t), j, dead)
		values := make([]float64, len(sample.Channel.Values))
		values[sample.Channel.Place("dead")] = dead
		b.Put(p.now, values)
		w, err := j.Of(accesstest.Owner(t), address.Channel("coldchain", "dead-inspections"))
		require.NoError(t, err)
		r, err := watch.New(&w.Watch)
		require.NoError(t, err)
		wanted, _ := r.Try(sample.Channel, b)
		found := p.incidents(j, false)
		require.Equal(t, len(wanted), len(found), "seed %d", seed)
		require.NotEmpty(t, wanted, "seed %d", seed)
		for n, c := range wanted {
			i := found[len(found)-1-n]
			assert.Equal(t, c.Begun, i.BegunAt.UTC(), "seed %d, crossing %d", seed, n)
			assert.Equal(t, c.Rang, i.RangAt.UTC(), "seed %d, crossing %d", seed, n)
			assert.Equal(t, []any{c.Worst, c.Peak}, []any{i.Worst, i.Peak}, "seed %d, crossing %d", seed, n)
			if c.Ended.IsZero() {
				assert.Nil(t, i.EndedAt, "seed %d, crossing %d", seed, n)
			} else if assert.NotNil(t, i.EndedAt, "seed %d, crossing %d", seed, n) {
				assert.Equal(t, c.Ended, i.EndedAt.UTC(), "seed %d, crossing %d", seed, n)
			}
		}
	}
}

// A node that has lost the duty without noticing writes nothing.
func TestWhoLostTheDutyWritesNothing(t *testing.T) {
	p := newPlace(t)
	old := p.onDuty()
	p.watch(old, setting.Change{"for": time.Duration(0)})
	p.judge(accesstest.Owner(t), old, 0)
	old.stop()
	j := p.onDuty()
	p.judge(accesstest.Owner(t), old, 50)
	assert.Empty(t, p.incidents(j, false))
	assert.False(t, old.Knows())
	p.judge(accesstest.Owner(t), j, 50)
	assert.Len(t, p.incidents(j, true), 1)
}

// What is watched no longer has no incident that goes on.
func TestIncidentsEndWithWhatIsWatched(t *testing.T) {
	for wanted, end := range map[string]func(p *place, j *judge, w *catalog.Watch) error{
		"the watch was paused": func(p *place, j *judge, w *catalog.Watch) error {
			_, err := j.Set(accesstest.Owner(t), "owner", address.Channel("coldchain", w.Name), setting.Change{"paused": true}, false)
			return err
		},
		"it is watched no longer": func(p *place, j *judge, w *catalog.Watch) error {
			_, err := j.Set(accesstest.Owner(t), "owner", address.Channel("coldchain", w.Name), setting.Change{"of": "coldchain/others"}, false)
			return err
		},
		"the watch looks at something else now": func(p *place, j *judge, w *catalog.Watch) error {
			_, err := j.Set(accesstest.Owner(t), "owner", address.Channel("coldchain", w.Name), setting.Change{"value": "waiting"}, false)
			return err
		},
		"coldchain/inspections was removed": func(p *place, j *judge, w *catalog.Watch) error {
			return j.records.MarkRemoved(accesstest.Owner(t), p.queue, false, nil)
		},
		"it is watched no longer ": func(p *place, j *judge, w *catalog.Watch) error {
			_, err := j.Remove(accesstest.Owner(t), "owner", address.Channel("coldchain", w.Name), false)
			return err
		},
	} {
		p := newPlace(t)
		j := p.onDuty()
		w := p.watch(j, setting.Change{"for": time.Duration(0)})
		p.judge(accesstest.Owner(t), j, 50)
		require.Len(t, p.incidents(j, true), 1, wanted)
		require.NoError(t, end(p, j, w), wanted)
		p.judge(accesstest.Owner(t), j, 50)
		assert.Empty(t, p.incidents(j, true), wanted)
		if all := p.incidents(j, false); assert.Len(t, all, 1, wanted) {
			assert.Contains(t, wanted, all[0].EndedAs)
		}
	}
}

func TestWhatIsSaidOfAnIncident(t *testing.T) {
	p := newPlace(t)
	j := p.onDuty()
	p.watch(j, setting.Change{"for": time.Duration(0)})
	p.judge(accesstest.Owner(t), j, 50)
	number := p.incidents(j, true)[0].Number
	say := func(in form.IncidentSaying) error { return j.Say(accesstest.Owner(t), "owner", number, &in) }
	require.NoError(t, say(form.IncidentSaying{Acknowledge: true, Text: "I look at it"}))
	require.NoError(t, say(form.IncidentSaying{Silence: "2h", Text: "the clinic moves house"}))
	require.NoError(t, say(form.IncidentSaying{Text: "it was the scanner"}))
	for wanted, in := range map[string]form.IncidentSaying{
		"nothing is said":          {},
		"a silence needs a reason": {Silence: "1h"},
		"0s (it ends) to 30d":      {Silence: "60d", Text: "x"},
	} {
		assert.ErrorContains(t, say(in), wanted)
	}
	assert.ErrorContains(t, j.Say(accesstest.Owner(t), "owner", 99, &form.IncidentSaying{Text: "x"}), "there is no incident 99")
	// Judging goes on beside it.
	p.judge(accesstest.Owner(t), j, 60)
	story, err := j.Story(accesstest.Owner(t), number)
	require.NoError(t, err)
	assert.Equal(t, "owner", story.Acknowledged.By)
	assert.Equal(t, "the clinic moves house", story.Silenced.Why)
	assert.Equal(t, 60.0, story.Peak)
	require.Len(t, story.Notes, 4)
	require.NoError(t, say(form.IncidentSaying{Silence: "0s"}))
	story, err = j.Story(accesstest.Owner(t), number)
	require.NoError(t, err)
	assert.Nil(t, story.Silenced)
}

// Spaces get the watches that come by themselves, once: what is taken away stays away.
func TestEverySpaceGetsItsWatchesOnce(t *testing.T) {
	p := newPlace(t)
	assert.Empty(t, p.records.View().Watches, "made without any")
	testdb.Exec(t, p.database, `UPDATE spaces SET watched = false`)
	require.NoError(t, p.records.Reload(accesstest.Owner(t)))
	j := p.onDuty()
	count := len(watch.OfSpaces) + len(watch.OfNodes)
	require.Eventually(t, func() bool { return len(j.records.View().Watches) == count }, 10*time.Second, 10*time.Millisecond)
	for _, w := range j.records.View().Watches {
		assert.True(t, watches.CameItself(w), w.Address())
	}
	_, err := j.Remove(accesstest.Owner(t), "owner", address.Channel("coldchain", "dying"), false)
	require.NoError(t, err)
	j.stop()
	j = p.onDuty()
	time.Sleep(1500 * time.Millisecond) // it looks once a second
	assert.Len(t, j.records.View().Watches, count-1)
}

func at(w *catalog.Watch) address.Address { return address.Channel("coldchain", w.Name) }

func unmarshal(t *testing.T, b []byte, into any) {
	t.Helper()
	require.NoError(t, json.Unmarshal(b, into))
}

// strip takes out of a sentence for how long something has lasted by the real clock.
func strip(text string) string {
	return regexp.MustCompile(` for [0-9hms]+,`).ReplaceAllString(text, " for 0s,")
}
