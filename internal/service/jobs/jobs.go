package jobs

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"time"

	"steadyferry/internal/core/address"
	"steadyferry/internal/core/placement"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/words"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/part"
	"steadyferry/internal/service/change"
)

// stepsAtOnce is how many partitions one job moves at a time.
const stepsAtOnce = 4

// Run brings jobs forward, on one node of the cluster at a time. All that it
// knows is in the records, so that another node can go on at any moment.
func (js *Jobs) Run(ctx context.Context) {
	ticker := time.NewTicker(300 * time.Millisecond)
	defer ticker.Stop()
	idle := 0
	looked := int64(-1) // the version of the records
	for {
		select {
		case <-ctx.Done():
			return
		case <-ticker.C:
		}
		// Without jobs it is enough to look now and then, or on word of a
		// change.
		if idle++; idle > 3 && idle%10 != 0 && looked == js.catalog.View().Version {
			continue
		}
		looked = js.catalog.View().Version
		if err := js.replaceLost(ctx); err != nil && ctx.Err() == nil && !errors.Is(err, catalog.ErrAway) {
			slog.Warn("the replicas of a lost directory are not copied yet", "error", err)
		}
		jobs, err := js.catalog.Jobs(ctx, 0)
		if err != nil {
			continue
		}
		for _, j := range jobs {
			idle = 0
			if err := js.advance(ctx, j); err != nil && ctx.Err() == nil && !errors.Is(err, catalog.ErrAway) {
				slog.Warn("a job does not get on", "job", j.ID, "kind", j.Kind, "error", err)
			}
		}
	}
}

// advance brings a job forward by what can be done now.
func (js *Jobs) advance(ctx context.Context, j *catalog.Job) error {
	moving, open := 0, 0
	back := j.State == catalog.JobCancelling
	if j.Kind == "drain" && !back {
		if err := js.cluster.DrainLeaders(ctx, j.Address); err != nil {
			return err
		}
	}
	for i := range j.Steps {
		s := &j.Steps[i]
		switch s.State {
		case catalog.StepWaiting:
			if back {
				if err := js.catalog.EndStep(ctx, s, catalog.JobCancelled, ""); err != nil {
					return err
				}
				continue
			}
			open++
			if moving >= stepsAtOnce {
				continue
			}
			if err := js.catalog.BeginStep(ctx, s, false); err != nil {
				return err
			}
			moving++
		case catalog.StepMoving:
			open++
			moving++
			want := s.After
			if back {
				want = s.Before
				if place := js.cluster.PlacedAt(s.ChannelID, s.Partition); !slices.Equal(place, want) {
					if err := js.catalog.BeginStep(ctx, s, true); err != nil {
						return err
					}
					continue
				}
			}
			if !js.cluster.HoldsAs(s.ChannelID, s.Partition, want) {
				continue
			}
			state := catalog.JobDone
			if back {
				state = catalog.JobCancelled
			}
			if err := js.catalog.EndStep(ctx, s, state, ""); err != nil {
				return err
			}
			open--
			moving--
		}
	}
	if open > 0 {
		return nil
	}
	if back {
		return js.catalog.SetJobState(ctx, j.ID, catalog.JobCancelled, nil)
	}
	if j.Kind == "drain" && js.cluster.LeadsAny(j.Address) {
		return nil
	}
	return js.catalog.SetJobState(ctx, j.ID, catalog.JobDone, nil)
}

// Replicas is the job that gives a topic another number of replicas.
func (js *Jobs) Replicas(ctx context.Context, who string, t *part.Channel, replicas int, preview bool) (*catalog.Job, error) {
	nodes, existing := js.cluster.Placement()
	job := &catalog.Job{Kind: "replicas", Address: t.Address().String(), Who: who, Detail: fmt.Sprintf("from %d to %s", t.Record().Replicas, words.Many(replicas, "replica"))}
	for i := range existing {
		p := &existing[i]
		if p.Channel != t.ID {
			continue
		}
		after, err := placement.Replace(nodes, existing, *p, nil, replicas)
		if err != nil {
			return nil, err
		}
		if !slices.Equal(after, p.Replicas) {
			job.Steps = append(job.Steps, catalog.Step{ChannelID: t.ID, Partition: p.Number, Before: p.Replicas, After: after})
		}
		p.Replicas = after
	}
	if preview {
		return job, nil
	}
	return job, js.refuseBusy(ctx, job.Steps)
}

// refuseBusy refuses to move partitions that another job is moving.
func (js *Jobs) refuseBusy(ctx context.Context, steps []catalog.Step) error {
	jobs, err := js.catalog.Jobs(ctx, 0)
	if err != nil {
		return part.Explain(err, "")
	}
	for _, j := range jobs {
		for _, busy := range j.Steps {
			if busy.State != catalog.StepWaiting && busy.State != catalog.StepMoving {
				continue
			}
			for _, s := range steps {
				if s.ChannelID == busy.ChannelID && s.Partition == busy.Partition {
					return problem.New(problem.Conflict, "job %d (%s of %s) is moving %s", j.ID, j.Kind, j.Address, js.parts.PartitionAddress(s.ChannelID, s.Partition)).Next("wait for it, or cancel it with: ferry nodes cancel %d", j.ID)
				}
			}
		}
	}
	return nil
}

// Move has other nodes hold a partition, or with preview only says
// what that would mean.
func (js *Jobs) Move(ctx context.Context, who string, a address.Address, to []string, preview bool) (*change.Preview, error) {
	t, err := js.parts.Channel(a)
	if err != nil {
		return nil, err
	}
	p, err := t.Partition(a.Partition)
	if err != nil {
		return nil, err
	}
	ids, err := js.cluster.NodeIDs(to)
	if err != nil {
		return nil, err
	}
	if len(ids) < 1 || len(ids) > placement.MaxReplicas {
		return nil, problem.New(problem.Invalid, "%d nodes", len(ids)).Field("nodes").Allowed(fmt.Sprintf("1 to %d", placement.MaxReplicas))
	}
	for i, id := range ids {
		if id != js.id && !js.peers.Up(id) {
			return nil, problem.New(problem.Conflict, "%s does not answer", to[i]).Field("nodes").Next("ferry nodes tells which do")
		}
	}
	before := js.parts.Placed(p)
	out := &change.Preview{Address: a.String(), Effects: []string{}, Before: map[string]any{"nodes": js.parts.NodeNames(before)}, After: map[string]any{"nodes": to}}
	if slices.Equal(before, ids) {
		out.After = nil
		return out, nil
	}
	status := js.parts.PartitionStatus(p, time.Now())
	for _, id := range ids {
		if !slices.Contains(before, id) {
			out.Effects = append(out.Effects, fmt.Sprintf("%s is copied to %s: %s (%s)", a, js.parts.NodeName(id), words.Many(status.End-status.First, "message"), address.FormatSize(status.Bytes)))
		}
	}
	for _, id := range before {
		if !slices.Contains(ids, id) {
			out.Effects = append(out.Effects, fmt.Sprintf("%s gives its replica up once the others are in step", js.parts.NodeName(id)))
		}
	}
	if ids[0] != before[0] {
		out.Effects = append(out.Effects, fmt.Sprintf("%s leads it from then on", to[0]))
	}
	if len(ids) != len(before) {
		out.Effects = append(out.Effects, placement.EvenEffect(len(ids))...)
	}
	if preview {
		return out, nil
	}
	job := &catalog.Job{Kind: "move", Address: a.String(), Who: who, Detail: fmt.Sprintf("from %v to %v", js.parts.NodeNames(before), to),
		Steps: []catalog.Step{{ChannelID: t.ID, Partition: p.Number, Before: before, After: ids}}}
	if err := js.refuseBusy(ctx, job.Steps); err != nil {
		return nil, err
	}
	err = js.catalog.NewJob(ctx, job, &catalog.Entry{Who: who, Action: "move partition", Address: a.String(), Before: out.Before, After: out.After}, nil)
	out.Job = job.ID
	return out, part.Explain(err, a.String())
}

// Cancel takes a job back: what it has not moved stays, what is moving
// goes back, and a node that was being drained takes replicas again.
func (js *Jobs) Cancel(ctx context.Context, who string, id int64) error {
	jobs, err := js.catalog.Jobs(ctx, 200)
	if err != nil {
		return part.Explain(err, "")
	}
	i := slices.IndexFunc(jobs, func(j *catalog.Job) bool { return j.ID == id })
	if i < 0 {
		return problem.New(problem.NotFound, "there is no job %d", id).Next("ferry nodes jobs lists them")
	}
	j := jobs[i]
	if node := js.parts.ByName(j.Address); j.Kind == "drain" && node != nil && node.State == catalog.NodeDraining {
		if err := js.catalog.SetNodeState(ctx, node.ID, catalog.NodeMember, &catalog.Entry{Who: who, Action: "end drain", Address: node.Name}); err != nil {
			return part.Explain(err, "")
		}
		if j.State == catalog.JobDone {
			return nil
		}
	}
	if j.State != catalog.JobRunning {
		return problem.New(problem.Conflict, "job %d is %s", id, j.State).Next("only running jobs can be cancelled")
	}
	return part.Explain(js.catalog.SetJobState(ctx, id, catalog.JobCancelling, &catalog.Entry{Who: who, Action: "cancel job", Address: j.Address, Before: map[string]any{"job": id, "kind": j.Kind}}), "")
}

// List returns the jobs that run and those that ended last.
func (js *Jobs) List(ctx context.Context, limit int) ([]*catalog.Job, error) {
	jobs, err := js.catalog.Jobs(ctx, limit)
	return jobs, part.Explain(err, "")
}
