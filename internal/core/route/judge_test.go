package route

import (
	"fmt"
	"slices"
	"strings"

	"github.com/google/uuid"

	"steadyferry/internal/core/message"
)

// run lets the world go on for so many steps, and then come to rest.
func (w *world) run(steps int) error {
	for range steps {
		w.happen()
		if w.rnd.IntN(4) == 0 && w.ids < 60 {
			w.publish()
		}
		by := w.workers[w.rnd.IntN(len(w.workers))]
		w.work(by)
		if w.events.faults && w.rnd.IntN(30) == 0 {
			w.giveUp(by)
		}
		w.network()
	}
	w.events = events{}
	for range 20_000 {
		by := w.workers[0]
		w.work(by)
		for len(w.calls) > 0 {
			w.network()
		}
		if len(by.calls) > 0 {
			w.giveUp(by)
		}
		if w.rests(by) {
			return w.judge()
		}
	}
	return fmt.Errorf("it does not come to rest: %+v, plan %+v", w.workers[0].walk, w.workers[0].walk.plan)
}

func (w *world) rests(by *worker) bool {
	plan, _ := w.plans.Of(w.wish.route)
	if plan == nil || by.walk.Plan() != plan || by.walk.end != w.end || by.walk.Restarts() || len(by.calls) > 0 {
		return false
	}
	if last := plan.Last().Terms; last.Version != w.wish.version || last.Partitions < len(w.targets)-1 {
		return false
	}
	for n, t := range by.walk.targets {
		if t.recovered != w.targets[n].recovered && w.without != recoveries {
			return false
		}
	}
	by.fresh()
	_, _, _, unread := by.walk.Next()
	_, more := by.walk.Progress()
	return !more && !unread && len(by.gather) == 0 && plan.Left(w.end) == 0
}

// judge compares what the targets have with what the log of the source says.
func (w *world) judge() error {
	must := w.must()
	for n, t := range w.targets {
		last, got := map[uuid.UUID]Place{}, map[delivery]bool{}
		for i, d := range t.log {
			if at, ended := t.ends[d.route]; ended && i >= at {
				return fmt.Errorf("target %d got %v behind the end of the route", n, d)
			}
			if !last[d.route].Before(d.place) {
				return fmt.Errorf("target %d has %v behind %v", n, d, last[d.route])
			}
			last[d.route], got[d] = d.place, true
			if !w.may(n, d) {
				return fmt.Errorf("target %d has %v, which it should not have", n, d)
			}
		}
		for _, d := range must[n] {
			if !got[d] {
				return fmt.Errorf("target %d lacks %v", n, d)
			}
		}
	}
	for _, route := range w.routes[:len(w.routes)-1] {
		if p, _ := w.plans.Of(route); p != nil {
			return fmt.Errorf("a route that has ended has a plan again: %+v", p)
		}
	}
	if p, _ := w.plans.Of(w.wish.route); w.wanted != "" && p.Last().Terms.Text != w.wanted {
		return fmt.Errorf("what was wished last, %s, is not what is done: %s", w.wanted, p.Last().Terms.Text)
	}
	return w.counted()
}

// may reports whether a target may have a message: whether a cut that there ever
// was has decided so.
func (w *world) may(n int, d delivery) bool {
	terms, known := w.cuts[cutKey{d.route, d.place.Epoch, d.place.Cut}]
	return known && slices.ContainsFunc(w.posted[int(d.place.Offset-1)], func(r record) bool { return r.id == d.id && decide(terms, r.key) == n })
}

// must are the messages that each target must have of the route that is there.
func (w *world) must() map[int][]delivery {
	type span struct{ from, to int64 }
	spans, terms := map[Place]*span{}, map[Place]Terms{}
	passed := map[delivery]bool{} // left out by a seek
	plans, end := NewPlans(), int64(0)
	for _, r := range w.log {
		if r.command == nil {
			end++
			continue
		}
		before, _ := plans.Of(w.wish.route)
		plans.Apply(message.Stamp{Offset: end, Time: 1}, r.command, nil)
		after, _ := plans.Of(w.wish.route)
		if after == nil {
			continue
		}
		for i := range after.Cuts {
			c := &after.Cuts[i]
			spans[c.At(0)], terms[c.At(0)] = &span{c.From, c.To}, c.Terms
		}
		isSeek := slices.ContainsFunc(r.command.Steps, func(s Step) bool { return s.Op == Seek })
		if before != nil && isSeek && after.Floor.Cut == after.settle(before.Floor).Cut || before != nil && isSeek && len(after.Cuts) == len(before.Cuts) {
			for i := range after.Cuts {
				c := &after.Cuts[i]
				for o := c.From; o < end && (c.To == Open || o < c.To); o++ {
					if at := c.At(o); !at.Before(before.Floor) && at.Before(after.Floor) {
						passed[delivery{place: c.At(o + 1)}] = true
					}
				}
			}
		}
	}
	must := map[int][]delivery{}
	for cut, s := range spans {
		for o := s.from; o < end && (s.to == Open || o < s.to); o++ {
			m := w.log[w.offsets[o]]
			place := Place{Epoch: cut.Epoch, Cut: cut.Cut, Offset: o + 1}
			if n := decide(terms[cut], m.key); n >= 0 && !passed[delivery{place: place}] {
				must[n] = append(must[n], delivery{w.wish.route, place, m.id})
			}
		}
	}
	return must
}

// counted says which message is in the targets more than once, when no seek has
// sent any again.
func (w *world) counted() error {
	if slices.ContainsFunc(w.log, func(r record) bool {
		return r.command != nil && slices.ContainsFunc(r.command.Steps, func(s Step) bool { return s.Op == Seek })
	}) {
		return nil
	}
	seen := map[delivery]bool{}
	for _, t := range w.targets {
		for _, d := range t.log {
			once := delivery{route: d.route, id: d.id}
			if seen[once] {
				return fmt.Errorf("message %d was sent twice by one route", d.id)
			}
			seen[once] = true
		}
	}
	return nil
}

func (w *world) story() string { return strings.Join(w.said, "\n") }
