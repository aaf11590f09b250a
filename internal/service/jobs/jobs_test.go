package jobs_test

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/access/accesstest"
	"steadyferry/internal/core/job"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/logbook"
	"steadyferry/internal/engine/postgres/testdb"
	"steadyferry/internal/service/jobs"
)

func TestMain(m *testing.M) { testdb.Main(m) }

// ledger is what the jobs of the tests do: each of so many numbers is entered
// once, however often somebody begins to.
type ledger struct {
	mu      sync.Mutex
	entered map[int]int  // how often each number came in, under another step than before
	bySteps map[int]step // the step under which each number came in
	crash   func(where string) error
	failed  int64
	errors  []error // that steps answer with, one after the other
	unpaced bool
}

type order struct{ Numbers int }

type progress struct {
	Next int
	Step *step
}

type step struct{ From, To int }

type entering struct {
	*jobs.Run[order, progress]
	l *ledger
}

// finish enters what the recorded step is, and records that it is done.
func (e *entering) finish(ctx context.Context) error {
	s := e.Progress.Step
	for n := s.From; n < s.To; n++ {
		e.l.mu.Lock()
		if before, again := e.l.bySteps[n]; !again || before != *s {
			e.l.entered[n]++
			e.l.bySteps[n] = *s
		}
		e.l.mu.Unlock()
	}
	if err := e.l.crash("after its effect"); err != nil {
		return err
	}
	e.Job.Done += int64(s.To - s.From)
	e.Progress = progress{Next: s.To}
	if err := e.Save(ctx); err != nil {
		return err
	}
	return e.l.crash("after its end")
}

func (e *entering) Step(ctx context.Context, due int) (used int, done bool, err error) {
	e.l.mu.Lock()
	if len(e.l.errors) > 0 {
		err, e.l.errors = e.l.errors[0], e.l.errors[1:]
	}
	e.l.mu.Unlock()
	if err != nil {
		return 0, false, err
	}
	if e.Back() {
		return 0, true, nil
	}
	if e.l.unpaced {
		due = 3 + rand.IntN(9)
	}
	to := min(e.Progress.Next+due, e.Spec.Numbers)
	used = to - e.Progress.Next
	if used > 0 {
		e.Progress.Step = &step{e.Progress.Next, to}
		if err := e.Save(ctx); err != nil {
			return 0, false, err
		}
		if err := e.l.crash("after it was recorded"); err != nil {
			return 0, false, err
		}
		if err := e.finish(ctx); err != nil {
			return 0, false, err
		}
	}
	return used, e.Progress.Next == e.Spec.Numbers, nil
}

func (e *entering) Judge(context.Context) (string, error) {
	e.Job.Failed = e.l.failed
	if job.TooMany(e.Job.Done, e.l.failed, 0.5) {
		return fmt.Sprintf("%d failed", e.l.failed), nil
	}
	return "", nil
}

// desk is a node that may run jobs.
type desk struct {
	records *catalog.Catalog
	jobs    *jobs.Jobs
	kind    *jobs.Kind[order, progress]
}

func newDesk(t *testing.T, database string, l *ledger, change func(k *jobs.Kind[order, progress])) *desk {
	t.Helper()
	records, err := catalog.Open(accesstest.Owner(t), database, func(catalog.Delta) {})
	require.NoError(t, err)
	t.Cleanup(records.Close)
	d := &desk{records: records, jobs: jobs.New(records, func(who, _ string) access.Asker { return access.Node(who) }), kind: &jobs.Kind[order, progress]{Name: "entering", MaxRate: 1e6, May: func(context.Context, string, *order) error { return nil },
		Plan: func(_ context.Context, o *order) (*jobs.Plan, error) {
			return &jobs.Plan{Idle: o.Numbers == 0, Address: "coldchain/readings", Total: int64(o.Numbers), Action: "new entering", After: map[string]any{}}, nil
		},
		Open: func(ctx context.Context, r *jobs.Run[order, progress]) (jobs.Work, error) {
			e := &entering{r, l}
			if r.Progress.Step != nil {
				return e, e.finish(ctx)
			}
			return e, nil
		}}}
	if change != nil {
		change(d.kind)
	}
	jobs.Register(d.jobs, d.kind)
	return d
}

func newLedger() *ledger {
	return &ledger{entered: map[int]int{}, bySteps: map[int]step{}, crash: func(string) error { return nil }}
}

// run has the node on duty until the test ends or it is stopped.
func (d *desk) run(t *testing.T) (stop func()) {
	ctx, cancel := context.WithCancel(accesstest.Owner(t))
	done := make(chan struct{})
	go func() {
		defer close(done)
		d.jobs.Run(ctx)
	}()
	stop = func() {
		cancel()
		<-done
	}
	t.Cleanup(stop)
	return stop
}

func (d *desk) begin(t *testing.T, numbers int, rate float64) *catalog.Job {
	t.Helper()
	_, j, err := d.kind.New(accesstest.Owner(t), "owner", order{numbers}, rate, false)
	require.NoError(t, err)
	return j
}

func (d *desk) reaches(t *testing.T, id int64, state job.State) *catalog.Job {
	t.Helper()
	var j *catalog.Job
	require.Eventually(t, func() bool {
		var err error
		j, err = d.jobs.Get(accesstest.Owner(t), id, "entering")
		require.NoError(t, err)
		return j.State == state
	}, 30*time.Second, 10*time.Millisecond, "the job gets to be %s", state)
	return j
}

// A node stops at each point between what it records and what it does, and
// another one goes on: each number is entered once, none is left out.
func TestAJobGoesOnWhereverItsNodeStopped(t *testing.T) {
	t.Parallel()
	_, database := testdb.New(t)
	l := newLedger()
	l.unpaced = true
	nodes := []*desk{newDesk(t, database, l, nil), newDesk(t, database, l, nil)}
	j := nodes[0].begin(t, 30, 1000)
	where := []string{"after it was recorded", "after its effect", "after its end"}
	for n := 0; ; n++ {
		require.Less(t, n, 100)
		crashed := make(chan struct{})
		var once sync.Once
		l.crash = func(at string) error {
			if at != where[n%len(where)] {
				return nil
			}
			once.Do(func() { close(crashed) })
			return context.Canceled // it stops as if killed: nothing is recorded any more
		}
		d := nodes[rand.IntN(len(nodes))]
		ctx, stop := context.WithCancel(accesstest.Owner(t))
		over := make(chan struct{})
		go func() {
			defer close(over)
			d.jobs.Run(ctx)
		}()
		select {
		case <-crashed:
		case <-time.After(5 * time.Second):
		}
		stop()
		<-over
		now, err := nodes[0].jobs.Get(accesstest.Owner(t), j.ID)
		require.NoError(t, err)
		if now.State == job.Done {
			assert.EqualValues(t, 30, now.Done)
			break
		}
		require.Equal(t, job.Running, now.State, now.Detail)
	}
	for n := range 30 {
		assert.Equal(t, 1, l.entered[n], "number %d", n)
	}
	assert.Len(t, l.entered, 30)
}

// A node that was slow writes no more once another has the job.
func TestTwoNodesThatRunAJobDoNotBothRecordIt(t *testing.T) {
	t.Parallel()
	_, database := testdb.New(t)
	l := newLedger()
	l.unpaced = true
	a, b := newDesk(t, database, l, nil), newDesk(t, database, l, nil)
	j := a.begin(t, 80, 100)
	stop := a.run(t)
	require.Eventually(t, func() bool {
		now, err := a.jobs.Get(accesstest.Owner(t), j.ID)
		return err == nil && now.Done > 0
	}, 10*time.Second, 5*time.Millisecond)
	b.run(t) // both believe that they are on duty
	done := b.reaches(t, j.ID, job.Done)
	stop()
	assert.EqualValues(t, 80, done.Done)
	l.mu.Lock()
	defer l.mu.Unlock()
	for n := range 80 {
		assert.Equal(t, 1, l.entered[n], "number %d", n)
	}
}

func TestAJobIsPausedResumedAndCancelled(t *testing.T) {
	t.Parallel()
	_, database := testdb.New(t)
	l := newLedger()
	d := newDesk(t, database, l, nil)
	d.run(t)
	j := d.begin(t, 1000, 20)
	set := func(state job.State, rate *float64) (*catalog.Job, error) {
		return d.jobs.Set(accesstest.Owner(t), "owner", j.ID, state, rate, "entering")
	}
	paused, err := set(job.Paused, nil)
	require.NoError(t, err)
	assert.Equal(t, job.Paused, paused.State)
	time.Sleep(2 * job.Turn)
	before, err := d.jobs.Get(accesstest.Owner(t), j.ID)
	require.NoError(t, err)
	time.Sleep(2 * job.Turn)
	after, err := d.jobs.Get(accesstest.Owner(t), j.ID)
	require.NoError(t, err)
	assert.Equal(t, before.Done, after.Done, "it rests")
	for wanted, ask := range map[string]func() (*catalog.Job, error){
		"running, paused, cancelled": func() (*catalog.Job, error) { return set("tired", nil) },
		"more than 0 to 1,000,000":   func() (*catalog.Job, error) { return set("", new(float64)) },
		"there is no entering 99":    func() (*catalog.Job, error) { return d.jobs.Get(accesstest.Owner(t), 99, "entering") },
		"there is no replay":         func() (*catalog.Job, error) { return d.jobs.Get(accesstest.Owner(t), j.ID, "replay") },
	} {
		_, err := ask()
		assert.ErrorContains(t, err, wanted)
	}
	fast := 1e5
	_, err = set(job.Running, &fast)
	require.NoError(t, err)
	assert.EqualValues(t, 1000, d.reaches(t, j.ID, job.Done).Done)
	_, err = set(job.Cancelled, nil)
	assert.ErrorContains(t, err, "it has ended: it is done")
	j = d.begin(t, 1000, 1)
	cancelled, err := set(job.Cancelled, nil)
	require.NoError(t, err)
	assert.True(t, cancelled.EndedAt.Valid, "there is nothing to take back")
	entries, err := logbook.Entries(accesstest.Owner(t), d.records, logbook.Asked{Limit: 10})
	require.NoError(t, err)
	assert.Equal(t, "set entering", entries[0].Action)
}

func TestAJobThatTakesBackIsCancellingFirst(t *testing.T) {
	t.Parallel()
	_, database := testdb.New(t)
	d := newDesk(t, database, newLedger(), func(k *jobs.Kind[order, progress]) { k.Back, k.MaxRate = true, 0 })
	j := d.begin(t, 10, 0)
	cancelling, err := d.jobs.Set(accesstest.Owner(t), "owner", j.ID, job.Cancelled, nil)
	require.NoError(t, err)
	assert.Equal(t, job.Cancelling, cancelling.State)
	_, err = d.jobs.Set(accesstest.Owner(t), "owner", j.ID, job.Running, nil)
	assert.ErrorContains(t, err, "being cancelled")
	rate := 5.0
	_, err = d.jobs.Set(accesstest.Owner(t), "owner", j.ID, "", &rate)
	assert.ErrorContains(t, err, "has no rate")
	d.run(t)
	assert.Zero(t, d.reaches(t, j.ID, job.Cancelled).Done)
}

func TestFaultsThatPassAreWaitedForAndOthersEndAJob(t *testing.T) {
	t.Parallel()
	_, database := testdb.New(t)
	l := newLedger()
	l.errors = []error{problem.New(problem.Unavailable, "it moves"), problem.New(problem.Paused, "it rests"), catalog.ErrAway, errors.New("who knows")}
	d := newDesk(t, database, l, nil)
	d.run(t)
	assert.EqualValues(t, 5, d.reaches(t, d.begin(t, 5, 1000).ID, job.Done).Done)
	l.mu.Lock()
	l.errors = []error{problem.New(problem.NotFound, "its target is gone")}
	l.mu.Unlock()
	assert.Contains(t, d.reaches(t, d.begin(t, 5, 1000).ID, job.Failed).Detail, "its target is gone")
}

func TestAJobIsStoppedWhenTooMuchFails(t *testing.T) {
	t.Parallel()
	_, database := testdb.New(t)
	l := newLedger()
	l.failed = 50
	d := newDesk(t, database, l, nil)
	d.run(t)
	stopped := d.reaches(t, d.begin(t, 60, 1e6).ID, job.Halted)
	assert.Equal(t, "50 failed", stopped.Detail)
	assert.EqualValues(t, 50, stopped.Failed)
}

func TestJobsAreBoundedAndMadeOnlyForSomething(t *testing.T) {
	t.Parallel()
	_, database := testdb.New(t)
	d := newDesk(t, database, newLedger(), func(k *jobs.Kind[order, progress]) { k.MaxOpen = 2 })
	_, j, err := d.kind.New(accesstest.Owner(t), "owner", order{5}, 10, true)
	require.NoError(t, err)
	assert.Nil(t, j, "a preview makes none")
	_, j, err = d.kind.New(accesstest.Owner(t), "owner", order{}, 10, false)
	require.NoError(t, err)
	assert.Nil(t, j, "there is nothing to do")
	_, _, err = d.kind.New(accesstest.Owner(t), "owner", order{5}, 2e6, false)
	assert.ErrorContains(t, err, "more than 0 to 1,000,000 messages a second")
	d.begin(t, 5, 10)
	first := d.begin(t, 5, 10)
	_, _, err = d.kind.New(accesstest.Owner(t), "owner", order{5}, 10, false)
	assert.ErrorContains(t, err, "2 enterings have not ended")
	_, err = d.jobs.Set(accesstest.Owner(t), "owner", first.ID, job.Cancelled, nil)
	require.NoError(t, err)
	d.begin(t, 5, 10)
	all, err := d.jobs.List(accesstest.Owner(t), 0)
	require.NoError(t, err)
	assert.Len(t, all, 2, "that have not ended")
	all, err = d.jobs.List(accesstest.Owner(t), 5, "entering")
	require.NoError(t, err)
	assert.Len(t, all, 3)
	none, err := d.jobs.List(accesstest.Owner(t), 5, "replay")
	require.NoError(t, err)
	assert.Empty(t, none)
}

// What a job makes it makes once, however often it begins to.
func TestAJobThatAnotherOneMakesIsThereOnce(t *testing.T) {
	t.Parallel()
	_, database := testdb.New(t)
	d := newDesk(t, database, newLedger(), nil)
	parent := d.begin(t, 5, 10)
	none, err := d.jobs.MadeBy(accesstest.Owner(t), parent.ID)
	require.NoError(t, err)
	assert.Nil(t, none)
	_, child, err := d.kind.New(jobs.Under(accesstest.Owner(t), parent.ID), "owner", order{5}, 10, false)
	require.NoError(t, err)
	made, err := d.jobs.MadeBy(accesstest.Owner(t), parent.ID)
	require.NoError(t, err)
	assert.Equal(t, child.ID, made.ID)
	_, _, err = d.kind.New(jobs.Under(accesstest.Owner(t), parent.ID), "owner", order{5}, 10, false)
	assert.Error(t, err, "a second one is refused")
	all, err := d.jobs.List(accesstest.Owner(t), 0)
	require.NoError(t, err)
	assert.Len(t, all, 2)
}
