package queue

import (
	"cmp"
	"slices"
	"sort"
)

// Info is what is known of one message.
type Info struct {
	Offset   int64
	State    State // 0: done
	Was      State // of what is discarded
	Due      int64 // leased: deadline; delayed: when it waits again; dead, discarded: since when
	Expires  int64
	Serial   uint64
	Attempts int
	Member   string // that holds it
	Began    int64
	Cause    uint64
	Pattern  string
	Reason   string // why it is dead
	From     string // where a group read it
	Home     uint64 // record with its content; 0: the batch in which it came
	Edited   uint64 // record with its edited content
	History  []Event
}

// Settings returns the settings that hold now.
func (q *Queue) Settings() Settings { return q.settings }

// Configured reports whether the log has settings.
func (q *Queue) Configured() bool { return q.settings.Lease > 0 }

// Counts returns how many messages are in each state.
func (q *Queue) Counts() Counts { return q.counts }

// End returns the offset after the last message.
func (q *Queue) End() int64 { return q.end }

// Now returns the time of the last step, microseconds since 1970.
func (q *Queue) Now() int64 { return q.now }

// Ready returns how many messages wait, or 0 when none of them can be leased
// now because others of their keys are under way.
func (q *Queue) Ready() int64 {
	if q.starved {
		return 0
	}
	return q.counts.Waiting
}

// OldestWaiting returns the lowest offset that waits, -1 without one.
func (q *Queue) OldestWaiting() int64 {
	oldest := int64(-1)
	if at := max(q.oldest, q.head); at < q.end {
		oldest = at
	}
	for _, p := range q.ready {
		if it := q.items.get(p.offset); it != nil && it.state == Waiting && (oldest < 0 || p.offset < oldest) {
			oldest = p.offset
		}
	}
	return oldest
}

// NextDue returns when time will change something, 0 if it will not.
func (q *Queue) NextDue() (at int64) {
	earlier := func(t int64) {
		if at == 0 || t < at {
			at = t
		}
	}
	if len(q.leases) > 0 {
		earlier(q.leases[0].it.due)
	}
	if len(q.delays) > 0 {
		earlier(q.delays[0].at)
	}
	if len(q.expiries) > 0 {
		earlier(q.expiries[0].at)
	}
	if q.settings.Expire > 0 && q.head < q.end && len(q.stored) > 0 {
		earlier(q.stored[0].at + q.settings.Expire + 1e6)
	}
	if len(q.deads) > 0 && q.settings.RetainDead > 0 {
		earlier(q.deads[0].at + q.settings.RetainDead)
	}
	if len(q.discards) > 0 {
		earlier(q.discards[0].at + q.settings.RetainDiscarded)
	}
	return at
}

// Look returns what is known of a message; ok is false when it was never
// published here.
func (q *Queue) Look(offset int64) (i Info, ok bool) {
	if offset < 0 || offset >= q.end {
		return i, false
	}
	it := q.items.get(offset)
	if it != nil {
		return q.info(it), true
	}
	i.Offset = offset
	if _, gone := q.gone[offset]; offset >= q.head && !gone {
		i.State, i.Expires = Waiting, q.expires[offset]
		if s := q.past[offset]; s != nil {
			i.History, i.Home = slices.Clone(s.history), s.home
		}
		return i, true
	}
	for n := len(q.finished) - 1; n >= 0; n-- {
		if f := &q.finished[(q.turn+n)%len(q.finished)]; f.Offset == offset {
			i.Home, i.Edited, i.History = f.Home, f.Edited, slices.Clone(f.History)
			break
		}
	}
	return i, true
}

func (q *Queue) info(it *item) Info {
	i := Info{Offset: it.offset, State: it.state, Due: it.due, Expires: q.expiry(it), Attempts: int(it.attempts)}
	switch it.state {
	case Waiting:
		i.Due = 0
	case Leased:
		run := q.leases.run(it)
		i.Serial, i.Member, i.Began = it.serial, run.member, run.began
	case Discarded:
		i.Was = it.was
	}
	if s := q.storyOf(it); s != nil {
		i.Home, i.Edited, i.From, i.History = s.home, s.edited, s.from, slices.Clone(s.history)
		if it.state == Dead || it.state == Discarded && it.was == Dead {
			i.Cause, i.Pattern, i.Reason = s.cause, s.pattern, reasonOf(s.history)
		}
	}
	return i
}

// Filter chooses messages by what the queue knows of them.
type Filter struct {
	States []State
	Cause  uint64 // 0: any
	Since  int64  // dead letters from this time on alone, 0: any; microseconds
	Before int64  // and up to this one
}

// Offsets returns up to limit offsets of messages that fit, in their order,
// beginning with from.
func (q *Queue) Offsets(f Filter, from int64, limit int) []int64 {
	wanted := f.set()
	var found []int64
	for it := range q.items.all() {
		if it.offset >= from && q.fits(&f, &wanted, it) {
			found = append(found, it.offset)
		}
	}
	slices.Sort(found)
	found = found[:min(len(found), limit)]
	if wanted[Waiting] && f.Cause == 0 {
		var fresh []int64
		for o := max(from, q.head); o < q.end && len(fresh) < limit; o++ {
			if _, gone := q.gone[o]; !gone && q.items.get(o) == nil {
				fresh = append(fresh, o)
			}
		}
		found = append(found, fresh...)
		slices.Sort(found)
		found = found[:min(len(found), limit)]
	}
	return found
}

// Cause is the dead letters that failed in the same way.
type Cause struct {
	ID      uint64
	Reason  string
	Pattern string // of the detail
	Count   int64
	First   int64 // when the first and the last became dead letters, microseconds
	Last    int64
	Sample  int64   // offset of the last one
	Bars    []int64 // how many in each of equal times from the first one on, see Causes
}

// Causes groups the dead letters, the largest group first. Each has its
// numbers over time: since to now in bars.
func (q *Queue) Causes(since, now int64, bars int) []Cause {
	all := make(map[uint64]*Cause, len(q.causes))
	for id, c := range q.causes {
		all[id] = &Cause{ID: id, Reason: c.reason, Pattern: c.pattern, Count: c.count, Bars: make([]int64, bars)}
	}
	width := max((now-since)/int64(max(bars, 1)), 1)
	for it := range q.items.all() {
		if it.state != Dead {
			continue
		}
		c := all[q.stories[it.offset].cause]
		if c.First == 0 || it.due < c.First {
			c.First = it.due
		}
		if here := (place{it.due, it.offset}); c.Last == 0 || (place{c.Last, c.Sample}).before(here) {
			c.Last, c.Sample = it.due, it.offset
		}
		if n := (it.due - since) / width; it.due >= since && bars > 0 {
			c.Bars[min(n, int64(bars-1))]++
		}
	}
	list := make([]Cause, 0, len(all))
	for _, c := range all {
		list = append(list, *c)
	}
	slices.SortFunc(list, func(a, b Cause) int {
		return cmp.Or(cmp.Compare(b.Count, a.Count), cmp.Compare(a.ID, b.ID))
	})
	return list
}

// Holding is what one member holds.
type Holding struct {
	Member string
	Leased int
	Oldest int64 // when its oldest lease began
	Due    int64 // when its next lease runs out
}

// Holdings returns the members that hold leases, by name.
func (q *Queue) Holdings() []Holding {
	by := map[string]*Holding{}
	for _, held := range q.leases {
		it, run := held.it, held.run
		h := by[run.member]
		if h == nil {
			h = &Holding{Member: run.member, Oldest: run.began, Due: it.due}
			by[run.member] = h
		}
		h.Leased++
		h.Oldest, h.Due = min(h.Oldest, run.began), min(h.Due, it.due)
	}
	list := make([]Holding, 0, len(by))
	for _, h := range by {
		list = append(list, *h)
	}
	slices.SortFunc(list, func(a, b Holding) int { return cmp.Compare(a.Member, b.Member) })
	return list
}

// Kept is what a stretch of the log is still needed for, as far as it is told.
type Kept struct {
	Offsets []int64 // messages that are not simply waiting, whose bytes lie in it
	Letters []LetterID
	Waiting bool // the head has not passed it
}

// KeptIn tells, for each segment, which messages need its bytes. starts are the
// offsets and bases the record indexes at which the segments begin, oldest
// first. Of each segment up to most offsets are told.
func (q *Queue) KeptIn(starts []int64, bases []uint64, most int) ([]Kept, []int) {
	kept, counts := make([]Kept, len(starts)), make([]int, len(starts))
	needs := func(segment int) (*Kept, bool) {
		if segment < 0 {
			return nil, false
		}
		counts[segment]++
		k := &kept[segment]
		return k, len(k.Offsets)+len(k.Letters) < most
	}
	byOffset := func(o int64) int {
		return sort.Search(len(starts), func(i int) bool { return starts[i] > o }) - 1
	}
	byIndex := func(x uint64) int {
		return sort.Search(len(bases), func(i int) bool { return bases[i] > x }) - 1
	}
	for it := range q.items.all() {
		s := q.storyOf(it)
		first := byOffset(it.offset)
		if s != nil {
			if s.home > 0 {
				first = byIndex(s.home)
			}
			if s.edited > 0 {
				first = min(first, byIndex(s.edited))
			}
			for _, e := range s.history {
				if e.Detail.Index > 0 {
					first = min(first, byIndex(e.Detail.Index))
				}
			}
		}
		if k, room := needs(first); room {
			k.Offsets = append(k.Offsets, it.offset)
		}
	}
	for route, c := range q.copied {
		for i := range c.letters {
			index, inBatch := c.letters[i].oldestRecord()
			first := len(bases)
			if inBatch {
				first = byOffset(c.letters[i].Offset)
			}
			if index > 0 {
				first = min(first, byIndex(index))
			}
			if k, room := needs(first); room {
				k.Letters = append(k.Letters, LetterID{route, c.first + int64(i)})
			}
		}
	}
	if q.head < q.end {
		for i := max(byOffset(q.head), 0); i < len(kept); i++ {
			kept[i].Waiting = true
		}
	}
	return kept, counts
}

// OffsetsBefore is Offsets from an offset downward, the highest first.
func (q *Queue) OffsetsBefore(f Filter, from int64, limit int) []int64 {
	var found []int64
	wanted := f.set()
	for it := range q.items.all() {
		if it.offset <= from && q.fits(&f, &wanted, it) {
			found = append(found, it.offset)
		}
	}
	if wanted[Waiting] && f.Cause == 0 {
		fresh := 0
		for o := min(from, q.end-1); o >= q.head && fresh < limit; o-- {
			if _, gone := q.gone[o]; !gone && q.items.get(o) == nil {
				found = append(found, o)
				fresh++
			}
		}
	}
	slices.Sort(found)
	slices.Reverse(found)
	return found[:min(len(found), limit)]
}

func (f *Filter) set() (wanted [states]bool) {
	for _, s := range f.States {
		wanted[s] = true
	}
	return wanted
}

func (q *Queue) fits(f *Filter, wanted *[states]bool, it *item) bool {
	if f.Since > 0 && it.due < f.Since || f.Before > 0 && it.due > f.Before {
		return false
	}
	if !wanted[it.state] || f.Cause == 0 {
		return wanted[it.state]
	}
	return (it.state == Dead || it.was == Dead) && it.told && q.stories[it.offset].cause == f.Cause
}

// FailedAgain counts the dead letters since a time that had come back for the
// reason.
func (q *Queue) FailedAgain(since int64, reason string) (n int64) {
	for it := range q.items.all() {
		if it.state != Dead || it.due < since {
			continue
		}
		for _, e := range slices.Backward(q.stories[it.offset].history) {
			if e.Kind == Returned {
				if e.Reason == reason {
					n++
				}
				break
			}
		}
	}
	return n
}

// Origin returns the dead letter that was made of what a group has read at an
// address.
func (q *Queue) Origin(address string) (offset int64, known bool) {
	offset, known = q.origins[address]
	return offset, known
}
