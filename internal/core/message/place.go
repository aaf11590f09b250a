package message

import (
	"cmp"
	"fmt"
	"strconv"
	"strings"

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

// String writes the place as numbers with dots between them.
func (p Place) String() string {
	b := strconv.AppendUint(make([]byte, 0, 32), p.Epoch, 10)
	b = strconv.AppendUint(append(b, '.'), p.Cut, 10)
	return string(strconv.AppendInt(append(b, '.'), p.Offset, 10))
}

// ParsePlace reads what String writes.
func ParsePlace(text string) (p Place, err error) {
	parts := strings.Split(text, ".")
	if len(parts) != 3 {
		return p, fmt.Errorf("place %q: three numbers with dots between them are expected", text)
	}
	for i, to := range []any{&p.Epoch, &p.Cut, &p.Offset} {
		switch to := to.(type) {
		case *uint64:
			*to, err = strconv.ParseUint(parts[i], 10, 64)
		case *int64:
			*to, err = strconv.ParseInt(parts[i], 10, 64)
		}
		if err != nil {
			return Place{}, fmt.Errorf("place %q: %q is no number", text, parts[i])
		}
	}
	return p, nil
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

	// Of a batch whose messages are as the source has them: the address of the route, and
	// the routes that they came through with it. The messages do not tell themselves then.
	Address string
	Hops    int
}
