package watches

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/sample"
	"steadyferry/internal/core/watch"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/ledger"
	"steadyferry/internal/engine/logbook"
	"steadyferry/internal/engine/part"
	"steadyferry/internal/service/samples"
)

// Bounds of a story.
const (
	lookBefore  = 30 * time.Minute // changes of so long before may be the cause
	curveBefore = 15 * time.Minute
	curveAfter  = 10 * time.Minute
	mostEntries = 30
	mostRelated = 50
	maxSilence  = 30 * 24 * time.Hour
	maxNote     = 2000
)

// Incidents lists incidents, the newest first.
func (ws *Watches) Incidents(ctx context.Context, asked ledger.IncidentsAsked) ([]form.Incident, error) {
	rows, err := ws.ledger.Incidents(ctx, asked)
	if err != nil {
		return nil, part.Explain(err, "incidents")
	}
	rows = access.Only(ctx, access.SeeCounts, rows, (*ledger.Incident).At)
	all := make([]form.Incident, len(rows))
	for i, r := range rows {
		all[i] = ws.told(r)
	}
	return all, nil
}

// told is an incident as it is told.
func (ws *Watches) told(i *ledger.Incident) form.Incident {
	out := form.Incident{Number: i.Number, Watch: i.Watch, Address: i.Address, Kind: i.Kind, Source: i.Source, State: i.Level.String(), Worst: i.Worst.String(), Value: i.Value, Unit: i.Unit, Below: i.Below,
		Warn: i.Warn, Alarm: i.Alarm, Calm: i.Calm, BegunAt: i.BegunAt.UTC(), RangAt: i.RangAt.UTC(), EndedAt: i.EndedAt, EndedAs: i.EndedAs, Peak: i.Peak, PeakAt: i.PeakAt.UTC(), Last: i.Last}
	if i.EndedAt != nil {
		out.State = "ended"
	}
	out.Says, out.Next = says(i), next(i)
	if i.AckedAt != nil {
		out.Acknowledged = &form.Acknowledged{At: i.AckedAt.UTC(), By: i.AckedBy}
	}
	if i.QuietTo != nil && i.QuietTo.After(time.Now()) {
		out.Silenced = &form.Silenced{Until: i.QuietTo.UTC(), By: i.QuietBy, Why: i.QuietFor}
	}
	return out
}

// says tells an incident in a sentence.
func says(i *ledger.Incident) string {
	if i.Value == watch.Astray {
		return keptSays(i)
	}
	level := i.Warn
	if i.Worst == watch.Alarm && i.Alarm != nil {
		level = i.Alarm
	}
	side, end, worst := "at or above", time.Now(), "at worst so far"
	if i.Below {
		side = "at or below"
	}
	if i.EndedAt != nil {
		end, worst = *i.EndedAt, "at worst"
	}
	text := i.Address + ": " + i.Value
	if level != nil {
		text += " " + side + " " + watch.Format(*level, i.Unit)
	}
	return fmt.Sprintf("%s for %s, %s %s", text, lasted(i.BegunAt, end), watch.Format(i.Peak, i.Unit), worst)
}

func lasted(from, to time.Time) string {
	d := to.Sub(from).Round(time.Second)
	if d > time.Hour {
		d = d.Round(time.Minute)
	}
	return address.FormatDuration(max(d, 0))
}

// next is what to do about an incident, as a command.
func next(i *ledger.Incident) string {
	at := i.Address
	switch {
	case i.Kind == sample.Node.Name:
		return "ferry nodes"
	case strings.HasPrefix(i.Value, "dead"):
		return "ferry dead " + strings.TrimSuffix(at, "/dead")
	case i.Kind == sample.Group.Name:
		return "ferry lag " + at
	}
	return "ferry show " + at
}

// Incident returns the record of an incident.
func (ws *Watches) Incident(ctx context.Context, number int64) (*ledger.Incident, error) {
	i, err := ws.ledger.Incident(ctx, number)
	if errors.Is(err, catalog.ErrNotFound) {
		return nil, problem.New(problem.NotFound, "there is no incident %d", number).Next("ferry incidents lists them")
	}
	return i, part.Explain(err, fmt.Sprintf("incident %d", number))
}

// Story is an incident with what is known of it, but for entries of the logbook.
type Story struct {
	form.IncidentStory
	Before, During []logbook.Row
}

// Story returns an incident with all that is known of it.
func (ws *Watches) Story(ctx context.Context, number int64) (*Story, error) {
	i, err := ws.Incident(ctx, number)
	if err != nil {
		return nil, err
	}
	if err := access.Check(ctx, access.SeeCounts, i.Address); err != nil {
		return nil, err
	}
	out := &Story{}
	out.Incident, out.Notes, out.Related = ws.told(i), []form.IncidentNote{}, []form.Incident{}
	notes, err := ws.ledger.NotesOf(ctx, i.ID)
	if err != nil {
		return nil, part.Explain(err, out.Address)
	}
	for _, n := range notes {
		out.Notes = append(out.Notes, form.IncidentNote{At: n.At.UTC(), Who: n.Who, Event: n.What, Text: n.Text})
	}
	end := time.Now()
	if i.EndedAt != nil {
		end = *i.EndedAt
	}
	// Of the same application: what is changed elsewhere in its space may be the cause.
	space, _, _ := strings.Cut(i.Address, "/")
	if space == address.Nodes {
		space = ""
	}
	seen := i.BegunAt.Add(samples.Every) // it crossed within that time
	if out.Before, err = ws.ledger.Changes(ctx, space, i.BegunAt.Add(-lookBefore), seen, mostEntries); err == nil {
		out.During, err = ws.ledger.Changes(ctx, strings.TrimSuffix(i.Address, "/dead"), seen, end, mostEntries)
	}
	if err != nil {
		return nil, part.Explain(err, out.Address)
	}
	for _, rows := range []*[]logbook.Row{&out.Before, &out.During} {
		*rows = access.Only(ctx, access.Logbook, *rows, func(r logbook.Row) string { return r.Address })
	}
	if err := ws.related(ctx, i, end, out); err != nil {
		return nil, part.Explain(err, out.Address)
	}
	out.Curve, err = ws.curveOf(ctx, i, end)
	return out, part.Explain(err, out.Address)
}

// related tells the other incidents of the same source, which overlap with one.
func (ws *Watches) related(ctx context.Context, i *ledger.Incident, end time.Time, out *Story) error {
	rows, err := ws.ledger.Incidents(ctx, ledger.IncidentsAsked{Address: i.Source, From: i.BegunAt.Add(-lookBefore), Limit: mostRelated})
	for _, r := range access.Only(ctx, access.SeeCounts, rows, (*ledger.Incident).At) {
		if r.ID != i.ID && r.BegunAt.Before(end.Add(lookBefore)) {
			out.Related = append(out.Related, ws.told(r))
		}
	}
	return err
}

// curveOf is the value of an incident, from some time before it to some time behind it.
func (ws *Watches) curveOf(ctx context.Context, i *ledger.Incident, end time.Time) (form.Curve, error) {
	w := ws.catalog.View().Watches[i.Watch]
	none := form.Curve{Figures: []*float64{}}
	if w == nil || w.Value != i.Value {
		return none, nil // what it looked at is not known any more
	}
	r, err := watch.New(&w.Watch)
	if err != nil {
		return none, nil
	}
	from, to := i.BegunAt.Add(-curveBefore), end.Add(curveAfter)
	if now := time.Now(); to.After(now) {
		to = now
	}
	deep, err := ws.samples.Deep(ctx, i.Kind, []int64{i.Thing}, from, to)
	if err != nil {
		return none, err
	}
	return curve(r, sample.Named(i.Kind), deep[i.Thing], from, to), nil
}

// Say does what somebody says of an incident, and notes it.
func (ws *Watches) Say(ctx context.Context, who string, number int64, in *form.IncidentSaying) error {
	i, err := ws.Incident(ctx, number)
	if err != nil {
		return err
	}
	if err := access.Check(ctx, access.Watch, i.Address); err != nil {
		return err
	}
	s := &ledger.Saying{Acknowledge: in.Acknowledge, Note: ledger.IncidentNote{Incident: i.ID, At: time.Now(), Who: who, What: "said", Text: in.Text}}
	if len(in.Text) > maxNote {
		return problem.New(problem.Invalid, "the text has %d characters", len(in.Text)).Field("text").Allowed(fmt.Sprintf("up to %d", maxNote))
	}
	switch {
	case in.Silence != "":
		d, err := address.ParseDuration(in.Silence)
		if err != nil || d < 0 || d > maxSilence {
			return problem.New(problem.Invalid, "silence is %q", in.Silence).Field("silence").Allowed("0s (it ends) to 30d")
		}
		until := time.Time{}
		s.Note.What = "silence-ended"
		if d > 0 {
			if strings.TrimSpace(in.Text) == "" {
				return problem.New(problem.Invalid, "a silence needs a reason").Field("text").Allowed("a sentence that says why")
			}
			until, s.Note.What = s.Note.At.Add(d), "silenced"
			s.Note.Text = "for " + address.FormatDuration(d) + ": " + in.Text
		}
		s.QuietTo, s.QuietFor = &until, in.Text
	case in.Acknowledge:
		s.Note.What = "acknowledged"
	case strings.TrimSpace(in.Text) == "":
		return problem.New(problem.Invalid, "nothing is said").Field("text").Allowed("acknowledge, silence, or a text")
	}
	return part.Explain(ws.ledger.Say(ctx, i.ID, s), i.Address)
}
