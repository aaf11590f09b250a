package jobs

import (
	"context"
	"errors"
	"log/slog"
	"sync"
	"time"

	"steadyferry/internal/core/clock"
	"steadyferry/internal/core/job"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/engine/catalog"
)

// judgeEvery is how often a job is judged.
const judgeEvery = time.Second

// patience is for how long a job is tried again after faults of which it is not
// known whether they pass.
const patience = time.Minute

// Run sees that every job that has not ended runs here, until ctx ends. One node
// of the cluster does it at a time.
func (js *Jobs) Run(ctx context.Context) {
	var mu sync.Mutex // guards running
	running := map[int64]bool{}
	var runs sync.WaitGroup
	defer runs.Wait()
	ticker := time.NewTicker(300 * time.Millisecond)
	defer ticker.Stop()
	version := int64(-1)
	for {
		select {
		case <-ctx.Done():
			return
		case <-ticker.C:
		}
		// New ones come with a new version of the records.
		now := js.records.View().Version
		if now == version {
			continue
		}
		open, err := js.records.Jobs(ctx, 0)
		if err != nil {
			continue
		}
		version = now
		for _, j := range open {
			mu.Lock()
			begun := running[j.ID]
			running[j.ID] = true
			mu.Unlock()
			if begun {
				continue
			}
			runs.Go(func() {
				(&runner{jobs: js, id: j.ID}).run(ctx)
				mu.Lock()
				defer mu.Unlock()
				delete(running, j.ID)
			})
		}
	}
}

// runner runs one job.
type runner struct {
	jobs   *Jobs
	id     int64
	record *catalog.Job // nil: it is to be claimed
	may    func(ctx context.Context) error
	work   Work
	pace   job.Pace
	judged time.Time
	faulty time.Time // since when there were nothing but faults
}

// run runs the job until it has ended or ctx does.
func (r *runner) run(ctx context.Context) {
	for ctx.Err() == nil {
		over, err := r.turn(ctx)
		wait := job.Turn
		switch {
		case over, ctx.Err() != nil, errors.Is(err, catalog.ErrFenced):
			return // with ErrFenced another node goes on with it
		case err == nil:
			r.faulty = time.Time{}
		case r.passing(err):
			slog.Debug("a job waits", "job", r.id, "error", err)
			r.record = nil // read it anew
			wait = time.Second
		default:
			r.end(ctx, job.Failed, err.Error())
			return
		}
		clock.Wait(ctx, wait)
	}
}

// Passing reports whether an error will be gone in a while; known, whether that can be told.
func Passing(err error) (passing, known bool) {
	var p *problem.Problem
	switch {
	case errors.As(err, &p):
		return p.Kind == problem.Unavailable || p.Kind == problem.NoMajority || p.Kind == problem.CatalogAway || p.Kind == problem.DiskFull || p.Kind == problem.NoRoom || p.Kind == problem.TooFast || p.Kind == problem.Paused, true
	case errors.Is(err, catalog.ErrAway), errors.Is(err, catalog.ErrFenced), errors.Is(err, context.DeadlineExceeded), errors.Is(err, context.Canceled):
		return true, true
	}
	return false, false
}

// passing reports whether an error may be gone in a while.
func (r *runner) passing(err error) bool {
	passing, known := Passing(err)
	switch {
	case known:
		return passing
	case r.faulty.IsZero():
		r.faulty = time.Now()
	}
	return time.Since(r.faulty) < patience
}

// turn does what is due. It reports whether the job is over.
func (r *runner) turn(ctx context.Context) (over bool, err error) {
	if over, err = r.look(ctx); over || err != nil {
		return over, err
	}
	if r.record.State == job.Paused {
		return false, nil
	}
	ctx = r.jobs.as(ctx, r.record)
	if err := r.may(ctx); err != nil {
		return true, r.end(ctx, job.Halted, err.Error())
	}
	if time.Since(r.judged) >= judgeEvery {
		r.judged = time.Now()
		if over, err = r.judge(ctx); over || err != nil {
			return over, err
		}
	}
	due := r.pace.Due(time.Now(), r.record.Rate)
	used, done, err := r.work.Step(ctx, due)
	if err != nil {
		return false, err
	}
	r.pace.Unused(due - used)
	if !done {
		return false, nil
	}
	if over, err = r.judge(ctx); over || err != nil {
		return over, err
	}
	return true, r.end(ctx, r.record.State.Finish(), r.record.Detail)
}

// look claims the job at first, and then sees what was asked of it since.
func (r *runner) look(ctx context.Context) (over bool, err error) {
	if r.record == nil {
		record, err := r.jobs.records.TakeJob(ctx, r.id)
		if errors.Is(err, catalog.ErrNotFound) || err == nil && record.State.Ended() {
			return true, nil
		}
		if err != nil {
			return false, err
		}
		kind, known := r.jobs.kinds[record.Kind]
		if !known {
			return true, nil // of a newer version of the program
		}
		r.record = record
		o, err := kind.read(record)
		if err != nil {
			return false, err
		}
		r.may = o.may
		r.work, err = o.on(r.jobs.as(ctx, record))
		return false, err
	}
	now, err := r.jobs.records.Job(ctx, r.id)
	if err != nil {
		return false, err
	}
	if now.Fence != r.record.Fence {
		return false, catalog.ErrFenced
	}
	r.record.State, r.record.Rate = now.State, now.Rate
	return now.State.Ended(), nil
}

func (r *runner) judge(ctx context.Context) (over bool, err error) {
	stop, err := r.work.Judge(ctx)
	if err != nil || stop == "" {
		return false, err
	}
	return true, r.end(ctx, job.Halted, stop)
}

// end records that the job has ended; while the records are away it tries for as
// long as the node is on duty.
func (r *runner) end(ctx context.Context, state job.State, detail string) error {
	if r.record == nil {
		slog.Warn("a job cannot be run", "job", r.id, "error", detail)
		return nil
	}
	r.record.State, r.record.Detail = state, detail
	for ctx.Err() == nil {
		err := r.jobs.records.SaveJob(ctx, r.record)
		if err == nil || errors.Is(err, catalog.ErrFenced) {
			return err
		}
		clock.Wait(ctx, time.Second)
	}
	return ctx.Err()
}
