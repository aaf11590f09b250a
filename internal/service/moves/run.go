package moves

import (
	"context"
	"slices"

	"steadyferry/internal/core/job"
	"steadyferry/internal/engine/ledger"
	"steadyferry/internal/service/jobs"
)

// stepsAtOnce is how many partitions one job moves at a time.
const stepsAtOnce = 4

// run is one run of a job.
type run struct {
	*jobs.Run[Spec, struct{}]
	mv *Moves
}

func (mv *Moves) open(_ context.Context, r *jobs.Run[Spec, struct{}]) (jobs.Work, error) {
	return &run{r, mv}, nil
}

// Judge has nothing against it.
func (r *run) Judge(context.Context) (string, error) { return "", nil }

// Step brings the job forward by what can be done now.
func (r *run) Step(ctx context.Context, _ int) (used int, done bool, err error) {
	drains := r.Job.Kind == KindDrain && !r.Back()
	if drains {
		if err := r.mv.cluster.DrainLeaders(ctx, r.Job.Address); err != nil {
			return 0, false, err
		}
	}
	steps, err := r.mv.ledger.OpenSteps(ctx, r.Job.ID)
	if err != nil {
		return 0, false, err
	}
	moving, open := 0, 0
	for i := range steps {
		s := &steps[i]
		if moving >= stepsAtOnce && s.State == ledger.StepWaiting && !r.Back() {
			open++
			continue
		}
		ended, err := r.advance(ctx, s)
		if err != nil {
			return 0, false, err
		}
		if !ended {
			open++
			moving++
		}
	}
	return 0, open == 0 && !(drains && r.mv.cluster.LeadsAny(r.Job.Address)), nil
}

// advance brings one step forward. It reports whether the step has ended.
func (r *run) advance(ctx context.Context, s *ledger.Step) (ended bool, err error) {
	mv, want, end := r.mv, s.After, job.Done
	switch {
	case r.Back() && s.State == ledger.StepWaiting:
		return true, mv.ledger.EndStep(ctx, r.Job, s, job.Cancelled)
	case s.State == ledger.StepWaiting:
		return false, mv.ledger.BeginStep(ctx, r.Job, s, false)
	case r.Back():
		want, end = s.Before, job.Cancelled
		if !slices.Equal(mv.cluster.PlacedAt(s.ChannelID, s.Partition), want) {
			return false, mv.ledger.BeginStep(ctx, r.Job, s, true)
		}
	}
	if !mv.cluster.HoldsAs(s.ChannelID, s.Partition, want) {
		return false, nil
	}
	return true, mv.ledger.EndStep(ctx, r.Job, s, end)
}
