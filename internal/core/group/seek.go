package group

import "time"

// Step is how moving a group's offset changes one partition.
type Step struct {
	Partition int
	First     int64 // oldest kept offset
	End       int64
	From      int64 // committed now
	To        int64 // committed then
	Again     int64 // kept messages that are read again
	Skipped   int64 // kept messages that are not read
	Note      string
}

// Notes of a Step whose target was not what was asked for.
const (
	NoteBefore = "retention has passed it: the oldest kept message instead"
	NoteBehind = "behind the end: the end instead"
	NoteEarly  = "before all messages: the oldest kept one instead"
	NoteFuture = "in the future: the end instead"
)

// SeekTo returns the step from the committed offset to another one, which is
// brought into what the partition has.
func SeekTo(partition int, first, end, committed, to int64) Step {
	s := Step{Partition: partition, First: first, End: end, From: committed, To: min(max(to, first), end)}
	switch {
	case to < first:
		s.Note = NoteBefore
	case to > end:
		s.Note = NoteBehind
	}
	from := max(committed, first)
	s.Again, s.Skipped = max(from-s.To, 0), max(s.To-from, 0)
	return s
}

// AtTime notes what a time came to: before all kept messages, or after now.
func (s Step) AtTime(at, oldest, now time.Time) Step {
	switch {
	case at.After(now):
		s.Note = NoteFuture
	case s.End > s.First && at.Before(oldest):
		s.Note = NoteEarly
	}
	return s
}
