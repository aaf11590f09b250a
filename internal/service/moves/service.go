// Package moves moves replicas between nodes, partition by partition: to other
// nodes, away from a node that is emptied, to another number of replicas, and to
// the new directory of a node that lost its own. Each is a job with recorded
// steps. It may be called at once by many.
package moves

import (
	"context"
	"errors"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/job"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/ledger"
	"steadyferry/internal/engine/part"
	"steadyferry/internal/service/cluster"
	"steadyferry/internal/service/jobs"
)

// Kinds of jobs that move replicas.
const (
	KindMove     = "move"
	KindDrain    = "drain"
	KindReplicas = "replicas"
	KindReplace  = "replace"
)

var kinds = []string{KindMove, KindDrain, KindReplicas, KindReplace}

// Spec is what a job that moves replicas is asked.
type Spec struct {
	Address     string   `json:"address"`               // of a partition or a topic, or the name of a node
	To          []string `json:"to,omitempty"`          // move: the nodes
	LeadersOnly bool     `json:"leadersOnly,omitempty"` // drain: the replicas stay
	Replicas    int      `json:"replicas,omitempty"`    // replicas: how many
}

// kind is the kind of jobs of one of the kinds above.
type kind = *jobs.Kind[Spec, struct{}]

// Moves moves replicas.
type Moves struct {
	parts   *part.Registry
	cluster *cluster.Cluster
	catalog *catalog.Catalog
	ledger  ledger.Ledger
	peers   part.Network
	id      uint64
	jobs    *jobs.Jobs

	move, drain, replicas, replace kind
}

// New returns the service, and has jobs know how replicas are moved.
func New(parts *part.Registry, records *catalog.Catalog, js *jobs.Jobs, cl *cluster.Cluster) *Moves {
	mv := &Moves{parts: parts, cluster: cl, catalog: records, ledger: ledger.Of(records), peers: parts.Peers(), id: parts.ID(), jobs: js}
	newKind := func(name string, plan func(context.Context, *Spec) (*jobs.Plan, error)) kind {
		k := &jobs.Kind[Spec, struct{}]{Name: name, Back: true, Listed: "ferry nodes jobs", Plan: plan, Open: mv.open,
			May: func(ctx context.Context, at string, _ *Spec) error { return access.Check(ctx, access.Nodes, at) }}
		jobs.Register(js, k)
		return k
	}
	mv.move = newKind(KindMove, mv.planMove)
	mv.drain = newKind(KindDrain, mv.planDrain)
	mv.replicas = newKind(KindReplicas, mv.planReplicas)
	mv.replace = newKind(KindReplace, mv.planReplace)
	return mv
}

// begin makes a job, or with preview only says what it would do.
func (mv *Moves) begin(ctx context.Context, k kind, who string, s Spec, preview bool) (*form.Preview, error) {
	plan, _, err := k.New(ctx, who, s, 0, preview)
	if err != nil {
		return nil, mv.Explain(ctx, err)
	}
	return plan.Said, nil
}

// withSteps has a plan record its steps, and what else goes with them.
func withSteps(p *jobs.Plan, steps []ledger.Step, also ...catalog.In) *jobs.Plan {
	p.Total = int64(len(steps))
	p.Also = func(j *catalog.Job) catalog.In { return catalog.All(append(also, ledger.NewStepsIn(j, steps))...) }
	return p
}

// Explain says which job is in the way of one that could not be made.
func (mv *Moves) Explain(ctx context.Context, err error) error {
	var moving *ledger.MovingError
	if !errors.As(err, &moving) {
		return err
	}
	address := mv.parts.PartitionAddress(moving.ChannelID, moving.Partition)
	open, _ := mv.ledger.OpenSteps(ctx, 0)
	for _, s := range open {
		if s.ChannelID != moving.ChannelID || s.Partition != moving.Partition {
			continue
		}
		if j, err := mv.catalog.Job(ctx, s.JobID); err == nil {
			return problem.New(problem.Conflict, "job %d (%s of %s) is moving %s", j.ID, j.Kind, j.Address, address).Next("wait for it, or cancel it with: ferry nodes cancel %d", j.ID)
		}
	}
	return problem.New(problem.Conflict, "another job is moving %s", address).Next("ferry nodes jobs lists them")
}

// Job is a job that moves replicas, with its steps.
type Job struct {
	*catalog.Job
	Steps []ledger.Step
}

// List returns the jobs that move replicas, newest first: all that have not
// ended, and up to so many that have.
func (mv *Moves) List(ctx context.Context, ended int) ([]*Job, error) {
	records, err := mv.jobs.List(ctx, ended, kinds...)
	if err != nil {
		return nil, err
	}
	all, ids, byID := make([]*Job, len(records)), make([]int64, len(records)), map[int64]*Job{}
	for i, j := range records {
		all[i], ids[i] = &Job{Job: j}, j.ID
		byID[j.ID] = all[i]
	}
	steps, err := mv.ledger.Steps(ctx, ids...)
	for _, s := range steps {
		byID[s.JobID].Steps = append(byID[s.JobID].Steps, s)
	}
	return all, part.Explain(err, "jobs")
}

// Cancel takes a job back: what it has not moved stays, what is moving goes
// back, and a node that was being drained takes replicas again.
func (mv *Moves) Cancel(ctx context.Context, who string, id int64) (*Job, error) {
	j, err := mv.jobs.Get(ctx, id, kinds...)
	if err != nil {
		return nil, err
	}
	node := mv.parts.ByName(j.Address)
	if draining := j.Kind == KindDrain && node != nil && node.State == catalog.NodeDraining; draining {
		if err := mv.catalog.SetNodeState(ctx, node.ID, catalog.NodeMember, &catalog.Entry{Who: who, Action: "end drain", Address: node.Name}); err != nil {
			return nil, part.Explain(err, node.Name)
		}
	} else if j.State.Ended() {
		return nil, problem.New(problem.Conflict, "job %d is %s", id, j.State).Next("only running jobs can be cancelled")
	}
	if !j.State.Ended() {
		if j, err = mv.jobs.Set(ctx, who, id, job.Cancelled, nil); err != nil {
			return nil, err
		}
	}
	steps, err := mv.ledger.Steps(ctx, id)
	return &Job{j, steps}, part.Explain(err, "jobs")
}
