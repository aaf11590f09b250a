package queue

import (
	"cmp"
	"slices"

	"github.com/google/uuid"
)

// Letter is what a route that reads the dead letters is to copy of one: what it was when
// it became a dead letter. What happens to the message afterwards changes nothing of it.
type Letter struct {
	Offset   int64
	At       int64 // when it became one, microseconds
	Attempts int
	Reason   string
	Detail   Ref
	From     string // where a group had read it
	Home     uint64 // record with its content, as of an Info
	Edited   uint64
	Content  Ref // where its content was written again, if it was
}

// copying is the letters that a route has not sent yet, by their numbers: those of a
// route count on without gaps, and stand for offsets in its places.
type copying struct {
	first   int64
	letters []Letter
}

func (c *copying) next() int64 { return c.first + int64(len(c.letters)) }

// Copy has a route read what becomes a dead letter from now on; with all, what is one
// already too.
func (q *Queue) Copy(route uuid.UUID, all bool) {
	if q.copied[route] != nil {
		return
	}
	c := &copying{}
	q.copied[route] = c
	if !all {
		return
	}
	var dead []*item
	for it := range q.items.all() {
		if it.state == Dead {
			dead = append(dead, it)
		}
	}
	slices.SortFunc(dead, func(a, b *item) int { return cmp.Or(cmp.Compare(a.due, b.due), cmp.Compare(a.offset, b.offset)) })
	for _, it := range dead {
		c.letters = append(c.letters, q.letter(it))
	}
}

// letter is an item as it became a dead letter.
func (q *Queue) letter(it *item) Letter {
	s := q.stories[it.offset]
	return Letter{Offset: it.offset, At: it.due, Attempts: int(it.attempts), Reason: reasonOf(s.history), Detail: lastDetail(s.history), From: s.from, Home: s.home, Edited: s.edited}
}

// copy gives a new dead letter to the routes that read them.
func (q *Queue) copy(it *item) {
	for _, c := range q.copied {
		c.letters = append(c.letters, q.letter(it))
	}
}

// Letters returns what a route is to copy, by numbers from one to another one.
func (q *Queue) Letters(route uuid.UUID, from, to int64) []Letter {
	c := q.copied[route]
	if c == nil {
		return nil
	}
	if from, to = max(from, c.first), min(to, c.next()); from >= to {
		return nil
	}
	return slices.Clone(c.letters[from-c.first : to-c.first])
}

func (c *copying) sent(number int64) {
	if n := min(number, c.next()) - c.first; n > 0 {
		c.first, c.letters = c.first+n, c.letters[n:]
	}
}

// carryLetter notes where the bytes of a letter are from now on.
func (q *Queue) carryLetter(index uint64, carried *Carried) bool {
	c := q.copied[carried.Route]
	if c == nil || carried.Number < c.first || carried.Number >= c.next() {
		return false
	}
	l := &c.letters[carried.Number-c.first]
	l.Content = Ref{Index: index, At: carried.contentAt, Size: uint32(len(carried.Content))}
	if l.Detail.Index > 0 && len(carried.Details) > 0 {
		l.Detail = Ref{Index: index, At: carried.detailsAt[0], Size: uint32(len(carried.Details[0]))}
	}
	return true
}

// oldestRecord is the first record with bytes of the letter, 0 when these are in the
// batch in which it came.
func (l *Letter) oldestRecord() (index uint64, inBatch bool) {
	switch {
	case l.Content.Index > 0:
		index = l.Content.Index
	case l.Edited > 0:
		index = l.Edited
	default:
		index, inBatch = l.Home, l.Home == 0
	}
	if d := l.Detail.Index; d > 0 && (index == 0 || d < index) {
		index = d
	}
	return index, inBatch
}

// LetterID names a letter that a route is to copy.
type LetterID struct {
	Route  uuid.UUID
	Number int64
}

// Owed is what a route has not sent yet of what is its.
type Owed struct {
	Count int64 `json:"count"`
	Next  int64 `json:"next"`  // how many it ever was given
	Since int64 `json:"since"` // of the first one: when the route took it, or it became a dead letter
}

// Owed returns what each route has not sent yet.
func (q *Queue) Owed() map[uuid.UUID]Owed {
	if len(q.taken)+len(q.copied) == 0 {
		return nil
	}
	all := map[uuid.UUID]Owed{}
	for route, t := range q.taken {
		o := Owed{Count: int64(len(t.offsets)), Next: t.next()}
		if o.Count > 0 {
			if it := q.items.get(t.offsets[0]); it != nil {
				o.Since = it.due
			}
		}
		all[route] = o
	}
	for route, c := range q.copied {
		o := Owed{Count: int64(len(c.letters)), Next: c.next()}
		if o.Count > 0 {
			o.Since = c.letters[0].At
		}
		all[route] = o
	}
	return all
}
