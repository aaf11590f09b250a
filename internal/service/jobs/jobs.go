// Package jobs is the one way in which work goes on by itself. A job is a
// record: what it is asked, how far it is, in which state. The node on duty
// claims it with a fence and runs it, paces it, and lets its kind judge what has
// come of it; another node goes on where that one stopped. What a kind does is
// its own (Kind, Work). Jobs may be called at once by many; kinds are registered
// before the node runs.
package jobs

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/job"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/words"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/part"
)

// Jobs are the jobs of the cluster.
type Jobs struct {
	records *catalog.Catalog
	asker   func(who, scope string) access.Asker
	kinds   map[string]traits
}

// traits is what the runner knows of a kind.
type traits struct {
	back    bool
	maxRate float64
	listed  string
	who     func(j *catalog.Job) string
	read    func(record *catalog.Job) (opened, error)
}

func (t traits) checkRate(rate float64) error {
	if t.maxRate > 0 && (rate <= 0 || rate > t.maxRate) {
		return problem.New(problem.Invalid, "a rate of %g/s", rate).Field("rate").Allowed(fmt.Sprintf("more than 0 to %s a second", words.Many(int(t.maxRate), "message")))
	}
	return nil
}

// opened is a job whose record was read: how to ask whether whoever asks may have it, and how to go on
// with it.
type opened struct {
	may func(ctx context.Context) error
	on  func(ctx context.Context) (Work, error)
}

// as has a job be done in the name of whoever it is done for.
func (js *Jobs) as(ctx context.Context, j *catalog.Job) context.Context {
	who := j.Who
	if f := js.kinds[j.Kind].who; f != nil {
		who = f(j)
	}
	return access.As(ctx, js.asker(who, j.Scope))
}

// New returns the service, which knows no kinds yet. Jobs are run with what whoever made them
// may at the moment, and no more than what they came with was for (scope), as asker knows it.
func New(records *catalog.Catalog, asker func(who, scope string) access.Asker) *Jobs {
	return &Jobs{records: records, asker: asker, kinds: map[string]traits{}}
}

// List returns the jobs of some kinds (or of all), newest first: all that have
// not ended, and up to so many that have.
func (js *Jobs) List(ctx context.Context, ended int, kinds ...string) ([]*catalog.Job, error) {
	all, err := js.records.Jobs(ctx, ended, kinds...)
	all = access.Only(ctx, access.SeeCounts, all, func(j *catalog.Job) string { return j.Address })
	for _, j := range all {
		hide(ctx, j)
	}
	return all, part.Explain(err, "jobs")
}

// Hidden is what stands for a reason that may tell of contents.
const Hidden = "the reason may tell what is in messages: it takes see-content"

// hide takes out of a job why it failed, unless whoever asks may see contents: an edit that does
// not fit tells of the message.
func hide(ctx context.Context, j *catalog.Job) {
	if j.State == job.Failed && j.Detail != "" && !access.Sight(ctx, access.SeeContent, j.Address).Whole() {
		j.Detail = Hidden
	}
}

// Get returns a job, which must be of one of the kinds; without kinds, of any.
func (js *Jobs) Get(ctx context.Context, id int64, kinds ...string) (*catalog.Job, error) {
	j, err := js.records.Job(ctx, id)
	if errors.Is(err, catalog.ErrNotFound) || err == nil && len(kinds) > 0 && !slices.Contains(kinds, j.Kind) {
		what := "job"
		if len(kinds) == 1 {
			what = kinds[0]
		}
		p := problem.New(problem.NotFound, "there is no %s %d", what, id)
		if len(kinds) > 0 {
			p = p.Next("%s lists them", js.kinds[kinds[0]].listed)
		}
		return nil, p
	}
	if err == nil {
		err = access.Check(ctx, access.SeeCounts, j.Address)
	}
	if err != nil {
		return nil, part.Explain(err, "jobs")
	}
	hide(ctx, j)
	return j, nil
}

// MadeBy returns the job that another one has made, nil when there is none.
func (js *Jobs) MadeBy(ctx context.Context, parent int64) (*catalog.Job, error) {
	j, err := js.records.JobOf(ctx, parent)
	if errors.Is(err, catalog.ErrNotFound) {
		return nil, nil
	}
	return j, err
}

// Set pauses, resumes or cancels a job, or changes its rate: an empty state and
// no rate leave them.
func (js *Jobs) Set(ctx context.Context, who string, id int64, state job.State, rate *float64, kinds ...string) (*catalog.Job, error) {
	for {
		j, err := js.Get(ctx, id, kinds...)
		if err != nil {
			return nil, err
		}
		kind := js.kinds[j.Kind]
		read, err := kind.read(j)
		if err == nil {
			err = read.may(ctx)
		}
		if err != nil {
			return nil, err
		}
		to, err := j.State.Ask(state, kind.back)
		switch {
		case err != nil && !j.State.Ended() && !slices.Contains(job.Wishes, state):
			return nil, problem.New(problem.Invalid, "%v", err).Field("state").Allowed("running, paused, cancelled")
		case err != nil:
			return nil, problem.New(problem.Conflict, "%s: %v", name(j), err).Field("state")
		}
		want := j.Rate
		if rate != nil {
			if want = *rate; kind.maxRate == 0 {
				return nil, problem.New(problem.Invalid, "%s has no rate", name(j)).Field("rate")
			}
			if err := kind.checkRate(want); err != nil {
				return nil, err
			}
		}
		err = js.records.SetJob(ctx, id, j.State, to, want, &catalog.Entry{Who: who, Action: "set " + j.Kind, Address: j.Address,
			Before: map[string]any{j.Kind: id, "state": j.State, "rate": j.Rate}, After: map[string]any{j.Kind: id, "state": to, "rate": want}})
		switch {
		case errors.Is(err, catalog.ErrStale) && ctx.Err() == nil:
			continue // it has just ended, or somebody else was faster
		case err != nil:
			return nil, part.Explain(err, j.Address)
		}
		return js.Get(ctx, id)
	}
}
