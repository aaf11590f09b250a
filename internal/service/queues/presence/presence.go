// Package presence remembers who works on a queue, whether they hold something at the moment or
// not. It may be used at once by many.
package presence

import (
	"cmp"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"steadyferry/internal/core/queue"
)

// Presence remembers which members of a queue's partition have asked for
// messages or settled some of late, so that a member that holds nothing at a
// moment is still seen. It is what this node has seen, while it leads.
type Presence struct {
	seen sync.Map // name to *atomic.Int64, microseconds since 1970
}

// For is for how long a member is listed after it was last heard of: a
// call waits for 30 s at most.
const For = time.Minute

// Note remembers that a member was heard of now.
func (p *Presence) Note(member string) {
	now := time.Now().UnixMicro()
	if at, known := p.seen.Load(member); known {
		at.(*atomic.Int64).Store(now)
		return
	}
	at := &atomic.Int64{}
	at.Store(now)
	p.seen.Store(member, at)
}

// maxMembers is how many members a status names, those that hold most first.
const maxMembers = 200

// Members joins those that hold messages with those that were heard of.
func (p *Presence) Members(holdings []queue.Holding) []queue.Member {
	oldest := time.Now().Add(-For).UnixMicro()
	by := map[string]int64{}
	p.seen.Range(func(name, at any) bool {
		if last := at.(*atomic.Int64).Load(); last >= oldest {
			by[name.(string)] = last
		} else {
			p.seen.Delete(name)
		}
		return true
	})
	var all []queue.Member
	for _, h := range holdings {
		all = append(all, queue.Member{Holding: h, Seen: by[h.Member]})
		delete(by, h.Member)
	}
	for name, last := range by {
		all = append(all, queue.Member{Holding: queue.Holding{Member: name}, Seen: last})
	}
	slices.SortFunc(all, func(a, b queue.Member) int {
		return cmp.Or(cmp.Compare(b.Leased, a.Leased), cmp.Compare(a.Member, b.Member))
	})
	all = all[:min(len(all), maxMembers)]
	slices.SortFunc(all, func(a, b queue.Member) int { return cmp.Compare(a.Member, b.Member) })
	return all
}
