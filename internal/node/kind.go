package node

import (
	"context"

	"steadyferry/internal/core/queue"
	"steadyferry/internal/core/topic"
	"steadyferry/internal/engine/replica"
)

// Kind is what channels of one kind do otherwise than a topic; what is nil is
// as with topics.
type Kind struct {
	// Machine derives from a partition's log what the kind needs, beside what
	// base does.
	Machine func(base *machine) replica.Machine
	// Retention is what is kept, whatever the channel's record says.
	Retention *topic.Retention
	// Tidy lets go of segments that are not needed, instead of retention.
	Tidy func(ctx context.Context, p *Partition, g *replica.Group)
	// Summary tells where the messages of a partition are that this node holds.
	Summary func(p *Partition, g *replica.Group) *queue.Summary
}

// plain is the kind of topics.
var plain = &Kind{}

// Machine returns what the kind of the channel derives from the partition's
// log, or nil when this node does not hold it.
func (p *Partition) Machine() replica.Machine {
	if m := p.machine.Load(); m != nil {
		return *m
	}
	return nil
}

// Replica returns the replica that this node holds, or nil.
func (p *Partition) Replica() *replica.Group { return p.group.Load() }
