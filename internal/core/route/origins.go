package route

import (
	"errors"
	"fmt"
	"maps"

	"github.com/google/uuid"

	"steadyferry/internal/core/message"
)

// Source is a partition that a route reads, or a lane from one to a place outside.
type Source struct {
	Route     uuid.UUID `json:"route"`
	Partition uint32    `json:"partition"` // of a lane, with its number in the upper half
}

// Lane is the source under which a lane from a partition has dead letters; lanes have
// numbers from 1, and are fewer than 1<<16, as partitions are.
func Lane(route uuid.UUID, partition, number int) Source {
	return Source{Route: route, Partition: uint32(number)<<16 | uint32(partition)}
}

// Origins are the places up to which a target partition has the messages of
// routes.
type Origins struct {
	at    map[Source]Place
	ended map[uuid.UUID]int64
}

// NewOrigins returns the state of an empty log.
func NewOrigins() *Origins {
	return &Origins{at: map[Source]Place{}, ended: map[uuid.UUID]int64{}}
}

// NotBehind is returned for a batch that does not belong directly behind what the
// target has.
type NotBehind struct {
	Origin    Place  `json:"origin"`    // up to which it has the messages
	Recovered uint64 `json:"recovered"` // how often it was recovered by force
}

func (e *NotBehind) Error() string {
	return fmt.Sprintf("the target has what lies before offset %d of cut %d, and the batch begins elsewhere", e.Origin.Offset, e.Origin.Cut)
}

// ErrEnded is returned for a batch of a route that has ended.
var ErrEnded = errors.New("the route has ended")

// Of returns the place up to which the messages of a source are there.
func (o *Origins) Of(s Source) Place { return o.at[s] }

// Len returns how many sources are remembered.
func (o *Origins) Len() int { return len(o.at) }

// Note takes on a batch that was appended.
func (o *Origins) Note(r *message.Route) {
	if _, ended := o.ended[r.ID]; !ended {
		o.at[Source{r.ID, r.Partition}] = r.UpTo
	}
}

// End forgets a route for good, at a time.
func (o *Origins) End(route uuid.UUID, at int64) {
	maps.DeleteFunc(o.at, func(s Source, _ Place) bool { return s.Route == route })
	o.ended[route] = at
	maps.DeleteFunc(o.ended, func(_ uuid.UUID, since int64) bool { return since < at-tombstoneTime })
}

// Ahead is what a leader knows beyond what is applied: what it has proposed.
type Ahead struct {
	applied *Origins
	over    map[Source]Place
	ended   map[uuid.UUID]bool
}

// Ahead returns the state for a leader that has proposed nothing yet.
func (o *Origins) Ahead() *Ahead {
	return &Ahead{applied: o, over: map[Source]Place{}, ended: map[uuid.UUID]bool{}}
}

// Check says why a batch is not taken by a partition that was recovered so often:
// *NotBehind or ErrEnded.
func (a *Ahead) Check(r *message.Route, recovered uint64) error {
	if _, ended := a.applied.ended[r.ID]; ended || a.ended[r.ID] {
		return ErrEnded
	}
	origin := a.place(Source{r.ID, r.Partition})
	// One that was recovered may have lost what the sender thinks it has, although
	// its place is the same.
	if origin != r.After || recovered != r.Recovered {
		return &NotBehind{Origin: origin, Recovered: recovered}
	}
	return nil
}

// Place is what the partition tells of a source.
func (a *Ahead) Place(s Source, recovered uint64) NotBehind {
	return NotBehind{Origin: a.place(s), Recovered: recovered}
}

func (a *Ahead) place(s Source) Place {
	if p, proposed := a.over[s]; proposed {
		return p
	}
	return a.applied.at[s]
}

// Propose takes on a batch that is proposed.
func (a *Ahead) Propose(r *message.Route) { a.over[Source{r.ID, r.Partition}] = r.UpTo }

// ProposeEnd takes on that the end of a route is proposed.
func (a *Ahead) ProposeEnd(route uuid.UUID) { a.ended[route] = true }

// Applied lets go of what is applied by now.
func (a *Ahead) Applied(r *message.Route) {
	if s := (Source{r.ID, r.Partition}); a.over[s] == r.UpTo {
		delete(a.over, s)
	}
}
