package watches

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"math"
	"slices"
	"time"

	"github.com/google/uuid"

	"steadyferry/internal/core/address"
	"steadyferry/internal/core/sample"
	"steadyferry/internal/core/watch"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/ledger"
)

// mostUnrecorded bounds the notes that wait for the records.
const mostUnrecorded = 10_000

// changes are what is not recorded yet.
type changes struct {
	states, gone map[*ledger.WatchState]bool
	incidents    map[*ledger.Incident]bool
	notes        []ledger.IncidentNote
	notices      []*apart
}

func nothing() changes {
	return changes{map[*ledger.WatchState]bool{}, map[*ledger.WatchState]bool{}, map[*ledger.Incident]bool{}, nil, nil}
}

func (c *changes) empty() bool {
	return len(c.states)+len(c.gone)+len(c.incidents)+len(c.notes)+len(c.notices) == 0
}

func (c *changes) judged() *ledger.Judged {
	j := &ledger.Judged{States: slices.Collect(maps.Keys(c.states)), Gone: slices.Collect(maps.Keys(c.gone)), Incidents: slices.SortedFunc(maps.Keys(c.incidents), byBegin), Notes: c.notes}
	for _, n := range c.notices {
		j.Notices = append(j.Notices, n.Notice)
	}
	return j
}

// load reads how things under watches are, until it is known or ctx ends.
func (ws *Watches) load(ctx context.Context) {
	duty, ok := catalog.DutyOf(ctx)
	for ok && ctx.Err() == nil && !ws.goOn(duty) {
		states, err := ws.ledger.States(ctx)
		var open []*ledger.Incident
		if err == nil {
			open, err = ws.ledger.Incidents(ctx, ledger.IncidentsAsked{Open: true, Limit: math.MaxInt32})
		}
		var untold []*ledger.Incident
		if err == nil {
			untold, err = ws.ledger.Untold(ctx)
		}
		var made map[string][]time.Time
		if err == nil {
			made, err = ws.ledger.NoticesSince(ctx, time.Now().Add(-time.Hour))
		}
		if err == nil {
			ws.know(duty, states, open, untold, made)
			return
		}
		select {
		case <-ctx.Done():
		case <-time.After(time.Second):
		}
	}
}

// goOn has this node go on with what it knows, if it had the duty last: nobody has judged
// since, and what it judged while the records were away is not lost.
func (ws *Watches) goOn(duty int64) bool {
	ws.mu.Lock()
	defer ws.mu.Unlock()
	if ws.duty == 0 || duty != ws.duty+1 {
		return false
	}
	ws.duty, ws.fenced = duty, time.Time{}
	return true
}

func (ws *Watches) know(duty int64, states []*ledger.WatchState, open, untold []*ledger.Incident, made map[string][]time.Time) {
	ws.mu.Lock()
	defer ws.mu.Unlock()
	if ws.duty != 0 {
		ws.handOver(time.Now())
	}
	ws.duty, ws.fenced, ws.changed = duty, time.Time{}, nothing()
	ws.states, ws.open = map[under]*ledger.WatchState{}, map[uuid.UUID]*ledger.Incident{}
	ws.untold, ws.made, ws.hushed = map[uuid.UUID]*ledger.Incident{}, made, nil
	ws.wrong = map[under]*astray{}
	for _, i := range untold {
		ws.untold[i.ID] = i
	}
	for _, s := range states {
		ws.states[under{s.Watch, sample.Thing{Kind: s.Kind, ID: s.Thing}}] = s
	}
	for _, i := range open {
		ws.open[i.ID] = i
	}
}

// Judge judges all that was measured at a time, and records what has come of it.
func (ws *Watches) Judge(ctx context.Context, now time.Time, measured map[sample.Thing][]float64) {
	ws.mu.Lock()
	defer ws.mu.Unlock()
	if ws.duty == 0 || !ws.fenced.IsZero() {
		return
	}
	j := &judging{ws, now, measured, ws.covered(), ws.catalog.View()}
	j.all()
	if !ws.changed.empty() {
		if ws.record(ctx, ws.changed.judged()) != nil {
			ws.tellApart(ctx, now)
			return
		}
		ws.changed = nothing()
	}
	ws.tellAll(ctx, now)
}

// record writes what has come of judging. mu is held.
func (ws *Watches) record(ctx context.Context, judged *ledger.Judged) error {
	err := ws.ledger.Record(ctx, ws.duty, judged)
	switch {
	case errors.Is(err, catalog.ErrFenced):
		ws.fenced = time.Now() // others have the duty, or this node has it anew
	case err != nil && ctx.Err() == nil:
		slog.Debug("what watches found waits to be recorded", "error", err)
	}
	return err
}

// tellAll makes the notices that are due. mu is held.
func (ws *Watches) tellAll(ctx context.Context, now time.Time) {
	if len(ws.open)+len(ws.untold) == 0 {
		return
	}
	hushed, err := ws.ledger.Hushed(ctx)
	if err != nil {
		ws.tellApart(ctx, now)
		return
	}
	ws.hushed = hushed
	judged := ws.tell(ctx, now)
	if len(judged.Incidents) == 0 {
		return
	}
	if ws.record(ctx, &judged) != nil {
		ws.duty = 0 // what was told is not known: it is read again
		return
	}
	for _, i := range judged.Incidents {
		if i.ToldEnd {
			delete(ws.untold, i.ID)
		}
	}
}

// judging is one look at all things under watches.
type judging struct {
	*Watches
	now      time.Time
	measured map[sample.Thing][]float64
	*covering
	view *catalog.View
}

func (j *judging) all() {
	judged := make(map[under]bool, len(j.states))
	for id, r := range j.rules {
		for _, t := range r.things {
			u := under{id, t}
			judged[u] = true
			j.one(u, r)
		}
	}
	held := make(map[uuid.UUID]bool, len(j.open))
	for u, s := range j.states {
		if !judged[u] {
			delete(j.states, u)
			delete(j.changed.states, s)
			j.changed.gone[s] = true
		} else if s.Incident.Valid {
			held[s.Incident.UUID] = true
		}
	}
	for id, i := range j.open {
		if !held[id] {
			j.gone(i)
		}
	}
}

// one judges one thing under a watch.
func (j *judging) one(u under, r *ruled) {
	figure := r.Figure(sample.Named(u.Kind), j.measured[u.Thing])
	if r.Keep != nil {
		figure = j.astray(u, r)
	}
	s := j.states[u]
	if s == nil && math.IsNaN(figure) {
		return // topics have no dead letters
	}
	if s == nil {
		s = &ledger.WatchState{Watch: u.watch, Kind: u.Kind, Thing: u.ID}
		j.states[u] = s
	}
	// A crossing of one value is none of another.
	if i := j.open[s.Incident.UUID]; i != nil && (i.Value != r.Watched() || i.Below != r.Below) {
		j.end(i, "the watch looks at something else now")
		s.State, s.Incident = watch.State{}, uuid.NullUUID{}
	}
	was := s.State
	var turn watch.Turn
	s.State, turn = r.Step(s.State, j.now, figure)
	// What is good and stays so is not recorded each time.
	if turn != watch.Stays || s.Open() && was.Peak != s.Peak || j.marksDiffer(&was, &s.State) {
		j.changed.states[s] = true
	}
	if turn != watch.Stays || s.Open() {
		j.incident(u, r, s, turn)
	}
}

// marksDiffer reports whether something begins to last, or ceases to.
func (j *judging) marksDiffer(a, b *watch.State) bool {
	return a.Since != b.Since || a.Warns != b.Warns || a.Alarms != b.Alarms || a.Better != b.Better || a.BetterAs != b.BetterAs || a.Unknown.IsZero() != b.Unknown.IsZero()
}

// incident brings the incident of a crossing to where it is.
func (j *judging) incident(u under, r *ruled, s *ledger.WatchState, turn watch.Turn) {
	if turn == watch.Begins {
		i := &ledger.Incident{ID: uuid.New(), Watch: r.Address(), Kind: u.Kind, Thing: u.ID, Address: j.at[u.Thing], BegunAt: s.Begun, RangAt: j.now, Facts: facts(r)}
		i.Source = j.source(u.Thing)
		s.Incident = uuid.NullUUID{UUID: i.ID, Valid: true}
		j.open[i.ID] = i
	}
	i := j.open[s.Incident.UUID]
	if i == nil {
		return // it cannot be read any more
	}
	worse := i.Peak != s.Peak
	i.Level, i.Worst, i.Peak, i.PeakAt, i.Last = s.Level, s.Worst, s.Peak, s.PeakAt, s.Last
	if turn == watch.Stays && !worse {
		return
	}
	if turn == watch.Ends {
		i.EndedAt, i.EndedAs = &j.now, "calm"
		j.ended(i)
		s.Incident = uuid.NullUUID{}
	}
	j.changed.incidents[i] = true
	if turn != watch.Stays {
		j.say(i, turn.String(), turnText(r, i, turn))
	}
}

func (j *judging) say(i *ledger.Incident, what, text string) {
	if len(j.changed.notes) < mostUnrecorded {
		j.changed.notes = append(j.changed.notes, ledger.IncidentNote{Incident: i.ID, At: j.now, What: what, Text: text})
	}
}

// ended takes an incident out of those that go on.
func (j *judging) ended(i *ledger.Incident) {
	delete(j.open, i.ID)
	if i.ToldAt != nil {
		j.untold[i.ID] = i
	}
}

// gone ends the incident of what is watched no longer.
func (j *judging) gone(i *ledger.Incident) {
	why := "it is watched no longer"
	if j.at[sample.Thing{Kind: i.Kind, ID: i.Thing}] == "" {
		why = i.Address + " was removed"
	} else if w := j.view.Watches[i.Watch]; w != nil && w.Paused {
		why = "the watch was paused"
	}
	j.end(i, why)
}

// end ends an incident for another reason than that its figure is good.
func (j *judging) end(i *ledger.Incident, why string) {
	j.ended(i)
	i.Level, i.EndedAt, i.EndedAs = watch.Calm, &j.now, why
	j.changed.incidents[i] = true
	j.say(i, watch.Ends.String(), why)
}

// facts are those of a watch as they are now.
func facts(r *ruled) ledger.Facts {
	f := ledger.Facts{Value: r.Watched(), Unit: r.Unit, Below: r.Below, Tell: r.Tell}
	f.Warn, f.Alarm, f.Calm = levels(r.Rule)
	return f
}

// turnText says what a turn was.
func turnText(r *ruled, i *ledger.Incident, turn watch.Turn) string {
	is := fmt.Sprintf("%s is %s", r.Watched(), watch.Format(i.Last, r.Unit))
	if turn == watch.Ends {
		return is + ", the worst was " + watch.Format(i.Peak, r.Unit)
	}
	return is + ": " + i.Level.String()
}

// source is the address of what incidents of one cause have in common: a node that is away,
// an endpoint that fails, or the channel.
func (j *judging) source(t sample.Thing) string {
	at := j.at[t]
	if g := j.view.GroupIDs[t.ID]; t.Kind == sample.Group.Name && g != nil && g.Route != nil {
		if e := j.view.Endpoint(g.Route.Target); e != nil && j.isBad(sample.Endpoint, e.ID, "endpoint-failing") {
			return e.Address()
		}
	}
	if t.Kind == sample.Channel.Name || t.Kind == sample.Group.Name {
		a, err := address.Parse(at)
		if err != nil {
			return at
		}
		channel := a.ChannelPart().String()
		if ch := j.view.Channels[channel]; ch != nil {
			for _, p := range j.view.Placed[ch.ID] {
				for _, node := range p.Replicas {
					if j.isBad(sample.Node, int64(node), "node-away") {
						return j.at[sample.Thing{Kind: sample.Node.Name, ID: int64(node)}]
					}
				}
			}
		}
		return channel
	}
	return at
}

func (j *judging) isBad(k *sample.Kind, id int64, value string) bool {
	values := j.measured[sample.Thing{Kind: k.Name, ID: id}]
	return len(values) > k.Place(value) && values[k.Place(value)] > 0
}

func nodeAddress(name string) string { return address.Nodes + "/" + name }
