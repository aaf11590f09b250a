package route

import "steadyferry/internal/core/message"

// work has a worker do one thing.
func (w *world) work(by *worker) {
	plan, gone := w.planOf(w.wish.route)
	if gone || w.wish.gone {
		return
	}
	terms := Terms{Version: w.wish.version, Text: w.wish.text, Partitions: len(w.targets) - 1}
	if plan == nil {
		w.propose(by, Step{Op: Make, Route: w.wish.route, Offset: w.wish.made, Terms: terms, Targets: w.recoveries()})
		return
	}
	if by.route != w.wish.route {
		by.walk, by.route = NewWalk(), w.wish.route
		clear(by.gather)
		clear(by.calls)
	}
	if w.plans.MustRecover(w.epoch) && w.without != epochs {
		w.apply(&Command{Epoch: w.epoch})
	}
	switch last := plan.Last().Terms; {
	case last.Version < terms.Version, last.Version == terms.Version && last.Partitions < len(w.targets)-1:
		w.propose(by, Step{Op: Recut, Route: plan.Route, Seq: plan.Seq, Terms: terms, Targets: w.recoveries()})
	case last.Version > w.wish.version && w.rnd.IntN(8) == 0: // the records are older than the plan
		w.wish.version, w.wish.text = last.Version, last.Text
	}
	switch w.rnd.IntN(6) {
	case 0:
		if w.without != planBeforeEnd || by.walk.Plan() == nil {
			by.walk.Look(plan, w.end)
			by.log, by.offsets, by.epoch = w.log, w.offsets, w.epoch
		}
		for n := range by.walk.targets {
			if w.without != recoveries {
				by.walk.Recovered(n, w.targets[n].recovered)
			}
		}
	case 1, 2:
		w.ask(by)
		w.decide(by)
	case 3, 4:
		w.flush(by)
	case 5:
		if by.walk.Plan() == nil {
			return
		}
		if s, ok := by.walk.Progress(); ok {
			w.propose(by, s)
		}
	}
}

func (w *world) ask(by *worker) {
	walk := by.walk
	for _, n := range walk.Unknown() {
		route := by.route
		if len(by.calls) > 12 {
			return
		}
		w.send(by, func() {}, func() func() {
			t := w.targets[n]
			origin, recovered := t.origins.Of(Source{Route: route}), t.recovered
			if w.without == recoveries {
				recovered = 0
			}
			return func() {
				if by.walk == walk {
					walk.Told(n, origin, recovered)
				}
			}
		})
	}
}

func (w *world) decide(by *worker) {
	walk := by.walk
	if walk.Plan() == nil {
		return
	}
	by.fresh()
	if w.without == planBeforeEnd {
		walk.end, by.log, by.offsets = w.end, w.log, w.offsets
	}
	cut, from, to, ok := walk.Next()
	if !ok {
		return
	}
	to = min(to, from+1+w.rnd.Int64N(4))
	for offset := from; offset < to; offset++ {
		m := by.log[by.offsets[offset]]
		if n := decide(cut.Terms, m.key); n >= 0 {
			if upTo := cut.At(offset + 1); walk.Wants(n, upTo) {
				walk.Add(n, cut.At(offset), upTo)
				by.gather[n] = append(by.gather[n], delivery{by.route, upTo, m.id})
			}
		}
	}
	walk.Passed(to)
}

// fresh throws away what was gathered before the walk began anew.
func (by *worker) fresh() {
	if n := by.walk.Starts(); n != by.starts {
		by.starts = n
		clear(by.gather)
	}
}

func (w *world) flush(by *worker) {
	walk := by.walk
	if walk.Plan() == nil || walk.Restarts() {
		return
	}
	by.fresh()
	for n := range walk.targets {
		batch := by.gather[n]
		if len(batch) == 0 || w.rnd.IntN(3) == 0 || len(by.calls) > 12 {
			continue
		}
		delete(by.gather, n)
		after, upTo, recovered := walk.Flush(n)
		r := &message.Route{ID: by.route, After: after, UpTo: upTo, Recovered: recovered}
		w.send(by, func() {
			if by.walk == walk {
				walk.Unsure(n, upTo)
			}
		}, func() func() {
			err := w.append(n, r, batch)
			return func() {
				if by.walk != walk {
					return
				}
				switch e := err.(type) {
				case nil:
					walk.Taken(n, upTo)
				case *NotBehind:
					walk.Refused(n, upTo, e)
				}
			}
		})
	}
}
