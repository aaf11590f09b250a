package queue

import (
	"time"

	"github.com/google/uuid"
)

// MaxDelay is how far ahead a message may be put off.
const MaxDelay = 365 * 24 * time.Hour

// Summary is where the messages of a queue, or of one partition of it, are.
type Summary struct {
	Counts
	Oldest  *time.Time `json:"oldest"` // when the oldest waiting message was stored
	Members []Member   `json:"members"`
	Asking  int64      `json:"asking"` // lease calls that wait

	Owed map[uuid.UUID]Owed `json:"owed,omitempty"` // by route
}

// Member is a member of a queue: what it holds, and when it was last heard of.
type Member struct {
	Holding
	Seen int64 // microseconds since 1970
}

// add adds what the member holds of another partition.
func (m *Member) add(o Member) {
	m.Seen = max(m.Seen, o.Seen)
	if o.Leased == 0 {
		return
	}
	if m.Leased == 0 {
		m.Oldest, m.Due = o.Oldest, o.Due
	}
	m.Leased += o.Leased
	m.Oldest, m.Due = min(m.Oldest, o.Oldest), min(m.Due, o.Due)
}

// Sum adds up the partitions of a queue; nil is one that nothing is known of.
func Sum(partitions []*Summary) *Summary {
	sum := &Summary{Members: []Member{}}
	by := map[string]int{}
	for _, p := range partitions {
		if p == nil {
			continue
		}
		sum.Counts.Add(p.Counts)
		sum.Asking += p.Asking
		if p.Oldest != nil && (sum.Oldest == nil || p.Oldest.Before(*sum.Oldest)) {
			sum.Oldest = p.Oldest
		}
		for _, one := range p.Members {
			if i, known := by[one.Member]; known {
				sum.Members[i].add(one)
				continue
			}
			by[one.Member] = len(sum.Members)
			sum.Members = append(sum.Members, one)
		}
	}
	return sum
}
