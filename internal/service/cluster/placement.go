package cluster

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"sort"
	"time"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/placement"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/part"
	"steadyferry/internal/service/change"
)

// PlacedAt returns the nodes that shall hold a partition.
func (cl *Cluster) PlacedAt(channel int64, partition int) []uint64 {
	if all := cl.catalog.View().Placed[channel]; partition < len(all) {
		return all[partition].Replicas
	}
	return nil
}

// HoldsAs reports whether the voters of a partition are these nodes, and
// nothing is under way.
func (cl *Cluster) HoldsAs(channel int64, partition int, want []uint64) bool {
	t := cl.parts.ByID(channel)
	if t == nil {
		return true // removed meanwhile
	}
	p, err := t.Partition(partition)
	if err != nil {
		return true
	}
	_, r := cl.parts.View(p, time.Now())
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

// LeadsAny reports whether a node leads a partition that others could lead.
func (cl *Cluster) LeadsAny(name string) bool {
	node := cl.parts.ByName(name)
	if node == nil {
		return false
	}
	for _, t := range cl.parts.Channels() {
		for _, p := range t.Partitions() {
			if len(cl.parts.Placed(p)) > 1 && cl.parts.LeaderOf(p) == node.ID {
				return true
			}
		}
	}
	return false
}

// DrainLeaders asks a node to give away what it leads.
func (cl *Cluster) DrainLeaders(ctx context.Context, name string) error {
	node := cl.parts.ByName(name)
	if node == nil {
		return nil
	}
	reason := []byte(name + " is being drained")
	for _, t := range cl.parts.Channels() {
		for _, p := range t.Partitions() {
			if len(cl.parts.Placed(p)) < 2 || cl.parts.LeaderOf(p) != node.ID {
				continue
			}
			var err error
			if node.ID == cl.id {
				_, err = cl.answerLead(ctx, cl.id, p, reason)
			} else {
				_, err = cl.parts.Call(ctx, node.ID, "lead", append(part.KeyBytes(p.Key()), reason...))
			}
			if err != nil {
				return err
			}
		}
	}
	return nil
}

// members returns the nodes as the computation of placements takes them, by
// name.
func (cl *Cluster) members() (nodes []placement.Node) {
	for _, r := range cl.catalog.View().Nodes {
		if r.State != catalog.NodeMember && r.State != catalog.NodeDraining {
			continue
		}
		nodes = append(nodes, placement.Node{ID: r.ID, Name: r.Name, Zone: r.Zone, Usable: r.State == catalog.NodeMember && (r.ID == cl.id || cl.peers.Up(r.ID))})
	}
	slices.SortFunc(nodes, func(a, b placement.Node) int { return cmp.Compare(a.Name, b.Name) })
	return nodes
}

// partitions returns where all partitions are, in no order.
func (cl *Cluster) partitions() (partitions []placement.Partition) {
	view := cl.catalog.View()
	for _, ch := range view.Channels {
		for _, p := range view.Placed[ch.ID] {
			partitions = append(partitions, placement.Partition{Channel: ch.ID, Number: p.Partition, Replicas: p.Replicas})
		}
	}
	return partitions
}

// Placement returns the nodes and the partitions as the computation of
// placements takes them, in order.
func (cl *Cluster) Placement() ([]placement.Node, []placement.Partition) {
	partitions := cl.partitions()
	slices.SortFunc(partitions, func(a, b placement.Partition) int {
		return cmp.Or(cmp.Compare(a.Channel, b.Channel), cmp.Compare(a.Number, b.Number))
	})
	return cl.members(), partitions
}

// Choose finds nodes for new partitions of the channel with the address.
func (cl *Cluster) Choose(address string, partitions, replicas int) ([][]uint64, error) {
	var existing []placement.Partition
	if partitions > 0 && cl.Usable() > 1 { // else there is nothing to choose by
		existing = cl.partitions()
	}
	placed, err := placement.Choose(cl.members(), existing, partitions, replicas)
	if err != nil {
		return nil, TooFew(err, address)
	}
	return placed, nil
}

// Usable counts the nodes that can take replicas.
func (cl *Cluster) Usable() (count int) {
	for _, r := range cl.members() {
		if r.Usable {
			count++
		}
	}
	return count
}

// TooFew explains that there are not enough nodes for what was asked.
func TooFew(err error, address string) error {
	var few *placement.TooFewError
	if errors.As(err, &few) {
		return problem.New(problem.Conflict, "%s: %v", address, few).Field("replicas").Allowed(fmt.Sprintf("1 to %d now", few.Usable)).Next("start more nodes, or ask for fewer replicas; ferry nodes lists them")
	}
	return part.Explain(err, address)
}

// NodeIDs finds nodes by their names.
func (cl *Cluster) NodeIDs(names []string) ([]uint64, error) {
	var ids []uint64
	for _, name := range names {
		node := cl.parts.ByName(name)
		if node == nil {
			return nil, cl.NoNode(name)
		}
		if slices.Contains(ids, node.ID) {
			return nil, problem.New(problem.Invalid, "%s is named twice", name).Field("nodes")
		}
		ids = append(ids, node.ID)
	}
	return ids, nil
}

// NoNode says that there is no such node, and which is near.
func (cl *Cluster) NoNode(name string) error {
	var names []string
	for _, r := range cl.catalog.View().Nodes {
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

// Settings are what is set on all nodes together.
func (cl *Cluster) Settings() setting.Cluster {
	is := cl.catalog.View().Cluster
	return setting.Cluster{SpreadLeaders: is.SpreadLeaders, LogbookTo: is.LogbookTo}
}

// maySend says why whoever asks may not have the logbook go to a topic, or to no place: it takes to
// read all of it, and to publish there.
func (cl *Cluster) maySend(ctx context.Context, to string) error {
	if err := access.Check(ctx, access.Logbook, "*"); err != nil || to == "" {
		return err
	}
	if ch := cl.catalog.View().Channels[to]; ch != nil && ch.Kind != setting.Topic {
		return problem.New(problem.Invalid, "%s is a %s", to, ch.Kind).Field("logbookTo").Allowed("the address of a topic")
	}
	return access.Check(ctx, access.Publish, to)
}

// Set changes what is set on all nodes together, or with preview only says what
// that would do.
func (cl *Cluster) Set(ctx context.Context, who string, settings setting.Change, preview bool) (*form.Preview, error) {
	if err := access.Check(ctx, access.Nodes, address.Nodes); err != nil {
		return nil, err
	}
	was := cl.Settings()
	is := was
	setting.Clusters.Apply(&is, settings)
	if is.LogbookTo != was.LogbookTo {
		if err := cl.maySend(ctx, is.LogbookTo); err != nil {
			return nil, err
		}
	}
	p, err := change.Preview(ctx, cl.catalog, "nodes", setting.Clusters, &was, &is, "")
	if err == nil && is.LogbookTo != was.LogbookTo && is.LogbookTo != "" && cl.catalog.View().Channels[is.LogbookTo] == nil {
		// A declaration may be about to make it.
		p.Effects = append(p.Effects, "there is no topic "+is.LogbookTo+": nothing goes there until there is")
	}
	if err != nil || preview || len(p.After) == 0 {
		return p, err
	}
	return p, part.Explain(cl.catalog.SetCluster(ctx, is, &catalog.Entry{Who: who, Action: "set nodes", Address: "nodes", Before: p.Before, After: p.After}), "")
}

// WhatIf works out what a loss of nodes would mean.
func (cl *Cluster) WhatIf(without []string) (placement.Loss, []placement.Partition, error) {
	ids, err := cl.NodeIDs(without)
	if err != nil {
		return placement.Loss{}, nil, err
	}
	nodes, partitions := cl.Placement()
	return placement.WhatIf(nodes, partitions, ids), partitions, nil
}
