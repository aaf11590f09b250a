package group

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
)

// UpTo says how far a member has been handed messages: of each partition the
// offset after the last one, and since when the member holds it. An answer
// carries it, and the member names that of the last answer it has: what an
// answer held that was lost on its way is handed out again, and never
// committed.
type UpTo map[int]Reached

// Reached is how far a member has come in a partition that it holds since a
// round.
type Reached struct {
	Since  uint64
	Offset int64
}

// String prints it as ParseUpTo reads it: PARTITION@SINCE:OFFSET, ...
func (u UpTo) String() string {
	var b strings.Builder
	for i, p := range slices.Sorted(maps.Keys(u)) {
		if i > 0 {
			b.WriteByte(',')
		}
		fmt.Fprintf(&b, "%d@%d:%d", p, u[p].Since, u[p].Offset)
	}
	return b.String()
}

// ParseUpTo reads what String printed; nothing is the place before all.
func ParseUpTo(text string) (UpTo, error) {
	u := UpTo{}
	if text == "" {
		return u, nil
	}
	for part := range strings.SplitSeq(text, ",") {
		where, offset, ok := strings.Cut(part, ":")
		partition, since, both := strings.Cut(where, "@")
		p, e1 := strconv.ParseUint(partition, 10, 31)
		g, e2 := strconv.ParseUint(since, 10, 64)
		o, e3 := strconv.ParseUint(offset, 10, 63)
		if !ok || !both || e1 != nil || e2 != nil || e3 != nil {
			return nil, fmt.Errorf("%q is not the upTo of an answer", text)
		}
		u[int(p)] = Reached{g, int64(o)}
	}
	return u, nil
}

// From returns the offset from which on a member gets messages of a partition
// that it holds since a round with a committed offset.
func (u UpTo) From(partition int, since uint64, committed int64) int64 {
	if r, ok := u[partition]; ok && r.Since == since {
		return max(r.Offset, committed)
	}
	return committed
}
