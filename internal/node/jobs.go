package node

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"sort"
	"time"

	"steadyferry/internal/core/address"
	"steadyferry/internal/core/placement"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/words"
	"steadyferry/internal/engine/catalog"
)

// stepsAtOnce is how many partitions one job moves at a time.
const stepsAtOnce = 4

// runJobs brings jobs forward, on one node of the cluster at a time. All that it
// knows is in the records, so that another node can go on at any moment.
func (n *Node) runJobs(ctx context.Context) {
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
		if idle++; idle > 3 && idle%10 != 0 && looked == n.catalog.View().Version {
			continue
		}
		looked = n.catalog.View().Version
		if err := n.replaceLost(ctx); err != nil && ctx.Err() == nil && !errors.Is(err, catalog.ErrAway) {
			slog.Warn("the replicas of a lost directory are not copied yet", "error", err)
		}
		jobs, err := n.catalog.Jobs(ctx, 0)
		if err != nil {
			continue
		}
		for _, j := range jobs {
			idle = 0
			if err := n.advance(ctx, j); err != nil && ctx.Err() == nil && !errors.Is(err, catalog.ErrAway) {
				slog.Warn("a job does not get on", "job", j.ID, "kind", j.Kind, "error", err)
			}
		}
	}
}

// advance brings a job forward by what can be done now.
func (n *Node) advance(ctx context.Context, j *catalog.Job) error {
	moving, open := 0, 0
	back := j.State == catalog.JobCancelling
	if j.Kind == "drain" && !back {
		if err := n.drainLeaders(ctx, j.Address); err != nil {
			return err
		}
	}
	for i := range j.Steps {
		s := &j.Steps[i]
		switch s.State {
		case catalog.StepWaiting:
			if back {
				if err := n.catalog.EndStep(ctx, s, catalog.JobCancelled, ""); err != nil {
					return err
				}
				continue
			}
			open++
			if moving >= stepsAtOnce {
				continue
			}
			if err := n.catalog.BeginStep(ctx, s, false); err != nil {
				return err
			}
			moving++
		case catalog.StepMoving:
			open++
			moving++
			want := s.After
			if back {
				want = s.Before
				if place := n.placedAt(s.ChannelID, s.Partition); !slices.Equal(place, want) {
					if err := n.catalog.BeginStep(ctx, s, true); err != nil {
						return err
					}
					continue
				}
			}
			if !n.holdsAs(s.ChannelID, s.Partition, want) {
				continue
			}
			state := catalog.JobDone
			if back {
				state = catalog.JobCancelled
			}
			if err := n.catalog.EndStep(ctx, s, state, ""); err != nil {
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
		return n.catalog.SetJobState(ctx, j.ID, catalog.JobCancelled, nil)
	}
	if j.Kind == "drain" && n.leadsAny(j.Address) {
		return nil
	}
	return n.catalog.SetJobState(ctx, j.ID, catalog.JobDone, nil)
}

func (n *Node) placedAt(channel int64, partition int) []uint64 {
	if all := n.catalog.View().Placed[channel]; partition < len(all) {
		return all[partition].Replicas
	}
	return nil
}

// holdsAs reports whether the voters of a partition are these nodes, and
// nothing is under way.
func (n *Node) holdsAs(channel int64, partition int, want []uint64) bool {
	t := n.topicByID(channel)
	if t == nil {
		return true // removed meanwhile
	}
	p, err := t.Partition(partition)
	if err != nil {
		return true
	}
	_, r := n.view(p, time.Now())
	if r == nil || !r.Leading || len(r.Leaving) > 0 || len(r.Learners) > 0 || len(r.Voters) != len(want) {
		return false
	}
	for _, id := range want {
		if !slices.Contains(r.Voters, id) {
			return false
		}
	}
	return true
}

func (n *Node) topicByID(id int64) *Topic {
	n.mu.RLock()
	defer n.mu.RUnlock()
	return n.topics[id]
}

// leadsAny reports whether a node leads a partition that others could lead.
func (n *Node) leadsAny(name string) bool {
	node := n.byName(name)
	if node == nil {
		return false
	}
	for _, t := range n.Topics() {
		for _, p := range t.Partitions() {
			if len(n.placed(p)) > 1 && n.leaderOf(p) == node.ID {
				return true
			}
		}
	}
	return false
}

// drainLeaders asks a node to give away what it leads.
func (n *Node) drainLeaders(ctx context.Context, name string) error {
	node := n.byName(name)
	if node == nil {
		return nil
	}
	reason := []byte(name + " is being drained")
	for _, t := range n.Topics() {
		for _, p := range t.Partitions() {
			if len(n.placed(p)) < 2 || n.leaderOf(p) != node.ID {
				continue
			}
			var err error
			if node.ID == n.id {
				_, err = n.answerLead(ctx, n.id, p, reason)
			} else {
				_, err = n.call(ctx, node.ID, "lead", append(keyBytes(p.key()), reason...))
			}
			if err != nil {
				return err
			}
		}
	}
	return nil
}

func (n *Node) byName(name string) *catalog.Node {
	for _, r := range n.catalog.View().Nodes {
		if r.Name == name && (r.State == catalog.NodeMember || r.State == catalog.NodeDraining) {
			return r
		}
	}
	return nil
}

// placement returns the nodes and the partitions as the computation of
// placements takes them, in order.
func (n *Node) placement() ([]placement.Node, []placement.Partition) {
	view := n.catalog.View()
	var nodes []placement.Node
	for _, r := range view.Nodes {
		if r.State != catalog.NodeMember && r.State != catalog.NodeDraining {
			continue
		}
		nodes = append(nodes, placement.Node{ID: r.ID, Name: r.Name, Zone: r.Zone, Usable: r.State == catalog.NodeMember && (r.ID == n.id || n.peers.Up(r.ID))})
	}
	slices.SortFunc(nodes, func(a, b placement.Node) int { return cmp.Compare(a.Name, b.Name) })
	var partitions []placement.Partition
	for _, ch := range view.Channels {
		for _, p := range view.Placed[ch.ID] {
			partitions = append(partitions, placement.Partition{Channel: ch.ID, Number: p.Partition, Replicas: p.Replicas})
		}
	}
	slices.SortFunc(partitions, func(a, b placement.Partition) int {
		return cmp.Or(cmp.Compare(a.Channel, b.Channel), cmp.Compare(a.Number, b.Number))
	})
	return nodes, partitions
}

// usable counts the nodes that can take replicas.
func (n *Node) usable() (count int) {
	nodes, _ := n.placement()
	for _, r := range nodes {
		if r.Usable {
			count++
		}
	}
	return count
}

func tooFew(err error, address string) error {
	var few *placement.TooFewError
	if errors.As(err, &few) {
		return problem.New(problem.Conflict, "%s: %v", address, few).Field("replicas").Allowed(fmt.Sprintf("1 to %d now", few.Usable)).Next("start more nodes, or ask for fewer replicas; ferry nodes lists them")
	}
	return explain(err, address)
}

// replicasJob is the job that gives a topic another number of replicas.
func (n *Node) replicasJob(ctx context.Context, who string, t *Topic, replicas int, preview bool) (*catalog.Job, error) {
	nodes, existing := n.placement()
	job := &catalog.Job{Kind: "replicas", Address: t.Address().String(), Who: who, Detail: fmt.Sprintf("from %d to %s", t.Channel().Replicas, words.Many(replicas, "replica"))}
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
	return job, n.refuseBusy(ctx, job.Steps)
}

// refuseBusy refuses to move partitions that another job is moving.
func (n *Node) refuseBusy(ctx context.Context, steps []catalog.Step) error {
	jobs, err := n.catalog.Jobs(ctx, 0)
	if err != nil {
		return explain(err, "")
	}
	for _, j := range jobs {
		for _, busy := range j.Steps {
			if busy.State != catalog.StepWaiting && busy.State != catalog.StepMoving {
				continue
			}
			for _, s := range steps {
				if s.ChannelID == busy.ChannelID && s.Partition == busy.Partition {
					return problem.New(problem.Conflict, "job %d (%s of %s) is moving %s", j.ID, j.Kind, j.Address, n.PartitionAddress(s.ChannelID, s.Partition)).Next("wait for it, or cancel it with: ferry nodes cancel %d", j.ID)
				}
			}
		}
	}
	return nil
}

// PartitionAddress returns the address of a partition by the id of its channel.
func (n *Node) PartitionAddress(channel int64, partition int) string {
	t := n.topicByID(channel)
	if t == nil {
		return fmt.Sprintf("a partition of a removed channel (%d#%d)", channel, partition)
	}
	a := t.Address()
	a.Partition = partition
	return a.String()
}

// nodeIDs finds nodes by their names.
func (n *Node) nodeIDs(names []string) ([]uint64, error) {
	var ids []uint64
	for _, name := range names {
		node := n.byName(name)
		if node == nil {
			return nil, n.noNode(name)
		}
		if slices.Contains(ids, node.ID) {
			return nil, problem.New(problem.Invalid, "%s is named twice", name).Field("nodes")
		}
		ids = append(ids, node.ID)
	}
	return ids, nil
}

func (n *Node) noNode(name string) error {
	var names []string
	for _, r := range n.catalog.View().Nodes {
		if r.State == catalog.NodeMember || r.State == catalog.NodeDraining {
			names = append(names, r.Name)
		}
	}
	sort.Strings(names)
	p := problem.New(problem.NotFound, "there is no node %s", name).Field("nodes").Allowed(fmt.Sprint(names))
	if near := address.Nearest(name, names); near != "" {
		p.Then = fmt.Sprintf("did you mean %s?", near)
	}
	return p
}

// MovePartition has other nodes hold a partition, or with preview only says
// what that would mean.
func (n *Node) MovePartition(ctx context.Context, who string, a address.Address, to []string, preview bool) (*Preview, error) {
	t, err := n.Topic(a)
	if err != nil {
		return nil, err
	}
	p, err := t.Partition(a.Partition)
	if err != nil {
		return nil, err
	}
	ids, err := n.nodeIDs(to)
	if err != nil {
		return nil, err
	}
	if len(ids) < 1 || len(ids) > placement.MaxReplicas {
		return nil, problem.New(problem.Invalid, "%d nodes", len(ids)).Field("nodes").Allowed(fmt.Sprintf("1 to %d", placement.MaxReplicas))
	}
	for i, id := range ids {
		if id != n.id && !n.peers.Up(id) {
			return nil, problem.New(problem.Conflict, "%s does not answer", to[i]).Field("nodes").Next("ferry nodes tells which do")
		}
	}
	before := n.placed(p)
	out := &Preview{Address: a.String(), Effects: []string{}, Before: map[string]any{"nodes": n.NodeNames(before)}, After: map[string]any{"nodes": to}}
	if slices.Equal(before, ids) {
		out.After = nil
		return out, nil
	}
	status := n.PartitionStatus(p, time.Now())
	for _, id := range ids {
		if !slices.Contains(before, id) {
			out.Effects = append(out.Effects, fmt.Sprintf("%s is copied to %s: %s (%s)", a, n.NodeName(id), words.Many(status.End-status.First, "message"), address.FormatSize(status.Bytes)))
		}
	}
	for _, id := range before {
		if !slices.Contains(ids, id) {
			out.Effects = append(out.Effects, fmt.Sprintf("%s gives its replica up once the others are in step", n.NodeName(id)))
		}
	}
	if ids[0] != before[0] {
		out.Effects = append(out.Effects, fmt.Sprintf("%s leads it from then on", to[0]))
	}
	if len(ids) != len(before) {
		out.Effects = append(out.Effects, evenEffect(len(ids))...)
	}
	if preview {
		return out, nil
	}
	job := &catalog.Job{Kind: "move", Address: a.String(), Who: who, Detail: fmt.Sprintf("from %v to %v", n.NodeNames(before), to),
		Steps: []catalog.Step{{ChannelID: t.ID, Partition: p.Number, Before: before, After: ids}}}
	if err := n.refuseBusy(ctx, job.Steps); err != nil {
		return nil, err
	}
	err = n.catalog.NewJob(ctx, job, &catalog.Entry{Who: who, Action: "move partition", Address: a.String(), Before: out.Before, After: out.After}, nil)
	out.Job = job.ID
	return out, explain(err, a.String())
}

// NodeNames returns the names of nodes.
func (n *Node) NodeNames(ids []uint64) []string {
	out := make([]string, len(ids))
	for i, id := range ids {
		out[i] = n.NodeName(id)
	}
	return out
}

// Drain empties a node: it gives away what it leads, and then its replicas
// move to other nodes. With leadersOnly the replicas stay.
func (n *Node) Drain(ctx context.Context, who, name string, leadersOnly, preview bool) (*Preview, error) {
	node := n.byName(name)
	if node == nil {
		return nil, n.noNode(name)
	}
	nodes, existing := n.placement()
	for i := range nodes {
		if nodes[i].ID == node.ID {
			nodes[i].Usable = false
		}
	}
	job := &catalog.Job{Kind: "drain", Address: name, Who: who}
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
		if leadersOnly || err != nil {
			if err != nil {
				stuck++
			}
			// The replica stays, but is the last that should lead.
			after = append(slices.DeleteFunc(slices.Clone(p.Replicas), func(id uint64) bool { return id == node.ID }), node.ID)
		}
		if !slices.Equal(after, p.Replicas) {
			job.Steps = append(job.Steps, catalog.Step{ChannelID: p.Channel, Partition: p.Number, Before: p.Replicas, After: after})
		}
		p.Replicas = after
	}
	out := &Preview{Address: name, Effects: []string{fmt.Sprintf("%s takes no new replicas from now on, until the drain is cancelled", name),
		fmt.Sprintf("it gives away %s that it should lead", words.Many(leads, "partition"))}, After: map[string]any{"state": catalog.NodeDraining}, Before: map[string]any{"state": node.State}}
	switch {
	case leadersOnly:
		job.Detail = "only leaders"
		out.Effects = append(out.Effects, "its replicas stay, so that it can be stopped for a while")
	case stuck > 0:
		return nil, problem.New(problem.Conflict, "there is no other node for %s held by %s: each replica needs a node of its own", words.Many(stuck, "partition"), name).Field("node").
			Next("start another node, lower the replicas with ferry set TOPIC -replicas N, or only move the leaders away with -leaders-only")
	default:
		out.Effects = append(out.Effects, fmt.Sprintf("then the replicas of %s move to other nodes, %d at a time; ferry nodes jobs shows how far it is, ferry nodes cancel takes it back", words.Many(len(job.Steps), "partition"), stepsAtOnce))
	}
	if preview {
		return out, nil
	}
	if err := n.refuseBusy(ctx, job.Steps); err != nil {
		return nil, err
	}
	err := n.catalog.NewJob(ctx, job, &catalog.Entry{Who: who, Action: "drain node", Address: name, After: out.After}, catalog.SetNodeStateIn(node.ID, catalog.NodeDraining))
	out.Job = job.ID
	return out, explain(err, name)
}

// CancelJob takes a job back: what it has not moved stays, what is moving
// goes back, and a node that was being drained takes replicas again.
func (n *Node) CancelJob(ctx context.Context, who string, id int64) error {
	jobs, err := n.catalog.Jobs(ctx, 200)
	if err != nil {
		return explain(err, "")
	}
	i := slices.IndexFunc(jobs, func(j *catalog.Job) bool { return j.ID == id })
	if i < 0 {
		return problem.New(problem.NotFound, "there is no job %d", id).Next("ferry nodes jobs lists them")
	}
	j := jobs[i]
	if node := n.byName(j.Address); j.Kind == "drain" && node != nil && node.State == catalog.NodeDraining {
		if err := n.catalog.SetNodeState(ctx, node.ID, catalog.NodeMember, &catalog.Entry{Who: who, Action: "end drain", Address: node.Name}); err != nil {
			return explain(err, "")
		}
		if j.State == catalog.JobDone {
			return nil
		}
	}
	if j.State != catalog.JobRunning {
		return problem.New(problem.Conflict, "job %d is %s", id, j.State).Next("only running jobs can be cancelled")
	}
	return explain(n.catalog.SetJobState(ctx, id, catalog.JobCancelling, &catalog.Entry{Who: who, Action: "cancel job", Address: j.Address, Before: map[string]any{"job": id, "kind": j.Kind}}), "")
}

// Jobs returns the jobs that run and those that ended last.
func (n *Node) Jobs(ctx context.Context, limit int) ([]*catalog.Job, error) {
	jobs, err := n.catalog.Jobs(ctx, limit)
	return jobs, explain(err, "")
}

// RemoveNode takes a node that holds nothing any more, or is gone for good,
// out of the cluster.
func (n *Node) RemoveNode(ctx context.Context, who, name string, preview bool) (*Preview, error) {
	node := n.byName(name)
	if node == nil {
		return nil, n.noNode(name)
	}
	_, existing := n.placement()
	holds := 0
	for _, p := range existing {
		if slices.Contains(p.Replicas, node.ID) {
			holds++
		}
	}
	if holds > 0 {
		return nil, problem.New(problem.Conflict, "%s still holds %s", name, words.Many(holds, "partition")).Field("node").Next("empty it first with: ferry nodes drain %s", name)
	}
	if node.ID == n.id || n.peers.Up(node.ID) {
		return nil, problem.New(problem.Conflict, "%s still runs", name).Field("node").Next("stop it first")
	}
	out := &Preview{Address: name, Effects: []string{"it leaves the cluster; its data directory cannot join again, an empty one can"}, After: map[string]any{"state": catalog.NodeRemoved}, Before: map[string]any{"state": node.State}}
	if preview {
		return out, nil
	}
	return out, explain(n.catalog.SetNodeState(ctx, node.ID, catalog.NodeRemoved, &catalog.Entry{Who: who, Action: "remove node", Address: name}), name)
}

// SetSpread turns on or off that leaders are given back to the nodes that
// should have them.
func (n *Node) SetSpread(ctx context.Context, who string, on bool) error {
	was := n.catalog.View().Cluster.SpreadLeaders
	return explain(n.catalog.SetSpread(ctx, on, &catalog.Entry{Who: who, Action: "set spread of leaders", Address: "nodes", Before: map[string]any{"on": was}, After: map[string]any{"on": on}}), "")
}

// WhatIf works out what a loss of nodes would mean.
func (n *Node) WhatIf(without []string) (placement.Loss, []placement.Partition, error) {
	ids, err := n.nodeIDs(without)
	if err != nil {
		return placement.Loss{}, nil, err
	}
	nodes, partitions := n.placement()
	return placement.WhatIf(nodes, partitions, ids), partitions, nil
}
