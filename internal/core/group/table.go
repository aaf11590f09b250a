// Package group is the computation of consumer groups: who reads which
// partition, how far behind a group is, what that will come to, and what it
// means to move its offsets. It knows no clock, network or records.
package group

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"
)

// Limits of a group.
const (
	MaxMembers     = 1000
	MinTimeout     = time.Second
	MaxTimeout     = 10 * time.Minute
	DefaultTimeout = 15 * time.Second
)

// Why a member is refused.
var (
	ErrNoMember = errors.New("the group has no such member: it left, or was removed when it did not answer in its timeout")
	ErrNotHeld  = errors.New("the member does not hold the partition")
	ErrOldRound = errors.New("the partition was given anew, or its offset was moved, after that round")
	ErrTooMany  = errors.New("the group has as many members as it may have")
)

// A Table says who holds which partition of a group. A partition goes from one
// member to another in these steps:
//
//	held by A ──balance──▶ held by A, for B ──A gives it up, or its time is up──▶ held by B
//	                            └──balance finds that it may stay──▶ held by A
//
// so that it never has two holders, and B begins only when A has committed
// what it will commit. Every change of who holds what is a round.
type Table struct {
	Round    uint64            `json:"round"`
	Seeks    uint64            `json:"seeks"` // how often offsets were moved by hand
	Members  map[string]Member `json:"members"`
	Holdings []Holding         `json:"holdings"` // by partition
}

// Member is one reader of a group.
type Member struct {
	Label   string        `json:"label,omitempty"` // what it calls itself
	Timeout time.Duration `json:"timeout"`         // it is removed after so long without a word
	Joined  time.Time     `json:"joined"`
}

// Holding is who has a partition.
type Holding struct {
	Member string    `json:"member,omitempty"` // "" for nobody
	Since  uint64    `json:"since,omitempty"`  // round in which the member got it, or its offset was moved
	For    string    `json:"for,omitempty"`    // the member it goes to next
	Until  time.Time `json:"until,omitzero"`   // when it is taken from Member, if it has not given it up by then
}

// NewTable returns the table of a group without members.
func NewTable(partitions int) *Table {
	return &Table{Members: map[string]Member{}, Holdings: make([]Holding, partitions)}
}

// Clone returns a copy that shares nothing.
func (t *Table) Clone() *Table {
	return &Table{Round: t.Round, Seeks: t.Seeks, Members: maps.Clone(t.Members), Holdings: slices.Clone(t.Holdings)}
}

// Grow makes room for partitions that were added to the topic.
func (t *Table) Grow(partitions int) {
	for len(t.Holdings) < partitions {
		t.Holdings = append(t.Holdings, Holding{})
	}
}

// Join adds a member.
func (t *Table) Join(id string, m Member) error {
	if _, ok := t.Members[id]; !ok && len(t.Members) >= MaxMembers {
		return fmt.Errorf("%w: %d", ErrTooMany, MaxMembers)
	}
	t.Members[id] = m
	return nil
}

// Leave removes a member and frees what it held.
func (t *Table) Leave(id string) {
	delete(t.Members, id)
	for p := range t.Holdings {
		if t.Holdings[p].Member == id {
			t.Holdings[p] = Holding{}
		}
	}
}

// GiveUp frees the partitions that a member shall give up and, by its own
// word, no longer holds.
func (t *Table) GiveUp(id string, holds []int) {
	for p, h := range t.Holdings {
		if h.Member == id && h.For != "" && !slices.Contains(holds, p) {
			t.Holdings[p] = Holding{For: h.For}
		}
	}
}

// HasOverdue reports whether a holder has not given a partition up in time.
func (t *Table) HasOverdue(now time.Time) bool {
	return slices.ContainsFunc(t.Holdings, func(h Holding) bool { return h.overdue(now) })
}

func (h *Holding) overdue(now time.Time) bool {
	return h.For != "" && h.Member != "" && !now.Before(h.Until)
}

// Overdue frees the partitions whose holders have not given them up in time.
func (t *Table) Overdue(now time.Time) {
	for p, h := range t.Holdings {
		if h.overdue(now) {
			t.Holdings[p] = Holding{For: h.For}
		}
	}
}

// Balance gives free partitions to members, and marks those that are to go to
// another one. It reports whether anything changed, which makes a round.
func (t *Table) Balance(now time.Time) bool {
	holders := make([]string, len(t.Holdings))
	for p, h := range t.Holdings {
		if holders[p] = h.Member; h.Member == "" {
			holders[p] = h.For
		}
	}
	targets := Assign(holders, slices.Sorted(maps.Keys(t.Members)))
	next := t.Round + 1
	changed := false
	for p, to := range targets {
		h := &t.Holdings[p]
		was := *h
		switch {
		case h.Member == "" && to != "":
			*h = Holding{Member: to, Since: next}
		case h.Member == to || to == "":
			h.For, h.Until = "", time.Time{}
		case h.For == "":
			h.For, h.Until = to, now.Add(t.Members[h.Member].Timeout)
		default:
			h.For = to
		}
		changed = changed || *h != was
	}
	if changed {
		t.Round = next
	}
	return changed
}

// Sought notes that the offsets of partitions were moved: what their holders
// commit of before is refused from now on.
func (t *Table) Sought(partitions []int) {
	t.Round++
	t.Seeks++
	for _, p := range partitions {
		if t.Holdings[p].Member != "" {
			t.Holdings[p].Since = t.Round
		}
	}
}

// Check says whether a member may commit to a partition, with the round
// that it knows.
func (t *Table) Check(id string, round uint64, partition int) error {
	if _, ok := t.Members[id]; !ok {
		return ErrNoMember
	}
	if partition < 0 || partition >= len(t.Holdings) || t.Holdings[partition].Member != id {
		return ErrNotHeld
	}
	if since := t.Holdings[partition].Since; round < since || round > t.Round {
		return fmt.Errorf("%w: it has round %d, the partition is of %d and the group at %d", ErrOldRound, round, since, t.Round)
	}
	return nil
}

// Share returns what a member holds and what of it it shall give up.
func (t *Table) Share(id string) (holds, leaving []int) {
	for p, h := range t.Holdings {
		switch {
		case h.Member != id:
		case h.For != "":
			leaving = append(leaving, p)
		default:
			holds = append(holds, p)
		}
	}
	return holds, leaving
}
