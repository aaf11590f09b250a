package rate

import "time"

// WindowSpan is the time over which a Window takes its rate.
const WindowSpan = 15 * time.Second

// Window is the rate at which a number grew lately, such as an offset.
type Window struct {
	at     [int(WindowSpan/time.Second) + 1]int64 // seconds since 1970
	values [int(WindowSpan/time.Second) + 1]int64
	count  int // samples there are
	last   int // the newest one
}

// Sample notes the number at a time; call it about once a second. A number
// that became less begins anew.
func (w *Window) Sample(now time.Time, value int64) {
	if w.count > 0 && value < w.values[w.last] {
		w.count = 0
	}
	if w.count > 0 {
		if w.at[w.last] == now.Unix() {
			w.values[w.last] = value
			return
		}
		w.last = (w.last + 1) % len(w.at)
	}
	w.at[w.last], w.values[w.last] = now.Unix(), value
	w.count = min(w.count+1, len(w.at))
}

// Reset forgets all samples.
func (w *Window) Reset() { w.count = 0 }

// PerSecond returns by how much the number grew in a second.
func (w *Window) PerSecond() float64 {
	if w.count < 2 {
		return 0
	}
	first := (w.last - w.count + 1 + len(w.at)) % len(w.at)
	return float64(w.values[w.last]-w.values[first]) / float64(w.at[w.last]-w.at[first])
}
