package watches

import (
	"cmp"
	"context"
	"errors"
	"log/slog"
	"slices"
	"time"

	"steadyferry/internal/core/endpoint"
	"steadyferry/internal/core/watch"
	"steadyferry/internal/engine/ledger"
	"steadyferry/internal/service/endpoints"
)

// Times of telling without the records.
const (
	// MindEvery is how often a node looks after what it told without the records.
	MindEvery = time.Second
	// ownDuty is how long a node waits for the duty to come back to itself, before what it
	// judged without the records is handed over.
	ownDuty = 5 * time.Second
	// mostApart bounds the notices that wait for the records.
	mostApart = 500
)

// apartAfter is for how long the records are away before notices are made without them: a
// restart of the database is none of anybody's business.
var apartAfter = 20 * time.Second

// apart is a notice that is made and sent while the records are away.
type apart struct {
	*ledger.Notice
	tries int
	next  time.Time
	sends bool
}

// tellApart makes the notices that are due while the records are away: what people said last
// of incidents goes on, new incidents have no number yet. mu is held.
func (ws *Watches) tellApart(ctx context.Context, now time.Time) {
	away := ws.catalog.AwaySince()
	if ctx.Err() != nil || away.IsZero() || time.Since(away) < apartAfter || len(ws.changed.notices) >= mostApart {
		return
	}
	told := ws.tell(ctx, now)
	for _, i := range told.Incidents {
		ws.changed.incidents[i] = true
		if i.ToldEnd {
			delete(ws.untold, i.ID)
		}
	}
	for _, n := range told.Notices {
		ws.changed.notices = append(ws.changed.notices, &apart{Notice: n})
	}
}

// Mind sends what is told without the records, and hands over what was judged without them
// when another node judges after that. It is called on each node, each MindEvery.
func (ws *Watches) Mind(ctx context.Context) {
	for n := ws.takeApart(); n != nil && ctx.Err() == nil; n = ws.takeApart() {
		ws.sendApart(ctx, n)
	}
	if !ws.catalog.AwaySince().IsZero() {
		return
	}
	ws.mu.Lock()
	defer ws.mu.Unlock()
	if ws.fenced.IsZero() && ws.duty != 0 && len(ws.changed.notices) > 0 {
		if ws.record(ctx, ws.changed.judged()) == nil {
			ws.changed = nothing()
		}
	}
	if !ws.fenced.IsZero() && time.Since(ws.fenced) > ownDuty {
		ws.handOver(time.Now())
	}
	for len(ws.late) > 0 {
		if err := ws.ledger.RecordLate(ctx, ws.late[0]); err != nil {
			if ctx.Err() == nil {
				slog.Debug("what watches found without the records waits to be recorded", "error", err)
			}
			return
		}
		ws.late = ws.late[1:]
	}
}

// takeApart returns the next notice that is due, the first of each endpoint.
func (ws *Watches) takeApart() *apart {
	ws.mu.Lock()
	defer ws.mu.Unlock()
	seen := map[string]bool{}
	for _, n := range ws.changed.notices {
		if n.Came != nil || seen[n.Endpoint] {
			continue
		}
		seen[n.Endpoint] = true
		if now := time.Now(); !n.sends && !now.Before(n.next) {
			n.sends = true
			return n
		}
	}
	return nil
}

// sendApart sends a notice, and keeps what came of it until it is recorded.
func (ws *Watches) sendApart(ctx context.Context, n *apart) {
	answer, err := ws.post(ctx, n.Endpoint, n.ID.String(), n.Body, n.MadeAt)
	ws.mu.Lock()
	defer ws.mu.Unlock()
	n.sends = false
	n.tries++
	n.next = time.Now().Add(min(15*time.Minute, 15*time.Second<<min(n.tries, 8)))
	came := ledger.Came{At: time.Now()}
	switch {
	case errors.Is(err, endpoints.ErrRemoved):
		came.Answer = "the endpoint was removed"
	case err != nil:
		return
	case answer.Means == endpoint.Done:
		came.Sent, came.Answer = true, answer.Says()
	case answer.Means == endpoint.Refused:
		came.Answer = "it is refused: " + answer.Says()
	default:
		return
	}
	if n.Came = &came; slices.Contains(ws.changed.notices, n) {
		return
	}
	if err := ws.ledger.EndNotice(ctx, n.ID, came); err != nil && ctx.Err() == nil {
		slog.Debug("what came of a notice is not recorded", "error", err)
	}
}

// handOver ends what this node judged without the records, since another one judges now: what
// began meanwhile stays among the incidents, and who was told of its beginning is told of its
// end. What goes on the other one finds by itself. mu is held.
func (ws *Watches) handOver(now time.Time) {
	late := &ledger.Judged{}
	for i := range ws.changed.incidents {
		if i.Number != 0 {
			continue // the other one knows it
		}
		if i.EndedAt == nil {
			i.Level, i.EndedAt, i.EndedAs = watch.Calm, &now, "another node watches since"
			late.Notes = append(late.Notes, ledger.IncidentNote{Incident: i.ID, At: now, What: watch.Ends.String(), Text: i.EndedAs})
		}
		late.Incidents = append(late.Incidents, i)
	}
	slices.SortFunc(late.Incidents, byBegin)
	known := map[string]bool{}
	for _, i := range late.Incidents {
		known[i.ID.String()] = true
	}
	late.Notes = append(late.Notes, slices.DeleteFunc(ws.changed.notes, func(n ledger.IncidentNote) bool { return !known[n.Incident.String()] })...)
	late.Notices = ws.changed.judged().Notices
	told := slices.DeleteFunc(slices.Clone(late.Incidents), func(i *ledger.Incident) bool { return i.ToldAt == nil || i.ToldEnd })
	late.Notices = append(late.Notices, ws.endings(told, now)...)
	if len(late.Incidents)+len(late.Notices) > 0 {
		ws.late = append(ws.late, late)
	}
	ws.duty, ws.fenced, ws.changed = 0, time.Time{}, nothing()
}

// endings makes the notices of incidents that are not told by judging any more.
func (ws *Watches) endings(all []*ledger.Incident, now time.Time) (notices []*ledger.Notice) {
	words, by := map[*ledger.Incident]watch.Word{}, map[string][]*ledger.Incident{}
	for _, i := range all {
		words[i], i.ToldAt, i.ToldEnd = watch.TellEnds, &now, true
		for _, at := range ws.telling(i).Endpoints {
			by[at] = append(by[at], i)
		}
	}
	return ws.noticesOf(by, words, now)
}

// byBegin orders incidents by when they began.
func byBegin(a, b *ledger.Incident) int {
	return cmp.Or(a.RangAt.Compare(b.RangAt), cmp.Compare(a.Address, b.Address))
}

// byNumber orders incidents by their numbers; those that have none yet come last, by begin.
func byNumber(a, b *ledger.Incident) int {
	if a.Number == 0 || b.Number == 0 {
		return cmp.Or(cmp.Compare(b.Number, a.Number), byBegin(a, b))
	}
	return cmp.Compare(a.Number, b.Number)
}
