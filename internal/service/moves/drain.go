package moves

import (
	"context"
	"fmt"
	"slices"

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

// Drain empties a node: it gives away what it leads, and then its replicas
// move to other nodes. With leadersOnly the replicas stay.
func (mv *Moves) Drain(ctx context.Context, who, name string, leadersOnly, preview bool) (*form.Preview, error) {
	if err := access.Check(ctx, access.Nodes, address.Nodes+"/"+name); err != nil {
		return nil, err
	}
	return mv.begin(ctx, mv.drain, who, Spec{Address: name, LeadersOnly: leadersOnly}, preview)
}

func (mv *Moves) planDrain(_ context.Context, s *Spec) (*jobs.Plan, error) {
	name := s.Address
	node := mv.parts.ByName(name)
	if node == nil {
		return nil, mv.cluster.NoNode(name)
	}
	nodes, existing := mv.cluster.Placement()
	for i := range nodes {
		if nodes[i].ID == node.ID {
			nodes[i].Usable = false
		}
	}
	var steps []ledger.Step
	leads, stuck := 0, 0
	for i := range existing {
		p := &existing[i]
		if !slices.Contains(p.Replicas, node.ID) {
			continue
		}
		if len(p.Replicas) > 1 && p.Replicas[0] == node.ID {
			leads++
		}
		after, err := placement.Replace(nodes, existing, *p, []uint64{node.ID}, len(p.Replicas))
		if s.LeadersOnly || err != nil {
			if err != nil {
				stuck++
			}
			// The replica stays, but is the last that should lead.
			after = append(slices.DeleteFunc(slices.Clone(p.Replicas), func(id uint64) bool { return id == node.ID }), node.ID)
		}
		if !slices.Equal(after, p.Replicas) {
			steps = append(steps, ledger.Step{ChannelID: p.Channel, Partition: p.Number, Before: p.Replicas, After: after})
		}
		p.Replicas = after
	}
	out := &form.Preview{Address: name, Effects: []string{fmt.Sprintf("%s takes no new replicas from now on, until the drain is cancelled", name),
		fmt.Sprintf("it gives away %s that it should lead", words.Many(leads, "partition"))}, After: map[string]any{"state": catalog.NodeDraining}, Before: map[string]any{"state": node.State}}
	detail := ""
	switch {
	case s.LeadersOnly:
		detail = "only leaders"
		out.Effects = append(out.Effects, "its replicas stay, so that it can be stopped for a while")
	case stuck > 0:
		return nil, problem.New(problem.Conflict, "there is no other node for %s held by %s: each replica needs a node of its own", words.Many(stuck, "partition"), name).Field("node").
			Next("start another node, lower the replicas with ferry set TOPIC -replicas N, or only move the leaders away with -leaders-only")
	default:
		out.Effects = append(out.Effects, fmt.Sprintf("then the replicas of %s move to other nodes, %d at a time; ferry nodes jobs shows how far it is, ferry nodes cancel takes it back", words.Many(len(steps), "partition"), stepsAtOnce))
	}
	return withSteps(&jobs.Plan{Address: name, Detail: detail, Action: "drain node", Said: out, After: out.After}, steps, ledger.SetNodeStateIn(node.ID, catalog.NodeDraining)), nil
}

// RemoveNode takes a node that holds nothing any more, or is gone for good,
// out of the cluster.
func (mv *Moves) RemoveNode(ctx context.Context, who, name string, preview bool) (*form.Preview, error) {
	if err := access.Check(ctx, access.Nodes, address.Nodes+"/"+name); err != nil {
		return nil, err
	}
	node := mv.parts.ByName(name)
	if node == nil {
		return nil, mv.cluster.NoNode(name)
	}
	_, existing := mv.cluster.Placement()
	holds := 0
	for _, p := range existing {
		if slices.Contains(p.Replicas, node.ID) {
			holds++
		}
	}
	if holds > 0 {
		return nil, problem.New(problem.Conflict, "%s still holds %s", name, words.Many(holds, "partition")).Field("node").Next("empty it first with: ferry nodes drain %s", name)
	}
	if node.ID == mv.id || mv.peers.Up(node.ID) {
		return nil, problem.New(problem.Conflict, "%s still runs", name).Field("node").Next("stop it first")
	}
	out := &form.Preview{Address: name, Effects: []string{"it leaves the cluster; its data directory cannot join again, an empty one can"}, After: map[string]any{"state": catalog.NodeRemoved}, Before: map[string]any{"state": node.State}}
	if preview {
		return out, nil
	}
	return out, part.Explain(mv.catalog.SetNodeState(ctx, node.ID, catalog.NodeRemoved, &catalog.Entry{Who: who, Action: "remove node", Address: name}), name)
}
