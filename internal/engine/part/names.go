package part

import (
	"context"
	"errors"
	"fmt"
	"time"

	"steadyferry/internal/core/address"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/replica"
)

// NodeName returns the name of a node; it is that of a removed one too.
func (reg *Registry) NodeName(id uint64) string {
	if r := reg.catalog.View().Nodes[id]; r != nil {
		if r.State == catalog.NodeReplaced {
			return r.Name + " (lost directory)"
		}
		return r.Name
	}
	if id == 0 {
		return ""
	}
	return fmt.Sprintf("node %d", id)
}

// At returns a partition by its key, or nil.
func (reg *Registry) At(key replica.Key) *Partition {
	reg.mu.RLock()
	t := reg.channels[key.Channel]
	reg.mu.RUnlock()
	if t == nil {
		return nil
	}
	partitions := t.Partitions()
	if key.Partition >= len(partitions) {
		return nil
	}
	return partitions[key.Partition]
}

// LeaderOf returns the node that leads a partition, as far as it is known
// here, or 0.
func (reg *Registry) LeaderOf(p *Partition) uint64 {
	reported, term := reg.reports.Leader(p.Key())
	g := p.Replica()
	if g == nil {
		return reported
	}
	m := g.Membership()
	if m.Leading && g.Refusal() == nil {
		return reg.id
	}
	if m.Lead != 0 && m.Lead != reg.id && m.Term >= term {
		return m.Lead
	}
	if reported == reg.id {
		return 0
	}
	return reported
}

// Group returns the record of a group of a topic, or of a route of a channel.
func (reg *Registry) Group(a address.Address) (*Channel, *catalog.Group, error) {
	t, name, err := reg.SourceOf(a)
	if err != nil {
		return nil, nil, err
	}
	groups := reg.catalog.View().Groups[t.ID]
	if g := groups[name]; g != nil {
		return t, g, nil
	}
	// Another node, or another request, may have made it a moment ago.
	ctx, cancel := context.WithTimeout(context.Background(), time.Second)
	defer cancel()
	if reg.catalog.Refresh(ctx) == nil {
		groups = reg.catalog.View().Groups[t.ID]
		if g := groups[name]; g != nil {
			return t, g, nil
		}
	}
	var names []string
	for known := range groups {
		names = append(names, known)
	}
	p := problem.New(problem.NotFound, "%s has no group %s", t.Address(), name)
	if address.ReadsDead(name) {
		p = problem.New(problem.NotFound, "there is no route %s", a)
	}
	if near := address.Nearest(name, names); near != "" {
		return t, nil, p.Next("did you mean %s?", t.Address().Reader(near))
	}
	if address.ReadsDead(name) {
		return t, nil, p.Next("ferry new route %s -to ADDRESS makes it", a)
	}
	if _, err := reg.TopicWithGroups(a); err != nil {
		return nil, nil, err
	}
	return t, nil, p.Next("ferry new group %s@%s -from first makes it, and so does the first ferry read", t.Address(), a.Group)
}

// SourceOf returns what a reader reads, and its name there: a channel, or the queue with the
// dead letters of another reader.
func (reg *Registry) SourceOf(a address.Address) (*Channel, string, error) {
	source, name := a.Source()
	t, err := reg.Named(a, source.String())
	if err != nil && source.Group != "" {
		if _, _, of := reg.Group(source); of == nil {
			err = problem.New(problem.NotFound, "%s has had no dead letters yet", source)
		}
	}
	if err == nil && address.ReadsDead(name) && !t.IsQueue() {
		err = problem.New(problem.Invalid, "%s is a topic: what its readers reject is in the dead letters of each", t.Address()).Field("address").Next("ferry show %s shows its readers; of one, %s reads the dead letters", t.Address(), t.Address().Reader("READER/"+name))
	}
	return t, name, err
}

// TopicWithGroups returns the topic of a group. A queue has none.
func (reg *Registry) TopicWithGroups(a address.Address) (*Channel, error) {
	t, err := reg.Channel(a)
	if err == nil && t.IsQueue() {
		return nil, problem.New(problem.Invalid, "%s is a queue: its messages are leased, and groups read topics", t.Address()).Field("address").Next("ferry lease %s takes messages; for several groups that each get all of them, make a topic", t.Address())
	}
	return t, err
}

// GroupAddress returns the address of a group.
func GroupAddress(t *Channel, name string) address.Address { return t.Address().Reader(name) }

// ByName returns the member with the name, or nil.
func (reg *Registry) ByName(name string) *catalog.Node {
	for _, r := range reg.catalog.View().Nodes {
		if r.Name == name && (r.State == catalog.NodeMember || r.State == catalog.NodeDraining) {
			return r
		}
	}
	return nil
}

// PartitionAddress returns the address of a partition by the id of its channel.
func (reg *Registry) PartitionAddress(channel int64, partition int) string {
	t := reg.ByID(channel)
	if t == nil {
		return fmt.Sprintf("a partition of a removed channel (%d#%d)", channel, partition)
	}
	a := t.Address()
	a.Partition = partition
	return a.String()
}

// NodeNames returns the names of nodes.
func (reg *Registry) NodeNames(ids []uint64) []string {
	out := make([]string, len(ids))
	for i, id := range ids {
		out[i] = reg.NodeName(id)
	}
	return out
}

// ID returns the id of this node.
func (reg *Registry) ID() uint64 { return reg.id }

// PartitionByID returns a partition by the id of its channel, or nil.
func (reg *Registry) PartitionByID(channel int64, partition int) *Partition {
	return reg.At(replica.Key{Channel: channel, Partition: partition})
}

// Starting returns a partition that only this node holds and that is not
// ready yet, or nothing.
func (reg *Registry) Starting() string {
	for _, t := range reg.Channels() {
		for _, p := range t.Partitions() {
			if g := p.Replica(); g != nil && p.Alone() && errors.Is(g.Refusal(), replica.ErrNotLeading) {
				return p.Address()
			}
		}
	}
	return ""
}

// Refusing returns the partitions that are this node's to lead and take nothing,
// by their states, and how many it leads in all.
func (reg *Registry) Refusing() (refusing map[string][]string, leads int) {
	refusing = map[string][]string{}
	for _, t := range reg.Channels() {
		for _, p := range t.Partitions() {
			g := p.Replica()
			if g == nil || !g.Membership().Leading && !p.Alone() {
				continue
			}
			leads++
			if s := p.here(g, time.Now()); s.State != StateReady {
				refusing[s.State] = append(refusing[s.State], p.Address())
			} else if reg.DiskIsFull() {
				refusing[StateDiskFull] = append(refusing[StateDiskFull], p.Address())
			}
		}
	}
	return refusing, leads
}

// LeaderURL returns the API of the node that leads a partition, or nothing
// when that is this node, or not known.
func (reg *Registry) LeaderURL(p *Partition) string {
	if p.Alone() {
		return ""
	}
	if leader := reg.LeaderOf(p); leader != reg.id {
		if r := reg.catalog.View().Nodes[leader]; r != nil {
			return r.API
		}
	}
	return ""
}

// Leads reports whether this node leads a partition.
func (reg *Registry) Leads(p *Partition) bool {
	g := p.Replica()
	return g != nil && (p.Alone() || reg.LeaderOf(p) == reg.id)
}
