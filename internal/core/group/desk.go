package group

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"steadyferry/internal/core/form"
)

// Why the node that coordinates a group refuses, beside what its table says.
var (
	ErrOver    = errors.New("another node coordinates the group now")
	ErrSeeking = errors.New("the group's offsets are being moved")
)

// BelowError is returned for a commit below what the group has committed.
type BelowError struct {
	Partition int
	Committed int64
	Offset    int64
}

func (e *BelowError) Error() string {
	return fmt.Sprintf("the group has committed offset %d of partition %d, and %d is below it", e.Committed, e.Partition, e.Offset)
}

// Desk is what the node that coordinates a group knows and decides: whose
// members are alive, who may commit what, what a member that asks for its next was handed,
// and what goes on while offsets are moved by hand. It is a state machine
// without a clock, records or network, for one user at a time: whoever carries
// its decisions out records a new table first and then has the desk show it,
// and records a commit between BeginCommit and EndCommit.
type Desk struct {
	table     *Table // as it is recorded
	committed map[int]int64
	heard     map[string]time.Time // of each member: its last word
	touched   map[string]uint64    // round in which a member's share changed last
	told      map[string][]int     // what a member that asks for its next was told to give up
	sent      map[int]int64        // offset after what was handed out to the holder that asks
	seeking   bool                 // offsets are being moved by hand
	inFlight  int                  // commits on their way into the records
	over      bool                 // another node coordinates the group now
	unsure    bool                 // a seek may or may not be in the records
}

// NewDesk takes a group over as it is recorded. The timeouts of its members
// begin anew.
func NewDesk(table *Table, committed map[int]int64, now time.Time) *Desk {
	d := &Desk{table: table, committed: committed, heard: map[string]time.Time{}, touched: map[string]uint64{}, told: map[string][]int{}, sent: map[int]int64{}}
	for id := range table.Members {
		d.heard[id] = now
	}
	return d
}

// End says that another node coordinates the group now.
func (d *Desk) End() { d.over = true }

// Doubt says that a seek may or may not be in the records. Members go on reading
// with what is known, but nothing is changed or committed here any more: it
// would be made from offsets and a table that may be older than the seek.
func (d *Desk) Doubt() { d.unsure = true }

// InDoubt reports whether the records must be read anew.
func (d *Desk) InDoubt() bool { return d.unsure }

// Over returns ErrOver when whoever would change or commit something must take
// the group over anew, here or elsewhere.
func (d *Desk) Over() error {
	if d.over || d.unsure {
		return ErrOver
	}
	return nil
}

// Members returns how many members there are.
func (d *Desk) Members() int { return len(d.table.Members) }

// Committed returns a copy of what the group has committed, by partition.
func (d *Desk) Committed() map[int]int64 { return maps.Clone(d.committed) }

// Next returns a copy of the table, with room for so many partitions, to be
// changed, balanced, recorded and shown.
func (d *Desk) Next(partitions int) *Table {
	next := d.table.Clone()
	next.Grow(partitions)
	return next
}

// Show makes a table that is recorded the one in force. It begins the timeouts
// of members that are new and forgets those that are gone.
func (d *Desk) Show(next *Table, now time.Time) {
	for p, h := range next.Holdings {
		old := Holding{}
		if p < len(d.table.Holdings) {
			old = d.table.Holdings[p]
		}
		if h == old {
			continue
		}
		for _, id := range []string{h.Member, old.Member} {
			d.touched[id] = next.Round
		}
		if h.Member != old.Member || h.Since != old.Since {
			delete(d.sent, p)
		}
	}
	for id := range next.Members {
		if _, ok := d.heard[id]; !ok {
			d.heard[id] = now
			d.touched[id] = next.Round
		}
	}
	for id := range d.heard {
		if _, ok := next.Members[id]; !ok {
			delete(d.heard, id)
			delete(d.touched, id)
			delete(d.told, id)
		}
	}
	d.table = next
}

// Hear notes that a member is there.
func (d *Desk) Hear(id string, now time.Time) error {
	if _, ok := d.table.Members[id]; !ok {
		return ErrNoMember
	}
	d.heard[id] = now
	return nil
}

// Forgive adds a time in which nobody could be heard to all timeouts.
func (d *Desk) Forgive(pause time.Duration) {
	for id, at := range d.heard {
		d.heard[id] = at.Add(pause)
	}
}

// Silent returns the members that have said nothing in their timeout.
func (d *Desk) Silent(now time.Time) (ids []string) {
	for id, m := range d.table.Members {
		if now.Sub(d.heard[id]) > m.Timeout {
			ids = append(ids, id)
		}
	}
	return ids
}

// Due reports whether the table must change without anybody asking: a member
// fell silent, one did not give up in time, or the topic has grown.
func (d *Desk) Due(now time.Time, partitions int) bool {
	return len(d.Silent(now)) > 0 || d.table.HasOverdue(now) || len(d.table.Members) > 0 && partitions > len(d.table.Holdings)
}

// Standing is what a member has in its group.
type Standing struct {
	Round   uint64
	Touched uint64 // round that changed its share last
	Timeout time.Duration
	Holds   []form.Held // to read
	Leaving []int       // to commit and give up
}

// Standing returns what a member has, or why it has nothing: ErrOver,
// ErrNoMember.
func (d *Desk) Standing(id string) (*Standing, error) {
	m, ok := d.table.Members[id]
	switch {
	case d.over:
		return nil, ErrOver
	case !ok:
		return nil, ErrNoMember
	}
	s := &Standing{Round: d.table.Round, Touched: d.touched[id], Timeout: m.Timeout, Holds: []form.Held{}, Leaving: []int{}}
	for p, h := range d.table.Holdings {
		switch {
		case h.Member != id:
		case h.For != "":
			s.Leaving = append(s.Leaving, p)
		default:
			s.Holds = append(s.Holds, form.Held{Partition: p, Offset: d.committed[p], Round: h.Since})
		}
	}
	return s, nil
}

// GivesUp reports whether a member that still holds these has let go of
// something that it shall give up.
func (d *Desk) GivesUp(id string, holds []int) bool {
	_, leaving := d.table.Share(id)
	return slices.ContainsFunc(leaving, func(p int) bool { return !slices.Contains(holds, p) })
}

// Keeps returns what a member that asks for its next again still holds: what it shall give
// up it keeps while it has messages of it in hand, until it has been told.
func (d *Desk) Keeps(id string) []int {
	told := d.told[id]
	delete(d.told, id)
	holds, leaving := d.table.Share(id)
	for _, p := range leaving {
		if sent, ok := d.sent[p]; ok && sent > d.committed[p] && !slices.Contains(told, p) {
			holds = append(holds, p)
		}
	}
	return holds
}

// Told notes that a member gets an answer that tells it what to give up.
func (d *Desk) Told(id string, leaving []int, now time.Time) {
	if _, ok := d.table.Members[id]; ok {
		d.told[id], d.heard[id] = leaving, now
	}
}

// Sent notes that a member is handed what lies before an offset of a partition
// that it holds since a round, if it still does.
func (d *Desk) Sent(id string, partition int, since uint64, next int64) {
	if h := d.table.Holdings[partition]; h.Member == id && h.Since == since {
		d.sent[partition] = next
	}
}

// Has returns what a member can commit that has come so far: of what it still
// holds, at the same place.
func (d *Desk) Has(id string, upTo UpTo) (round uint64, offsets []form.OffsetOf) {
	for p, h := range d.table.Holdings {
		if has := upTo.From(p, h.Since, 0); h.Member == id && has > d.committed[p] {
			offsets = append(offsets, form.OffsetOf{Partition: p, Offset: has})
		}
	}
	return d.table.Round, offsets
}

// BeginCommit lets a member commit offsets, with the round that it knows;
// EndCommit must follow. It returns ErrOver, ErrSeeking, a BelowError, or what the
// table has against it, and in which partition.
func (d *Desk) BeginCommit(id string, round uint64, offsets []form.OffsetOf) (partition int, err error) {
	if err := d.Over(); err != nil {
		return -1, err
	}
	for _, o := range offsets {
		if err := d.table.Check(id, round, o.Partition); err != nil {
			return o.Partition, err
		}
		if have := d.committed[o.Partition]; o.Offset < have {
			return o.Partition, &BelowError{o.Partition, have, o.Offset}
		}
		if d.seeking {
			return o.Partition, ErrSeeking
		}
	}
	d.inFlight++
	return -1, nil
}

// EndCommit says whether offsets are in the records by now.
func (d *Desk) EndCommit(offsets []form.OffsetOf, recorded bool) {
	d.inFlight--
	for _, o := range offsets {
		if recorded {
			d.committed[o.Partition] = max(d.committed[o.Partition], o.Offset)
		}
	}
}

// BeginSeek has commits refused from now on, until EndSeek. It returns ErrOver, or
// ErrSeeking when offsets are being moved already.
func (d *Desk) BeginSeek() error {
	if d.seeking {
		return ErrSeeking
	}
	if err := d.Over(); err != nil {
		return err
	}
	d.seeking = true
	return nil
}

// Settled reports whether no commit is on its way into the records: none may
// come behind a seek.
func (d *Desk) Settled() bool { return d.inFlight == 0 }

// Sought notes that offsets were moved; the table in which Table.Sought has noted
// it is shown next.
func (d *Desk) Sought(offsets map[int]int64) {
	for p, o := range offsets {
		d.committed[p] = o
		delete(d.sent, p)
	}
}

// EndSeek ends a seek.
func (d *Desk) EndSeek() { d.seeking = false }
