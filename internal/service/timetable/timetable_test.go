package timetable

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/access/accesstest"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/job"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/postgres/testdb"
	"steadyferry/internal/service/jobs"
)

func TestMain(m *testing.M) { testdb.Main(m) }

// deeds are what the runs of a test have done.
type deeds struct {
	mu      sync.Mutex
	times   map[time.Time]int // begun steps, by the time for which the run is
	stopped int
	does    func(d *Doing) (done bool, err error) // unset: done at once
}

// desk is a node with a timetable, whose acts are the test's.
type desk struct {
	*duty
	records  *catalog.Catalog
	deeds    *deeds
	database string
}

func newDesk(t *testing.T, database string, of *deeds) *desk {
	t.Helper()
	records, err := catalog.Open(accesstest.Owner(t), database, func(catalog.Delta) {})
	require.NoError(t, err)
	t.Cleanup(records.Close)
	tt := New(nil, records, jobs.New(records, func(who, _ string) access.Asker { return access.Node(who) }))
	tt.Register(setting.DoVerify, Act{Needs: []string{"of"},
		Plan: func(context.Context, *setting.Chore) (*Plan, error) {
			return &Plan{Messages: 7, Effects: []string{"it would look"}}, nil
		},
		Do: func(_ context.Context, d *Doing) (bool, error) {
			of.mu.Lock()
			defer of.mu.Unlock()
			of.times[d.Planned().UTC()]++
			if of.does != nil {
				return of.does(d)
			}
			d.Says("all is well")
			return true, nil
		},
		Stop: func(context.Context, *Doing) error {
			of.mu.Lock()
			defer of.mu.Unlock()
			of.stopped++
			return nil
		}})
	tt.Register(setting.DoDiscard, Act{Needs: []string{"of", "why"}, Takes: []string{"cause"}})
	return &desk{&duty{Timetable: tt}, records, of, database}
}

func newDeeds() *deeds { return &deeds{times: map[time.Time]int{}} }

func (d *deeds) will(does func(d *Doing) (bool, error)) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.does = does
}

// alone is a node on records of its own.
func alone(t *testing.T) *desk {
	_, database := testdb.New(t)
	return newDesk(t, database, newDeeds())
}

func (d *desk) chore(t *testing.T, settings setting.Change) *catalog.Chore {
	t.Helper()
	all := setting.Change{"do": setting.DoVerify, "of": "coldchain/*"}
	for name, value := range settings {
		all[name] = value
	}
	_, err := d.New(accesstest.Owner(t), "owner", address.Channel(address.Nodes, "nightly"), all, false)
	require.NoError(t, err)
	c, err := d.Of(accesstest.Owner(t), address.Channel(address.Nodes, "nightly"))
	require.NoError(t, err)
	return c
}

// work has the node run jobs until the test ends or it is stopped.
func (d *desk) work(t *testing.T) {
	ctx, cancel := context.WithCancel(accesstest.Owner(t))
	done := make(chan struct{})
	go func() {
		defer close(done)
		d.jobs.Run(ctx)
	}()
	t.Cleanup(func() { cancel(); <-done })
}

func (d *desk) runs(t *testing.T, c *catalog.Chore) []form.Run {
	t.Helper()
	all, err := d.Runs(accesstest.Owner(t), c, 0, 1000)
	require.NoError(t, err)
	return all
}

func (d *desk) ends(t *testing.T, c *catalog.Chore) form.Run {
	t.Helper()
	require.Eventually(t, func() bool {
		all := d.runs(t, c)
		return len(all) > 0 && job.State(all[0].State).Ended()
	}, 30*time.Second, 10*time.Millisecond)
	return d.runs(t, c)[0]
}

// Nodes are killed at any moment, and others go on: each time of a chore has one run.
func TestEachTimeHasOneRunWhateverNodeDies(t *testing.T) {
	t.Parallel()
	_, database := testdb.New(t)
	of := newDeeds()
	var stop context.CancelFunc
	rnd := rand.New(rand.NewPCG(14, 2))
	of.does = func(d *Doing) (bool, error) {
		if rand.IntN(4) == 0 {
			stop() // in the middle of what it does
			return false, context.Canceled
		}
		d.Says("done")
		return true, nil
	}
	c := newDesk(t, database, of).chore(t, setting.Change{"every": time.Minute})
	now := c.Since
	end := now.Add(20*time.Minute + 30*time.Second)
	for kills := 0; now.Before(end); kills++ {
		require.Less(t, kills, 200)
		d := newDesk(t, database, of)
		ctx, cancel := context.WithCancel(accesstest.Owner(t))
		of.mu.Lock()
		stop = cancel
		of.mu.Unlock()
		d.records.WhileOnDuty(ctx, func(ctx context.Context) {
			var going sync.WaitGroup
			going.Go(func() { d.jobs.Run(ctx) })
			defer going.Wait()
			for n := rnd.IntN(120); n > 0 && now.Before(end) && ctx.Err() == nil; n-- {
				if !d.busy(ctx, c) { // the clock goes faster than what is done
					now = now.Add(20 * time.Second)
				}
				_ = d.look(ctx, now) // of a node that was killed nothing is known
				time.Sleep(time.Duration(rnd.IntN(30)) * time.Millisecond)
				if rnd.IntN(40) == 0 {
					cancel()
				}
			}
			cancel()
		})
		d.records.Close()
	}
	last := newDesk(t, database, of)
	of.will(nil)
	last.work(t)
	require.NoError(t, last.look(accesstest.Owner(t), now))
	last.ends(t, c)
	require.Eventually(t, func() bool {
		for _, r := range last.runs(t, c) {
			if !job.State(r.State).Ended() {
				return false
			}
		}
		return true
	}, 30*time.Second, 20*time.Millisecond)
	planned, missed := map[time.Time]int{}, 0
	for _, r := range last.runs(t, c) {
		planned[r.PlannedAt]++
		missed += r.Missed
		assert.Equal(t, string(job.Done), r.State, r.Says)
	}
	for at, times := range planned {
		assert.Equal(t, 1, times, "runs for %s", at)
	}
	assert.LessOrEqual(t, len(planned)+missed, 20, "no time has two")
	assert.Greater(t, len(planned), 8)
}

// busy reports whether a run of a chore goes on.
func (d *desk) busy(ctx context.Context, c *catalog.Chore) bool {
	last, err := d.ledger.LastRuns(ctx, Kind, []string{c.Address()})
	return err != nil || len(last) > 0 && !last[0].State.Ended()
}

// A node that was slow decides nothing once another has.
func TestOfTwoThatDecideAtOnceOneDoes(t *testing.T) {
	t.Parallel()
	_, database := testdb.New(t)
	of := newDeeds()
	a, b := newDesk(t, database, of), newDesk(t, database, of)
	c := a.chore(t, setting.Change{"every": time.Minute})
	require.NoError(t, b.records.CatchUp(accesstest.Owner(t)))
	require.NoError(t, a.know(accesstest.Owner(t), c.Since))
	require.NoError(t, b.know(accesstest.Owner(t), c.Since))
	var both sync.WaitGroup
	for _, d := range []*desk{a, b} {
		both.Go(func() { assert.NoError(t, d.look(accesstest.Owner(t), c.Since.Add(61*time.Second))) })
	}
	both.Wait()
	assert.Len(t, a.runs(t, c), 1)
}

func TestWhatWasMissedIsRunOnceOrRecordedAsSkipped(t *testing.T) {
	t.Parallel()
	d := alone(t)
	c := d.chore(t, setting.Change{"every": time.Hour})
	require.NoError(t, d.look(accesstest.Owner(t), c.Since.Add(59*time.Minute)))
	assert.Empty(t, d.runs(t, c))
	require.NoError(t, d.look(accesstest.Owner(t), c.Since.Add(3*time.Hour+10*time.Minute)))
	all := d.runs(t, c)
	require.Len(t, all, 1)
	assert.Equal(t, 2, all[0].Missed)
	assert.WithinDuration(t, c.Since.Add(3*time.Hour), all[0].PlannedAt, time.Millisecond)
	d.work(t)
	d.ends(t, c)
	_, err := d.Set(accesstest.Owner(t), "owner", address.Channel(address.Nodes, "nightly"), setting.Change{"missed": setting.MissedSkip}, false)
	require.NoError(t, err)
	require.NoError(t, d.look(accesstest.Owner(t), c.Since.Add(5*time.Hour+10*time.Minute)))
	skipped := d.ends(t, c)
	assert.Equal(t, string(job.Cancelled), skipped.State)
	assert.Contains(t, skipped.Says, "2 times passed while no node was up")
	require.NoError(t, d.look(accesstest.Owner(t), c.Since.Add(5*time.Hour+11*time.Minute)))
	assert.Len(t, d.runs(t, c), 2)
}

func TestAClockThatWasWrongOnceStopsNothing(t *testing.T) {
	t.Parallel()
	d := alone(t)
	c := d.chore(t, setting.Change{"every": time.Minute})
	d.work(t)
	require.NoError(t, d.look(accesstest.Owner(t), c.Since.Add(9000*time.Hour)))
	d.ends(t, c)
	now := c.Since.Add(30 * time.Second)
	require.NoError(t, d.look(accesstest.Owner(t), now))
	require.Len(t, d.runs(t, c), 1)
	require.NoError(t, d.look(accesstest.Owner(t), c.Since.Add(61*time.Second)))
	assert.Len(t, d.runs(t, c), 2)
}

func TestARunIsNeverTwiceAtOnce(t *testing.T) {
	t.Parallel()
	d := alone(t)
	d.deeds.will(func(*Doing) (bool, error) { return false, nil })
	c := d.chore(t, setting.Change{"every": time.Minute})
	d.work(t)
	require.NoError(t, d.look(accesstest.Owner(t), c.Since.Add(61*time.Second)))
	require.NoError(t, d.look(accesstest.Owner(t), c.Since.Add(200*time.Second)))
	all := d.runs(t, c)
	require.Len(t, all, 1)
	_, err := d.Start(accesstest.Owner(t), "owner", c)
	assert.ErrorContains(t, err, fmt.Sprintf("run %d of nodes/nightly goes on", all[0].Run))
	list, err := d.List(accesstest.Owner(t), "")
	require.NoError(t, err)
	assert.Equal(t, "running", list[0].State)
	_, err = d.Cancel(accesstest.Owner(t), "owner", all[0].Run)
	require.NoError(t, err)
	assert.Equal(t, string(job.Cancelled), d.ends(t, c).State)
	d.deeds.mu.Lock()
	assert.Equal(t, 1, d.deeds.stopped)
	d.deeds.mu.Unlock()
	d.deeds.will(nil)
	r, err := d.Start(accesstest.Owner(t), "owner", c)
	require.NoError(t, err)
	assert.Equal(t, "owner", r.By)
	assert.Equal(t, string(job.Done), d.ends(t, c).State)
}

// Many start it at once: one run begins.
func TestOfManyWhoStartAChoreOneDoes(t *testing.T) {
	t.Parallel()
	d := alone(t)
	d.deeds.will(func(*Doing) (bool, error) { return false, nil })
	c := d.chore(t, setting.Change{"every": time.Minute})
	var all sync.WaitGroup
	var begun atomic.Int32
	for range 12 {
		all.Go(func() {
			if _, err := d.Start(accesstest.Owner(t), "owner", c); err == nil {
				begun.Add(1)
			} else {
				assert.ErrorContains(t, err, "goes on")
			}
		})
	}
	require.NoError(t, d.look(accesstest.Owner(t), c.Since.Add(61*time.Second)))
	all.Wait()
	assert.LessOrEqual(t, begun.Load(), int32(1))
	assert.Len(t, d.runs(t, c), 1)
}

func TestRunsFailByWhatDoesNotPass(t *testing.T) {
	t.Parallel()
	d := alone(t)
	c := d.chore(t, setting.Change{"every": time.Minute})
	d.work(t)
	passing := []error{problem.New(problem.Unavailable, "it moves"), catalog.ErrAway, errors.New("who knows")}
	d.deeds.will(func(d *Doing) (bool, error) {
		if len(passing) > 0 {
			err := passing[0]
			passing = passing[1:]
			return false, err
		}
		d.Says("after all")
		return true, nil
	})
	_, err := d.Start(accesstest.Owner(t), "owner", c)
	require.NoError(t, err)
	assert.Equal(t, "after all", d.ends(t, c).Says)
	d.deeds.will(func(d *Doing) (bool, error) {
		d.Counts(9, 4)
		return false, problem.New(problem.Conflict, "too much failed")
	})
	_, err = d.Start(accesstest.Owner(t), "owner", c)
	require.NoError(t, err)
	failed := d.ends(t, c)
	assert.Equal(t, string(job.Failed), failed.State)
	assert.Contains(t, failed.Says, "too much failed")
	assert.EqualValues(t, 9, failed.Messages)
	assert.EqualValues(t, 4, failed.Failed)
	assert.Contains(t, failed.Log[len(failed.Log)-1].Text, "failed: too much failed")
	list, err := d.List(accesstest.Owner(t), "nodes")
	require.NoError(t, err)
	assert.Equal(t, "failed", list[0].State)
}

func TestARunIsToldOfOnce(t *testing.T) {
	t.Parallel()
	d := alone(t)
	c := d.chore(t, setting.Change{"every": time.Minute})
	c.Tell, c.TellOf = []string{"coldchain/desk", "coldchain/office"}, setting.TellFailure
	require.NoError(t, d.records.SetChore(accesstest.Owner(t), c, false, nil)) // whose endpoints nobody knows here
	c, err := d.Of(accesstest.Owner(t), address.Channel(address.Nodes, "nightly"))
	require.NoError(t, err)
	d.work(t)
	told := func() int {
		n, err := catalog.One[int](accesstest.Owner(t), d.records, `SELECT count(*) FROM notices`)
		require.NoError(t, err)
		return *n
	}
	_, err = d.Start(accesstest.Owner(t), "owner", c)
	require.NoError(t, err)
	d.ends(t, c)
	assert.Zero(t, told(), "nothing failed")
	d.deeds.will(func(*Doing) (bool, error) { return false, problem.New(problem.Conflict, "no") })
	_, err = d.Start(accesstest.Owner(t), "owner", c)
	require.NoError(t, err)
	failed := d.ends(t, c)
	assert.Equal(t, 2, told())
	// Another node goes on where one died between telling and the end.
	require.NoError(t, d.records.Exec(accesstest.Owner(t), `UPDATE jobs SET state = 'running', ended_at = NULL WHERE id = $1`, failed.Run))
	require.NoError(t, d.records.SetChore(accesstest.Owner(t), c, false, nil))
	assert.Equal(t, failed.Run, d.ends(t, c).Run)
	assert.Equal(t, 2, told())
}

func TestIncidentsMakeRuns(t *testing.T) {
	t.Parallel()
	d := alone(t)
	began := func(at time.Time) {
		require.NoError(t, d.records.Exec(accesstest.Owner(t), `INSERT INTO incidents (id, watch, kind, thing_id, address, source, facts, level, worst, begun_at, rang_at, peak, peak_at, last)
			VALUES (gen_random_uuid(), 'nodes/away', 'node', 1, 'nodes/node-a', 'nodes/node-a', '{}', 'alarm', 'alarm', $1, $1, 1, $1, 1)`, at))
	}
	began(time.Now().Add(-time.Hour))
	c := d.chore(t, setting.Change{"when": "nodes/away", "rest": 10 * time.Minute, "daily": 2})
	d.work(t)
	now := c.Since
	look := func(after time.Duration) int {
		now = now.Add(after)
		require.NoError(t, d.look(accesstest.Owner(t), now))
		all := d.runs(t, c)
		if len(all) > 0 {
			d.ends(t, c)
		}
		return len(all)
	}
	assert.Zero(t, look(5*time.Second), "it began before the chore was there")
	began(now.Add(time.Second))
	assert.Equal(t, 1, look(5*time.Second))
	assert.Contains(t, d.runs(t, c)[0].By, "incident 2")
	assert.Equal(t, 1, look(5*time.Second), "once for each")
	began(now)
	assert.Equal(t, 1, look(5*time.Second), "it rests")
	began(now)
	assert.Equal(t, 2, look(11*time.Minute))
	began(now)
	assert.Equal(t, 2, look(30*time.Minute), "twice a day")
}

func TestWhatCannotBeAChoreIsRefused(t *testing.T) {
	t.Parallel()
	d := alone(t)
	for _, one := range []struct {
		settings setting.Change
		says     string
	}{
		{setting.Change{"every": time.Minute, "do": "dance"}, `do is "dance"`},
		{setting.Change{"every": time.Minute, "do": setting.DoVerify}, "needs of"},
		{setting.Change{"every": time.Minute, "do": setting.DoVerify, "of": "coldchain/*", "cause": "12345678"}, "has no cause"},
		{setting.Change{"every": time.Minute, "do": setting.DoDiscard, "of": "coldchain/inspections"}, "needs why"},
		{setting.Change{"do": setting.DoVerify, "of": "coldchain/*"}, "in 0 ways"},
		{setting.Change{"at": "0 3 * * *", "zone": "Nowhere", "do": setting.DoVerify, "of": "coldchain/*"}, "no zone"},
		{setting.Change{"every": time.Minute, "do": setting.DoVerify, "of": "coldchain/*", "tell": []string{"coldchain/none"}}, "no endpoint coldchain/none"},
	} {
		_, err := d.New(accesstest.Owner(t), "owner", address.Channel(address.Nodes, "nightly"), one.settings, false)
		assert.ErrorContains(t, err, one.says)
	}
	err := d.CheckNew(address.Channel("coldchain", "nightly"), setting.Change{"every": time.Minute, "do": setting.DoVerify, "of": "harbour/*"}, nil)
	assert.ErrorContains(t, err, "of is harbour/*, and the chore is of coldchain")
	assert.NoError(t, d.CheckNew(address.Channel("coldchain", "nightly"), setting.Change{"every": time.Minute, "do": setting.DoVerify, "of": "coldchain/*", "tell": []string{"coldchain/desk"}}, map[string]string{"coldchain/desk": "endpoint"}), "the endpoint comes with it")
	foreseen, err := d.New(accesstest.Owner(t), "owner", address.Channel(address.Nodes, "nightly"), setting.Change{"every": time.Minute, "do": setting.DoVerify, "of": "coldchain/*"}, true)
	require.NoError(t, err)
	assert.Len(t, foreseen.Coming, 5)
	assert.EqualValues(t, 7, *foreseen.Messages)
	assert.Empty(t, d.records.View().Chores, "a preview makes none")
}

func TestAChoreIsSetPausedAndRemoved(t *testing.T) {
	t.Parallel()
	d := alone(t)
	at := address.Channel(address.Nodes, "nightly")
	c := d.chore(t, setting.Change{"every": time.Hour})
	require.NoError(t, d.look(accesstest.Owner(t), c.Since.Add(61*time.Minute)))
	require.Len(t, d.runs(t, c), 1)
	p, err := d.Set(accesstest.Owner(t), "owner", at, setting.Change{"every": 2 * time.Hour}, true)
	require.NoError(t, err)
	assert.Contains(t, fmt.Sprint(p.Effects), "it runs next at")
	_, err = d.Set(accesstest.Owner(t), "owner", at, setting.Change{"paused": true}, false)
	require.NoError(t, err)
	require.NoError(t, d.look(accesstest.Owner(t), c.Since.Add(9*time.Hour)))
	assert.Len(t, d.runs(t, c), 1)
	_, err = d.Set(accesstest.Owner(t), "owner", at, setting.Change{"paused": false}, false)
	require.NoError(t, err)
	again, err := d.Of(accesstest.Owner(t), at)
	require.NoError(t, err)
	assert.True(t, again.Since.After(c.Since), "its times count anew")
	_, err = d.Remove(accesstest.Owner(t), "owner", at, false)
	require.NoError(t, err)
	_, err = d.Of(accesstest.Owner(t), at)
	assert.ErrorContains(t, err, "there is no chore nodes/nightly")
	require.NoError(t, d.look(accesstest.Owner(t), again.Since.Add(3*time.Hour)))
	assert.Len(t, d.runs(t, c), 1)
}
