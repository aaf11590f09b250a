package topic

import (
	"time"
)

// MaxIDs is how many message ids a partition remembers within its window; the
// oldest are forgotten beyond it, window or not.
const MaxIDs = 1 << 20

// MaxIDWindow bounds the window in which repeats of an id are dropped.
const MaxIDWindow = time.Hour

// IDs remembers the ids of the messages of a window of time, to drop repeats.
type IDs struct {
	window int64 // microseconds
	byID   map[string]int64
	order  []idSeen // oldest first, from head on
	head   int
}

type idSeen struct {
	id   string
	time int64
}

// NewIDs returns an empty memory for the window.
func NewIDs(window time.Duration) *IDs {
	return &IDs{window: window.Microseconds(), byID: map[string]int64{}}
}

// Window returns the window of time.
func (w *IDs) Window() time.Duration { return time.Duration(w.window) * time.Microsecond }

// Offset returns the offset at which the id was stored in the window before
// now (microseconds), if it was.
func (w *IDs) Offset(id string, now int64) (int64, bool) {
	for w.head < len(w.order) && (w.order[w.head].time < now-w.window || len(w.order)-w.head > MaxIDs) {
		delete(w.byID, w.order[w.head].id)
		w.order[w.head] = idSeen{}
		w.head++
	}
	if w.head > len(w.order)/2 && w.head > 1024 {
		w.order = append([]idSeen(nil), w.order[w.head:]...)
		w.head = 0
	}
	offset, ok := w.byID[id]
	return offset, ok
}

// Note remembers an id that Offset did not know, stored at the offset at a
// time (microseconds).
func (w *IDs) Note(id string, offset, time int64) {
	w.byID[id] = offset
	w.order = append(w.order, idSeen{id, time})
}

// Len returns how many ids are remembered.
func (w *IDs) Len() int { return len(w.byID) }
