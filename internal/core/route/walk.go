package route

import "slices"

// Dead is the number of the target that takes what cannot be sent; the partitions
// of the channel that the route leads to have the numbers behind it.
const Dead = 0

// Number is that of a partition of the channel that the route leads to.
func Number(partition int) int { return partition + 1 }

// Walk is what a worker knows of a route on one partition of its source: how far it
// has decided, and what each partition of the target has. The worker reads the
// stretch that Next tells, decides each message, and has Wants say whether it is
// still to be sent; it gathers those with Add, sends them as Flush says, and tells
// what came of it with Taken, Refused or Unsure. It is for one goroutine at a time.
type Walk struct {
	// KeepLanes has Progress record up to where each target has its messages, since
	// they keep no place themselves: lanes to a place outside.
	KeepLanes bool

	plan    *Plan
	end     int64
	at      Place // before it everything is decided; the zero place before it has begun
	lost    int64 // messages that retention took before they were decided
	again   bool  // it begins anew when nothing is under way any more
	starts  int
	targets []target
}

// target is a partition of the target, as a walk knows it.
type target struct {
	known     bool
	recovered uint64 // how often it was, when it was asked
	taken     Place  // up to which it has the messages
	sent      Place  // up to which they are sent
	from      Place  // nothing up to here is sent, whether it has it or not
	flights   []flight
	open      flight // gathered, not sent yet
}

// flight is a batch that is under way.
type flight struct {
	first Place // before its first message
	upTo  Place
	some  bool
	// How often the target was recovered, as it was sent.
	recovered uint64
}

// NewWalk returns a walk that knows nothing yet.
func NewWalk() *Walk { return &Walk{} }

// Look takes on a plan and the end of the log, which were seen together: nothing is
// decided by a plan behind what was applied when it was seen.
func (w *Walk) Look(p *Plan, end int64) {
	if w.plan == nil || w.plan.Seq != p.Seq {
		w.again = true
	}
	w.plan, w.end = p, end
	most := 0
	for i := range p.Cuts {
		if c := &p.Cuts[i]; c.To == Open || p.Floor.Before(c.At(c.To)) {
			most = max(most, Number(c.Terms.Partitions))
		}
	}
	for len(w.targets) < most {
		w.targets = append(w.targets, target{})
		w.again = true
	}
	w.restart()
}

// Plan returns the plan that was looked at last.
func (w *Walk) Plan() *Plan { return w.plan }

// Unknown returns the targets that must be asked before the walk
// goes on.
func (w *Walk) Unknown() (numbers []int) {
	for i := range w.targets {
		if !w.targets[i].known {
			numbers = append(numbers, i)
		}
	}
	return numbers
}

// Told takes on what a target has, and how often it was recovered by force.
func (w *Walk) Told(number int, origin Place, recovered uint64) {
	t := &w.targets[number]
	if recovered < t.recovered {
		return // an answer from before
	}
	t.known, t.taken, t.recovered = true, origin, recovered
	w.again = true
	w.restart()
}

// Recovered has a target asked anew when it was recovered more often than when it
// was asked.
func (w *Walk) Recovered(number int, times uint64) {
	if t := &w.targets[number]; t.known && t.recovered != times {
		t.known = false
		w.again = true
	}
}

// UnderWay reports whether answers are still to come.
func (w *Walk) UnderWay() bool {
	return slices.ContainsFunc(w.targets, func(t target) bool { return len(t.flights) > 0 })
}

// Restarts reports whether the walk waits for what is under way, to begin anew.
func (w *Walk) Restarts() bool { return w.again }

// Starts counts how often the walk has begun: when it does, what was gathered
// before is thrown away.
func (w *Walk) Starts() int { return w.starts }

// restart begins anew where the first target needs something.
func (w *Walk) restart() {
	if !w.again || w.UnderWay() || w.plan == nil || len(w.Unknown()) > 0 {
		return
	}
	w.again, w.lost = false, 0
	w.starts++
	w.at = w.plan.settle(w.plan.Floor)
	for i := range w.targets {
		t := &w.targets[i]
		t.sent, t.open = t.taken, flight{}
		if t.from = t.taken; t.from.Before(w.plan.Floor) && t.recovered == w.plan.recoveredOf(i) {
			t.from = w.plan.Floor
		}
		if at := w.plan.settle(t.from); at.Before(w.at) {
			w.at = at
		}
	}
}

// Next returns the stretch to decide next: of a cut, from an offset up to another
// one. There is none while the walk restarts, or at the end.
func (w *Walk) Next() (cut *Cut, from, to int64, ok bool) {
	if w.again || w.at == (Place{}) {
		return nil, 0, 0, false
	}
	w.at = w.plan.settle(w.at)
	cut = w.plan.cutOf(w.at)
	if to = cut.To; to == Open {
		to = w.end
	}
	return cut, w.at.Offset, to, w.at.Offset < to
}

// Wants reports whether a target still needs what lies up to a place.
func (w *Walk) Wants(number int, upTo Place) bool {
	t := &w.targets[number]
	reached := t.sent
	if t.open.some {
		reached = t.open.upTo
	}
	return reached.Before(upTo) && t.from.Before(upTo)
}

// Add gathers messages for a target, from a place up to another one.
func (w *Walk) Add(number int, first, upTo Place) {
	t := &w.targets[number]
	if !t.open.some {
		t.open = flight{first: first, some: true}
	}
	t.open.upTo = upTo
}

// Flush sends what was gathered for a target: it belongs behind one place, and
// leads up to the other, of a target that was recovered so often.
func (w *Walk) Flush(number int) (after, upTo Place, recovered uint64) {
	t := &w.targets[number]
	after, upTo = t.sent, t.open.upTo
	t.open.recovered = t.recovered
	t.flights = append(t.flights, t.open)
	t.sent, t.open = upTo, flight{}
	return after, upTo, t.recovered
}

// Passed tells that all up to an offset of the cut is decided.
func (w *Walk) Passed(offset int64) {
	if !w.again {
		w.at.Offset = max(w.at.Offset, offset)
	}
}

// Gap tells that retention took what lies before an offset of the cut.
func (w *Walk) Gap(to int64) {
	if first := max(w.at.Offset, w.plan.Floor.Offset); !w.at.Before(w.plan.Floor) && to > first {
		w.lost += to - first
	}
	w.Passed(to)
}

// Taken takes on that a target has a batch.
func (w *Walk) Taken(number int, upTo Place) {
	t := &w.targets[number]
	// What one had before it was recovered it may have lost.
	if f := t.land(upTo); f.recovered == t.recovered && t.taken.Before(upTo) {
		t.taken = upTo
	}
	w.restart()
}

// Reached takes on that a target has what lies before a place of a batch that is under
// way.
func (w *Walk) Reached(number int, upTo, place Place) {
	t := &w.targets[number]
	i := slices.IndexFunc(t.flights, func(f flight) bool { return f.upTo == upTo })
	if i >= 0 && t.flights[i].first.Before(place) && t.flights[i].recovered == t.recovered {
		t.flights[i].first = place
		if t.taken.Before(place) {
			t.taken = place
		}
	}
}

// Refused takes on that a batch up to a place was not taken, and why.
func (w *Walk) Refused(number int, upTo Place, why *NotBehind) {
	t := &w.targets[number]
	t.land(upTo)
	if why.Recovered >= t.recovered {
		t.taken, t.recovered = why.Origin, why.Recovered
	}
	w.again = true
	w.restart()
}

// Returned takes on that what is left of a batch was not sent, and comes anew.
func (w *Walk) Returned(number int, upTo Place) {
	w.targets[number].land(upTo)
	w.again = true
	w.restart()
}

// Unsure takes on that it is not known whether a batch was taken.
func (w *Walk) Unsure(number int, upTo Place) {
	t := &w.targets[number]
	t.land(upTo)
	t.known = false
	w.again = true
}

func (t *target) land(upTo Place) (f flight) {
	if i := slices.IndexFunc(t.flights, func(f flight) bool { return f.upTo == upTo }); i >= 0 {
		f = t.flights[i]
		t.flights = slices.Delete(t.flights, i, i+1)
	}
	return f
}

// Floor returns the place before which everything is in the targets; without true that is
// not known.
func (w *Walk) Floor() (floor Place, known bool) {
	if w.again || w.at == (Place{}) {
		return floor, false
	}
	floor = w.at
	for i := range w.targets {
		t := &w.targets[i]
		first := &t.open
		if len(t.flights) > 0 {
			first = &t.flights[0]
		}
		if first.some && first.first.Before(floor) {
			floor = first.first
		}
	}
	return floor, true
}

// Progress returns the step that records how far the walk has come. There is none when
// that is known.
func (w *Walk) Progress() (s Step, ok bool) {
	floor, known := w.Floor()
	if !known || floor.Before(w.plan.Floor) {
		return s, false
	}
	recovered := make([]uint64, len(w.targets))
	for i := range w.targets {
		recovered[i] = w.targets[i].recovered
	}
	lanes := w.lanes()
	if floor == w.plan.Floor && slices.Equal(recovered, w.plan.Targets) && (lanes == nil || slices.Equal(lanes, w.plan.Lanes)) {
		return s, false
	}
	return Step{Op: Floor, Route: w.plan.Route, Seq: w.plan.Seq, Floor: floor, Lost: w.plan.Lost + w.lost, Targets: recovered, Lanes: lanes}, true
}

// lanes returns the places to be recorded, of the targets behind the dead letters.
func (w *Walk) lanes() (places []Place) {
	if !w.KeepLanes {
		return nil
	}
	for i := Number(0); i < len(w.targets); i++ {
		places = append(places, w.targets[i].taken)
	}
	return places
}

// Targets is how many targets there are.
func (w *Walk) Targets() int { return len(w.targets) }

// Again has the walk begin anew, when a stretch was not decided to its end.
func (w *Walk) Again() {
	w.again = true
	w.restart()
}
