package watches

import (
	"cmp"
	"context"
	"slices"
	"strings"
	"sync"
	"time"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/sample"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/core/watch"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/ledger"
	"steadyferry/internal/engine/part"
)

// States of a watch, and of what it watches, beside those of its levels.
const (
	StateNoData = "no-data"
	StatePaused = "paused"
	StateIdle   = "idle" // it covers nothing
)

// noDataAfter is for how long nothing must be known of a thing for that to be its state.
const noDataAfter = time.Minute

// mostShown bounds the things that are shown of a watch.
const mostShown = 200

// List returns the watches of a space, or of all, by address.
func (ws *Watches) List(ctx context.Context, space string) ([]form.Watch, error) {
	by, err := ws.ledger.StateCounts(ctx, time.Now().Add(-noDataAfter))
	if err != nil {
		return nil, part.Explain(err, "watches")
	}
	view := ws.catalog.View()
	all := []form.Watch{}
	for _, w := range view.Watches {
		if (space == "" || w.Space == space) && access.May(ctx, access.SeeCounts, w.Address()) {
			all = append(all, describe(w, by[w.ID]))
		}
	}
	slices.SortFunc(all, func(a, b form.Watch) int { return strings.Compare(a.Address, b.Address) })
	return all, nil
}

// tallyLives is for how long a tally is good for all who ask.
const tallyLives = 2 * time.Second

// tally is how many incidents went on a moment ago.
type tally struct {
	mu  sync.Mutex
	at  time.Time
	now form.Tally

	openAt time.Time
	open   []*ledger.Incident // one by one, for who may not see all
}

// Tally returns how many incidents go on, or did a moment ago: as long as the records are
// away, when they were last heard of.
func (ws *Watches) Tally(ctx context.Context) form.Tally {
	t := &ws.tally
	t.mu.Lock()
	defer t.mu.Unlock()
	if time.Since(t.at) < tallyLives || !ws.catalog.AwaySince().IsZero() {
		return t.now
	}
	if by, err := ws.ledger.Tally(ctx); err == nil {
		t.now = form.Tally{Warns: by[watch.Warn], Alarms: by[watch.Alarm]}
	}
	t.at = time.Now()
	return t.now
}

// TallyOf counts those incidents that go on, or did a moment ago, which whoever asks may see.
func (ws *Watches) TallyOf(ctx context.Context) (seen form.Tally) {
	t := &ws.tally
	t.mu.Lock()
	if time.Since(t.openAt) >= tallyLives && ws.catalog.AwaySince().IsZero() {
		if open, err := ws.ledger.Incidents(ctx, ledger.IncidentsAsked{Open: true, Limit: mostTallied}); err == nil {
			t.open = open
		}
		t.openAt = time.Now()
	}
	open := t.open
	t.mu.Unlock()
	for _, i := range access.Only(ctx, access.SeeCounts, open, (*ledger.Incident).At) {
		switch i.Level {
		case watch.Warn:
			seen.Warns++
		case watch.Alarm:
			seen.Alarms++
		}
	}
	return seen
}

// mostTallied bounds the incidents that are counted one by one.
const mostTallied = 1000

// counted is how many of some states there are of each sort.
func counted(states []*ledger.WatchState) (counts []ledger.StateCount) {
	for _, s := range states {
		counts = append(counts, ledger.StateCount{Level: s.Level, Unknown: isUnknown(&s.State), Count: 1})
	}
	return counts
}

// describe tells a watch, of how many things under it are how.
func describe(w *catalog.Watch, counts []ledger.StateCount) form.Watch {
	out := form.Watch{Address: w.Address(), Of: w.Of, Value: w.Value, Paused: w.Paused, Description: w.Description, Settings: setting.Watches.Show(&w.Watch, ""), CreatedAt: w.CreatedAt.UTC(), Revision: w.Revision}
	if r, err := watch.New(&w.Watch); err == nil {
		out.Unit, out.Below = r.Unit, r.Below
		if r.Keep != nil {
			out.Value, out.Keeps = watch.Astray, keptText(&w.Watch)
		}
		out.Warn, out.Alarm, out.Calm = levels(r)
	}
	for _, c := range counts {
		out.Things += c.Count
		switch {
		case c.Level == watch.Warn:
			out.Warns += c.Count
		case c.Level == watch.Alarm:
			out.Alarms += c.Count
		case c.Unknown:
			out.Unknown += c.Count
		}
	}
	switch {
	case w.Paused:
		out.State = StatePaused
	case out.Things == 0:
		out.State = StateIdle
	case out.Alarms > 0:
		out.State = watch.Alarm.String()
	case out.Warns > 0:
		out.State = watch.Warn.String()
	case out.Unknown > 0:
		out.State = StateNoData
	default:
		out.State = watch.Calm.String()
	}
	return out
}

// stateOf is the word of a state: one that goes on does so also without figures.
func stateOf(s *watch.State) string {
	if !s.Open() && isUnknown(s) {
		return StateNoData
	}
	return s.Level.String()
}

func isUnknown(s *watch.State) bool {
	return !s.Unknown.IsZero() && time.Since(s.Unknown) > noDataAfter
}

// Show returns a watch with what it watches, the worst first.
func (ws *Watches) Show(ctx context.Context, w *catalog.Watch) (*form.Watch, error) {
	states, err := ws.ledger.StatesOf(ctx, w.ID)
	if err != nil {
		return nil, part.Explain(err, w.Address())
	}
	at := Things(ws.catalog.View())
	out := describe(w, counted(states))
	out.Watched = []form.Watched{}
	r, err := watch.New(&w.Watch)
	if err != nil {
		return &out, nil
	}
	things := coveredBy(r, at)
	known := map[sample.Thing]*ledger.WatchState{}
	for _, s := range states {
		known[sample.Thing{Kind: s.Kind, ID: s.Thing}] = s
	}
	rank := func(t sample.Thing) (level watch.Level) {
		if s := known[t]; s != nil {
			level = s.Level
		}
		return level
	}
	slices.SortFunc(things, func(a, b sample.Thing) int { return cmp.Or(cmp.Compare(rank(b), rank(a)), cmp.Compare(at[a], at[b])) })
	things = things[:min(len(things), mostShown)]
	figures, err := ws.latest(ctx, r, things)
	if err != nil {
		return nil, part.Explain(err, w.Address())
	}
	open, err := ws.ledger.Incidents(ctx, ledger.IncidentsAsked{Open: true, Watch: w.Address(), Limit: mostShown})
	if err != nil {
		return nil, part.Explain(err, w.Address())
	}
	for _, t := range things {
		if _, has := figures[t]; !has && known[t] == nil {
			continue // topics have no dead letters
		}
		one := form.Watched{Address: at[t], State: StateNoData, Text: "not known"}
		if s := known[t]; s != nil {
			one.State, one.Since = stateOf(&s.State), s.Since.UTC()
			for _, i := range open {
				if i.ID == s.Incident.UUID {
					one.Incident = i.Number
				}
			}
		}
		if x, ok := figures[t]; ok {
			one.Figure, one.Text = &x, watch.Format(x, r.Unit)
		}
		out.Watched = append(out.Watched, one)
	}
	return &out, nil
}
