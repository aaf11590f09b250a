package jobs

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"

	"steadyferry/internal/core/form"
	"steadyferry/internal/core/job"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/words"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/part"
)

// Kind is a kind of job: S is what its jobs are asked to do, P how far they are.
// Both are kept as JSON.
type Kind[S, P any] struct {
	Name    string
	Back    bool    // a job that is cancelled takes back what it had begun
	MaxOpen int     // that have not ended; 0: as many as there are
	MaxRate float64 // a second; 0: its jobs have no rate
	Listed  string  // the command that lists its jobs

	// Who is in whose name a job is done; nil: of who made it.
	Who func(j *catalog.Job) string
	// May says why whoever asks may not have such a job, of what is at an address; it is asked
	// of who made it before each step, and of who pauses or cancels it.
	May func(ctx context.Context, at string, spec *S) error
	// Plan says what a job would do, and completes what it is asked with what
	// was found. It changes nothing.
	Plan func(ctx context.Context, spec *S) (*Plan, error)
	// Open makes a job ready to go on here, and finishes the step that whoever
	// ran it before had recorded.
	Open func(ctx context.Context, r *Run[S, P]) (Work, error)

	jobs *Jobs
}

// Plan is a job before it is made.
type Plan struct {
	Idle    bool   // there is nothing to do, and no job is made
	Address string // of what it is about
	Detail  string
	Total   int64
	Action  string        // as the logbook names it
	Said    *form.Preview // what the job would do; nil for kinds that tell it in their own way
	Before  map[string]any
	After   map[string]any
	Also    func(j *catalog.Job) catalog.In // recorded with it; may be nil
}

// Work is a job that runs. A step is recorded before its effect (Run.Save), in
// such a way that it does no harm when another node does it again.
type Work interface {
	// Step does what can be done now, of that which is paced no more than due.
	// It reports how much that was, and whether the job has nothing left to do.
	Step(ctx context.Context, due int) (used int, done bool, err error)
	// Judge looks at what has come of it, about once a second. It returns why
	// the job must stop, or nothing.
	Judge(ctx context.Context) (stop string, err error)
}

// Run is one run of a job by one node.
type Run[S, P any] struct {
	Job      *catalog.Job // its state and rate are read anew before each step
	Spec     S
	Progress P
	records  *catalog.Catalog
}

// Back reports whether the job takes back what it had begun.
func (r *Run[S, P]) Back() bool { return r.Job.State == job.Cancelling }

// Name is how histories call the job: replay 3.
func (r *Run[S, P]) Name() string { return name(r.Job) }

func name(j *catalog.Job) string { return fmt.Sprintf("%s %d", j.Kind, j.ID) }

// Save records the progress. It returns catalog.ErrFenced when another node runs
// the job now.
func (r *Run[S, P]) Save(ctx context.Context) error {
	var err error
	if r.Job.Progress, err = json.Marshal(r.Progress); err != nil {
		return err
	}
	return r.records.SaveJob(ctx, r.Job)
}

// Register makes jobs of a kind known, so that the node on duty runs them.
func Register[S, P any](js *Jobs, k *Kind[S, P]) {
	k.jobs = js
	js.kinds[k.Name] = traits{back: k.Back, maxRate: k.MaxRate, listed: k.Listed, who: k.Who, read: func(record *catalog.Job) (o opened, err error) {
		r := &Run[S, P]{Job: record, records: js.records}
		if err := errors.Join(json.Unmarshal(record.Spec, &r.Spec), json.Unmarshal(record.Progress, &r.Progress)); err != nil {
			return o, fmt.Errorf("what is recorded of %s: %w", name(record), err)
		}
		o.may = func(ctx context.Context) error { return k.May(ctx, record.Address, &r.Spec) }
		o.on = func(ctx context.Context) (Work, error) { return k.Open(ctx, r) }
		return o, nil
	}}
}

// parentKey is of the job that makes another one.
type parentKey struct{}

// Under has jobs be made by another one, which makes one of them, however often it begins to.
func Under(ctx context.Context, parent int64) context.Context {
	return context.WithValue(ctx, parentKey{}, parent)
}

// New records a job, which one node of the cluster then runs. With preview it
// only plans; without anything to do there is no job.
func (k *Kind[S, P]) New(ctx context.Context, who string, spec S, rate float64, preview bool) (*Plan, *catalog.Job, error) {
	if err := k.jobs.kinds[k.Name].checkRate(rate); err != nil {
		return nil, nil, err
	}
	if k.MaxOpen > 0 {
		open, err := k.jobs.records.Jobs(ctx, 0, k.Name)
		if err != nil {
			return nil, nil, part.Explain(err, k.Name)
		}
		if len(open) >= k.MaxOpen {
			return nil, nil, problem.New(problem.Conflict, "%s have not ended", words.Many(len(open), k.Name)).Next("wait for one, or cancel one: %s", k.Listed)
		}
	}
	plan, err := k.Plan(ctx, &spec)
	if err != nil || preview || plan.Idle {
		return plan, nil, err
	}
	if k.MaxRate > 0 {
		plan.After["rate"] = rate
	}
	j, err := k.Record(ctx, who, spec, rate, plan)
	if err != nil {
		return nil, nil, part.Explain(err, plan.Address)
	}
	if plan.Said != nil {
		plan.Said.Job = j.ID
	}
	return plan, j, nil
}

// Record makes a job of a plan. Its errors are those of the records.
func (k *Kind[S, P]) Record(ctx context.Context, who string, spec S, rate float64, plan *Plan) (*catalog.Job, error) {
	j, also, err := k.record(who, &spec, rate, plan)
	if err != nil {
		return nil, err
	}
	if parent, made := ctx.Value(parentKey{}).(int64); made {
		j.Parent = sql.NullInt64{Int64: parent, Valid: true}
	}
	return j, k.jobs.records.NewJob(ctx, j, &catalog.Entry{Who: who, Action: plan.Action, Address: plan.Address, Before: plan.Before, After: plan.After}, also)
}

// Within returns a job without a rate that is made within another change, which
// gives it its number.
func (k *Kind[S, P]) Within(who string, spec S, plan *Plan) (*catalog.Job, catalog.In, error) {
	j, also, err := k.record(who, &spec, 0, plan)
	return j, catalog.NewJobIn(j, also), err
}

func (k *Kind[S, P]) record(who string, spec *S, rate float64, plan *Plan) (*catalog.Job, catalog.In, error) {
	j := &catalog.Job{Kind: k.Name, Who: who, Address: plan.Address, Detail: plan.Detail, Rate: rate, Total: plan.Total}
	var also catalog.In
	if plan.Also != nil {
		also = plan.Also(j)
	}
	var err error
	j.Spec, err = json.Marshal(spec)
	return j, also, err
}
