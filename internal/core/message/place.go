package message

import (
	"cmp"

	"github.com/google/uuid"
)

// Place is how far a route is on a partition of its source: what lies before it
// was decided. Places are compared field by field, in this order.
type Place struct {
	Epoch  uint64 `json:"epoch"` // how often the source partition was recovered by force
	Cut    uint64 `json:"cut"`   // number of the cut of the route's plan, from 1
	Offset int64  `json:"offset"`
}

// Compare returns -1, 0 or 1 when p is before, at or behind q.
func (p Place) Compare(q Place) int {
	return cmp.Or(cmp.Compare(p.Epoch, q.Epoch), cmp.Compare(p.Cut, q.Cut), cmp.Compare(p.Offset, q.Offset))
}

// Before reports whether p is before q.
func (p Place) Before(q Place) bool { return p.Compare(q) < 0 }

// Route is what a batch that a route sends tells of itself: it holds what the
// target gets of a source partition between two places.
type Route struct {
	ID        uuid.UUID // of the route
	Partition uint32    // of the source
	After     Place     // up to which the target must have the messages
	UpTo      Place     // up to which it has them with this batch
	Recovered uint64    // how often the target partition was recovered by force, as the sender knows
}
