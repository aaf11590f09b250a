package watches

import (
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"maps"
	"math"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"steadyferry/internal/core/form"
	"steadyferry/internal/core/watch"
	"steadyferry/internal/core/words"
	"steadyferry/internal/engine/ledger"
	"steadyferry/internal/service/change"
)

// tell makes the notices that are due: one for each endpoint, of all its incidents. mu is held,
// and all that was judged is recorded, so that each incident has its number, or the records
// are away.
func (ws *Watches) tell(ctx context.Context, now time.Time) (j ledger.Judged) {
	words := map[*ledger.Incident]watch.Word{}
	by := map[string][]*ledger.Incident{} // by endpoint
	var held []*ledger.Incident           // which come with the next word about their source
	for _, i := range ws.mayTell() {
		t := ws.telling(i)
		if len(t.Endpoints) == 0 {
			delete(ws.untold, i.ID)
			continue
		}
		word := t.Due(now, ws.happening(i, now), toldOf(i))
		if word == watch.TellBegins && ws.isKnown(i, t) {
			held = append(held, i)
			continue
		}
		if word == watch.TellNothing || !ws.mayMake(i.Watch, t.Hourly, now) {
			continue
		}
		words[i] = word
		for _, at := range t.Endpoints {
			by[at] = append(by[at], i)
		}
	}
	for _, i := range held {
		ws.join(i, words, by)
	}
	j.Notices = ws.noticesOf(by, words, now)
	for i, word := range words {
		i.ToldAt, i.ToldAs, i.ToldEnd = &now, i.Level, word == watch.TellEnds
		j.Incidents = append(j.Incidents, i)
	}
	return j
}

// noticesOf writes a notice for each endpoint.
func (ws *Watches) noticesOf(by map[string][]*ledger.Incident, words map[*ledger.Incident]watch.Word, now time.Time) (notices []*ledger.Notice) {
	for at, all := range by {
		slices.SortFunc(all, byNumber)
		n, err := ws.notice(at, all, words, now)
		if err != nil {
			slog.Warn("a notice cannot be written", "endpoint", at, "error", err)
			continue
		}
		notices = append(notices, n)
	}
	return notices
}

// isKnown reports whether those who would be told of an incident know of another one of its
// source that is as bad: a node that is away is not forty alarms.
func (ws *Watches) isKnown(i *ledger.Incident, t *watch.Telling) bool {
	for _, o := range ws.open {
		if o == i || o.Source != i.Source || o.ToldAt == nil || o.ToldAs < i.Level {
			continue
		}
		know := ws.telling(o).Endpoints
		if !slices.ContainsFunc(t.Endpoints, func(at string) bool { return !slices.Contains(know, at) }) {
			return true
		}
	}
	return false
}

// join has an incident be told with what is told of others of its source.
func (ws *Watches) join(i *ledger.Incident, words map[*ledger.Incident]watch.Word, by map[string][]*ledger.Incident) {
	for _, at := range ws.telling(i).Endpoints {
		if slices.ContainsFunc(by[at], func(o *ledger.Incident) bool { return o.Source == i.Source }) {
			words[i] = watch.TellBegins
			by[at] = append(by[at], i)
		}
	}
}

// telling is how an incident is told: as its watch says, or once that is removed, as it did.
func (ws *Watches) telling(i *ledger.Incident) *watch.Telling {
	if t := ws.covered().tellings[i.Watch]; t != nil {
		return t
	}
	return &watch.Telling{Endpoints: i.Tell, Hourly: math.MaxInt}
}

// mayTell are the incidents of which somebody may have to be told, by their numbers.
func (ws *Watches) mayTell() []*ledger.Incident {
	all := slices.AppendSeq(slices.Collect(maps.Values(ws.open)), maps.Values(ws.untold))
	slices.SortFunc(all, byNumber)
	return all
}

func (ws *Watches) happening(i *ledger.Incident, now time.Time) watch.Happening {
	h := ws.hushed[i.ID]
	is := watch.Happening{Level: i.Level, Seen: h.AckedAt != nil, Silenced: h.QuietTo != nil && h.QuietTo.After(now)}
	if i.EndedAt != nil {
		is.Level = watch.Calm
	}
	return is
}

func toldOf(i *ledger.Incident) watch.Told {
	t := watch.Told{As: i.ToldAs, Ended: i.ToldEnd}
	if i.ToldAt != nil {
		t.At = *i.ToldAt
	}
	return t
}

// mayMake reports whether a watch may tell once more in this hour.
func (ws *Watches) mayMake(at string, hourly int, now time.Time) bool {
	made := slices.DeleteFunc(ws.made[at], func(t time.Time) bool { return now.Sub(t) >= time.Hour })
	if len(made) > 0 && made[len(made)-1].Equal(now) {
		return true // it comes with what is told already
	}
	if len(made) >= hourly {
		ws.made[at] = made
		return false
	}
	ws.made[at] = append(made, now)
	return true
}

// notice writes a notice of incidents.
func (ws *Watches) notice(at string, all []*ledger.Incident, words map[*ledger.Incident]watch.Word, now time.Time) (*ledger.Notice, error) {
	n := &ledger.Notice{ID: uuid.New(), Endpoint: at, MadeAt: now}
	body := form.Notice{Notice: n.ID.String(), At: now.UTC(), Incidents: []form.NoticeIncident{}}
	for _, i := range all {
		n.Incidents = append(n.Incidents, i.ID)
		if !slices.Contains(n.Watches, i.Watch) {
			n.Watches = append(n.Watches, i.Watch)
		}
		one := form.NoticeIncident{Incident: ws.told(i), Word: string(words[i]), Link: ws.link(i.Number)}
		body.Incidents = append(body.Incidents, one)
	}
	body.Says = saysOf(body.Incidents)
	var err error
	n.Body, err = json.Marshal(body)
	return n, err
}

// saysOf tells incidents in a sentence: of those of one source the first one, and how many more
// there are.
func saysOf(all []form.NoticeIncident) string {
	says, more, order := map[string]string{}, map[string]int{}, []string{}
	for i := range all {
		one := &all[i]
		if _, known := says[one.Source]; known {
			more[one.Source]++
			continue
		}
		says[one.Source] = one.Word + ": " + one.Says
		order = append(order, one.Source)
	}
	for i, source := range order {
		order[i] = says[source]
		if n := more[source]; n > 0 {
			order[i] += fmt.Sprintf(" (and %s of %s)", words.Many(n, "more incident"), source)
		}
	}
	return strings.Join(order, "; ")
}

// link is where an incident is shown: in the list of all, while it has no number.
func (ws *Watches) link(number int64) string {
	if number == 0 {
		return change.Base(ws.catalog.View(), ws.parts) + "/incidents"
	}
	return fmt.Sprintf("%s/incidents/%d", change.Base(ws.catalog.View(), ws.parts), number)
}
