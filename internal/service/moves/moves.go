package moves

import (
	"context"
	"fmt"
	"slices"
	"time"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/placement"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/words"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/ledger"
	"steadyferry/internal/engine/part"
	"steadyferry/internal/service/jobs"
)

// Move has other nodes hold a partition, or with preview only says
// what that would mean.
func (mv *Moves) Move(ctx context.Context, who string, a address.Address, to []string, preview bool) (*form.Preview, error) {
	if err := access.Check(ctx, access.Nodes, a.ChannelPart().String()); err != nil {
		return nil, err
	}
	return mv.begin(ctx, mv.move, who, Spec{Address: a.String(), To: to}, preview)
}

func (mv *Moves) planMove(_ context.Context, s *Spec) (*jobs.Plan, error) {
	a, err := address.Parse(s.Address)
	if err != nil {
		return nil, err
	}
	to := s.To
	t, err := mv.parts.Channel(a)
	if err != nil {
		return nil, err
	}
	p, err := t.Partition(a.Partition)
	if err != nil {
		return nil, err
	}
	ids, err := mv.cluster.NodeIDs(to)
	if err != nil {
		return nil, err
	}
	if len(ids) < 1 || len(ids) > placement.MaxReplicas {
		return nil, problem.New(problem.Invalid, "%d nodes", len(ids)).Field("nodes").Allowed(fmt.Sprintf("1 to %d", placement.MaxReplicas))
	}
	for i, id := range ids {
		if id != mv.id && !mv.peers.Up(id) {
			return nil, problem.New(problem.Conflict, "%s does not answer", to[i]).Field("nodes").Next("ferry nodes tells which do")
		}
	}
	before := mv.parts.Placed(p)
	out := &form.Preview{Address: a.String(), Effects: []string{}, Before: map[string]any{"nodes": mv.parts.NodeNames(before)}, After: map[string]any{"nodes": to}}
	if slices.Equal(before, ids) {
		out.After = nil
		return &jobs.Plan{Idle: true, Said: out}, nil
	}
	status := mv.parts.PartitionStatus(p, time.Now())
	for _, id := range ids {
		if !slices.Contains(before, id) {
			out.Effects = append(out.Effects, fmt.Sprintf("%s is copied to %s: %s (%s)", a, mv.parts.NodeName(id), words.Many(status.End-status.First, "message"), address.FormatSize(status.Bytes)))
		}
	}
	for _, id := range before {
		if !slices.Contains(ids, id) {
			out.Effects = append(out.Effects, fmt.Sprintf("%s gives its replica up once the others are in step", mv.parts.NodeName(id)))
		}
	}
	if ids[0] != before[0] {
		out.Effects = append(out.Effects, fmt.Sprintf("%s leads it from then on", to[0]))
	}
	if len(ids) != len(before) {
		out.Effects = append(out.Effects, placement.EvenEffect(len(ids))...)
	}
	return withSteps(&jobs.Plan{Address: s.Address, Detail: fmt.Sprintf("from %v to %v", mv.parts.NodeNames(before), to), Action: "move partition", Said: out, Before: out.Before, After: out.After},
		[]ledger.Step{{ChannelID: t.ID, Partition: p.Number, Before: before, After: ids}}), nil
}

// Replicas returns the job that gives a topic another number of replicas, as
// part of the change of its settings.
func (mv *Moves) Replicas(ctx context.Context, who string, t *part.Channel, replicas int) (*catalog.Job, catalog.In, error) {
	s := Spec{Address: t.Address().String(), Replicas: replicas}
	plan, err := mv.planReplicas(ctx, &s)
	if err != nil {
		return nil, nil, err
	}
	return mv.replicas.Within(who, s, plan)
}

func (mv *Moves) planReplicas(_ context.Context, s *Spec) (*jobs.Plan, error) {
	a, err := address.Parse(s.Address)
	if err != nil {
		return nil, err
	}
	t, err := mv.parts.Channel(a)
	if err != nil {
		return nil, err
	}
	nodes, existing := mv.cluster.Placement()
	var steps []ledger.Step
	for i := range existing {
		p := &existing[i]
		if p.Channel != t.ID {
			continue
		}
		after, err := placement.Replace(nodes, existing, *p, nil, s.Replicas)
		if err != nil {
			return nil, err
		}
		if !slices.Equal(after, p.Replicas) {
			steps = append(steps, ledger.Step{ChannelID: t.ID, Partition: p.Number, Before: p.Replicas, After: after})
		}
		p.Replicas = after
	}
	return withSteps(&jobs.Plan{Address: s.Address, Detail: fmt.Sprintf("from %d to %s", t.Record().Replicas, words.Many(s.Replicas, "replica"))}, steps), nil
}
