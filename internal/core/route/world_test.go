package route

import (
	"fmt"
	"hash/fnv"
	"math/rand/v2"
	"slices"

	"github.com/google/uuid"

	"steadyferry/internal/core/message"
)

// The world of the simulation: one source partition, a target whose partitions
// become more, workers with old news, and a network that loses, repeats, delays and
// reorders calls. The state machines are the real ones.

// events are what may happen in a world beside the work itself.
type events struct {
	grow, change, seek, recoverSource, recoverTarget, restore, remake, crash, faults bool
	workers                                                                          int
}

// removed is a part of the protocol that a world lacks.
type removed int

const (
	nothing         removed = iota
	directlyBehind          // targets take what is above
	tombstones              // nothing remembers that a route has ended
	sourceTombstone         // only targets remember it
	planBeforeEnd           // a worker reads on behind the end that it saw with the plan
	planInTheLog            // the plan comes from records, which are restored
	expectedSeq             // a step is taken whatever the plan is
	timedVersions           // versions of wishes are counted
	epochs                  // a recovery of the source begins no cut
	recoveries              // a walk does not look whether a target was recovered
	removals
)

type record struct {
	key     string // of a message
	id      int
	command *Command
}

type delivery struct {
	route uuid.UUID
	place Place
	id    int
}

type targetLog struct {
	log       []delivery
	ends      map[uuid.UUID]int // routes that have ended here, and how many messages there were then
	origins   *Origins
	recovered uint64
}

// wish is what the records say of the route.
type wish struct {
	route   uuid.UUID
	made    int64 // the offset where it begins
	version int64
	text    string
	gone    bool
}

type worker struct {
	walk   *Walk
	route  uuid.UUID
	gather map[int][]delivery
	starts int // of the walk, to which what is gathered belongs
	// The log of the replica that it reads; a recovered one is another.
	log     []record
	offsets []int
	epoch   uint64
	calls   map[int]func() // that it waits for: what it does when it waits no longer
}

type call struct {
	id     int // for the worker's list
	worker *worker
	there  func() (answer func())
}

type world struct {
	rnd     *rand.Rand
	events  events
	without removed
	now     int64

	log     []record
	offsets []int // of messages: their index in the log
	end     int64
	plans   *Plans
	epoch   uint64
	past    *Plans // as the records had them, without planInTheLog

	targets []*targetLog
	wish    wish
	old     []wish // what was wished before
	wanted  string // what a user wished last, unless older records were restored since
	workers []*worker
	calls   []call
	serial  int
	ids     int
	routes  []uuid.UUID // all that there were
	cuts    map[cutKey]Terms
	posted  map[int][]record // messages that there ever were, by offset
	said    []string
}

type cutKey struct {
	route  uuid.UUID
	epoch  uint64
	number uint64
}

func newWorld(seed uint64, e events, without removed) *world {
	w := &world{rnd: rand.New(rand.NewPCG(seed, 17)), events: e, without: without, plans: NewPlans(), past: NewPlans(), cuts: map[cutKey]Terms{}, posted: map[int][]record{}}
	for range 2 + w.rnd.IntN(2) {
		w.grow()
	}
	for range w.rnd.IntN(6) {
		w.publish()
	}
	w.make()
	for range max(e.workers, 1) {
		w.workers = append(w.workers, w.newWorker())
	}
	return w
}

func (w *world) newWorker() *worker {
	return &worker{walk: NewWalk(), gather: map[int][]delivery{}, calls: map[int]func(){}}
}

func (w *world) say(format string, args ...any) {
	w.said = append(w.said, fmt.Sprintf(format, args...))
}

func (w *world) grow() {
	w.targets = append(w.targets, &targetLog{origins: NewOrigins(), ends: map[uuid.UUID]int{}})
	w.say("the target has %d partitions", len(w.targets))
}

func (w *world) make() {
	var id uuid.UUID
	for i := range id {
		id[i] = byte(w.rnd.Uint32())
	}
	w.routes = append(w.routes, id)
	w.wanted = ""
	w.wish = wish{route: id, version: w.version(), text: fmt.Sprint(w.rnd.IntN(4)), made: AtEnd}
	if w.rnd.IntN(2) == 0 {
		w.wish.made = w.rnd.Int64N(w.end + 1)
	}
}

func (w *world) version() int64 {
	if w.without == timedVersions {
		return w.wish.version + 1
	}
	w.now++
	return w.now
}

// decide is the decision about a message: to which target it goes, or -1.
func decide(terms Terms, key string) int {
	h := fnv.New32a()
	fmt.Fprint(h, terms.Text, key)
	switch h.Sum32() % 8 {
	case 0, 1:
		return -1
	case 2:
		return Dead
	}
	if h.Reset(); terms.Text == "3" {
		fmt.Fprint(h, "edited ")
	}
	fmt.Fprint(h, key)
	return Number(int(h.Sum32() % uint32(terms.Partitions)))
}

func (w *world) publish() {
	if w.plans.MustRecover(w.epoch) && w.without != epochs {
		w.apply(&Command{Epoch: w.epoch})
	}
	w.ids++
	w.offsets = append(w.offsets, len(w.log))
	r := record{key: fmt.Sprint(w.rnd.IntN(12)), id: w.ids}
	w.log = append(w.log, r)
	w.posted[int(w.end)] = append(w.posted[int(w.end)], r)
	w.end++
}

func (w *world) apply(c *Command) []Outcome {
	w.now++
	c = &Command{Epoch: c.Epoch, Steps: slices.Clone(c.Steps)}
	if w.rnd.IntN(10) == 0 { // a restart: the state is read back
		plans, err := DecodePlans(w.plans.Encode())
		if err != nil {
			panic(err)
		}
		w.plans = plans
	}
	w.log = append(w.log, record{command: c})
	for i := range c.Steps {
		s := &c.Steps[i]
		if p, _ := w.plans.Of(s.Route); w.without == expectedSeq && p != nil && s.Op != Make {
			s.Seq = p.Seq
		}
	}
	if w.without == epochs {
		c.Epoch = w.plans.Epoch()
	}
	out := w.plans.Apply(message.Stamp{Offset: w.end, Time: w.now}, c, nil)
	if w.without == tombstones || w.without == sourceTombstone {
		clear(w.plans.ended)
	}
	for route, p := range w.plans.All() {
		for _, c := range p.Cuts {
			w.cuts[cutKey{route, c.Epoch, c.Number}] = c.Terms
		}
	}
	return out
}

// recoverSource loses the end of the source's log.
func (w *world) recoverSource() {
	keep := len(w.log) - w.rnd.IntN(min(len(w.log), 8)+1)
	for i := keep; i < len(w.log); i++ {
		// Known limit: where a route begins, or goes on after a seek, must survive.
		if c := w.log[i].command; c != nil && slices.ContainsFunc(c.Steps, func(s Step) bool { return s.Op == Make || s.Op == Seek || s.Op == End }) {
			keep = i + 1
		}
	}
	w.log = slices.Clone(w.log[:keep])
	w.epoch++
	w.plans, w.end, w.offsets = NewPlans(), 0, nil
	for i := range w.log {
		r := &w.log[i]
		if r.command != nil {
			w.now++
			w.plans.Apply(message.Stamp{Offset: w.end, Time: w.now}, r.command, nil)
			continue
		}
		w.offsets = append(w.offsets, i)
		w.end++
	}
	w.say("the source is recovered with %d messages, epoch %d", w.end, w.epoch)
}

func (w *world) recoverTarget() {
	n := w.rnd.IntN(len(w.targets))
	t := w.targets[n]
	t.log = t.log[:len(t.log)-w.rnd.IntN(min(len(t.log), 6)+1)]
	t.recovered++
	t.origins = NewOrigins()
	for _, d := range t.log {
		t.origins.Note(&message.Route{ID: d.route, UpTo: d.place})
	}
	for id, at := range t.ends {
		t.ends[id] = min(at, len(t.log))
		t.origins.End(id, w.now)
	}
	w.say("target %d is recovered with %d messages", n, len(t.log))
}

// append is what a target does with a batch.
func (w *world) append(n int, r *message.Route, batch []delivery) error {
	t := w.targets[n]
	ahead := t.origins.Ahead()
	err := ahead.Check(r, t.recovered)
	if w.without == recoveries {
		err = ahead.Check(r, r.Recovered)
	}
	if w.without == directlyBehind && err != ErrEnded {
		if err = nil; !t.origins.Of(Source{Route: r.ID}).Before(r.UpTo) {
			err = &NotBehind{Origin: t.origins.Of(Source{Route: r.ID}), Recovered: t.recovered}
		}
		batch = slices.DeleteFunc(slices.Clone(batch), func(d delivery) bool { return !t.origins.Of(Source{Route: r.ID}).Before(d.place) })
	}
	if err != nil {
		return err
	}
	t.log = append(t.log, batch...)
	t.origins.Note(r)
	return nil
}

// send has a call be on its way; the worker may stop waiting for it at any time.
func (w *world) send(by *worker, unsure func(), there func() func()) {
	w.serial++
	by.calls[w.serial] = unsure
	w.calls = append(w.calls, call{w.serial, by, there})
}

// network delivers one call, or loses or repeats it.
func (w *world) network() {
	if len(w.calls) == 0 {
		return
	}
	i := 0
	if w.events.faults {
		i = w.rnd.IntN(len(w.calls))
	}
	c := w.calls[i]
	fate := w.rnd.IntN(12)
	if !w.events.faults {
		fate = 12
	}
	if fate != 0 { // else it stays, to come again
		w.calls = slices.Delete(w.calls, i, i+1)
	}
	answer := func() {}
	if fate != 1 {
		answer = c.there()
	}
	unsure, waits := c.worker.calls[c.id]
	if !waits {
		return
	}
	delete(c.worker.calls, c.id)
	if fate == 1 || fate == 2 {
		unsure()
		return
	}
	answer()
}

// giveUp has a worker wait no longer for a call, which may still arrive.
func (w *world) giveUp(by *worker) {
	for _, id := range w.callsOf(by) {
		unsure := by.calls[id]
		delete(by.calls, id)
		unsure()
		return
	}
}

func (w *world) callsOf(by *worker) []int {
	ids := make([]int, 0, len(by.calls))
	for id := range by.calls {
		ids = append(ids, id)
	}
	slices.Sort(ids)
	return ids
}

// propose has a command be on its way to the source.
func (w *world) propose(by *worker, s Step) {
	c := &Command{Epoch: by.epoch, Steps: []Step{s}}
	if s.Op == Make || s.Op == Recut {
		c.Epoch = w.epoch
	}
	w.send(by, func() {}, func() func() {
		if !w.plans.MustRecover(w.epoch) || w.without == epochs {
			w.apply(c)
		}
		return func() {}
	})
}

func (w *world) recoveries() (all []uint64) {
	for _, t := range w.targets {
		all = append(all, t.recovered)
	}
	return all
}

func (w *world) planOf(route uuid.UUID) (*Plan, bool) {
	if w.without == planInTheLog {
		// What the records have is what they had when they were saved.
		if p, _ := w.past.Of(route); p != nil {
			return p, false
		}
	}
	return w.plans.Of(route)
}

// happen lets one of the events come to pass.
func (w *world) happen() {
	e := w.events
	one := func(on bool) bool { return on && w.rnd.IntN(60) == 0 }
	plan, _ := w.plans.Of(w.wish.route)
	switch {
	case one(e.grow) && len(w.targets) < 6:
		w.grow()
	case one(e.change):
		w.old = append(w.old, w.wish)
		w.wish.version, w.wish.text = w.version(), fmt.Sprint(w.rnd.IntN(4))
		w.wanted = w.wish.text
		w.say("wished: %s at %d, end %d", w.wish.text, w.wish.version, w.end)
	case one(e.seek) && plan != nil:
		to := w.rnd.Int64N(w.end + 1)
		w.say("seek to %d from %v, end %d", to, plan.Floor, w.end)
		w.apply(&Command{Epoch: w.epoch, Steps: []Step{{Op: Seek, Route: plan.Route, Seq: plan.Seq, Offset: to}}})
	case one(e.recoverSource):
		w.recoverSource()
	case one(e.recoverTarget):
		w.recoverTarget()
	case one(e.restore) && len(w.old) > 0:
		if back := w.old[w.rnd.IntN(len(w.old))]; back.route == w.wish.route {
			w.wish, w.wanted = back, ""
			w.say("the records are restored: %s at %d", back.text, back.version)
		}
	case one(e.restore) && w.without == planInTheLog:
		if plan != nil {
			w.past.plans[plan.Route] = plan
		}
	case one(e.remake) && plan != nil && len(w.routes) < 4:
		w.say("route %d ends at %d and is made anew", len(w.routes), w.end)
		w.finish(w.wish.route)
		w.make()
	case one(e.crash):
		i := w.rnd.IntN(len(w.workers))
		w.workers[i] = w.newWorker()
	}
}

// finish ends a route, at the source first.
func (w *world) finish(route uuid.UUID) {
	w.apply(&Command{Epoch: w.epoch, Steps: []Step{{Op: End, Route: route}}})
	for _, t := range w.targets {
		t.ends[route] = len(t.log)
		t.origins.End(route, w.now)
		if w.without == tombstones {
			clear(t.origins.ended)
		}
	}
}
