package outlook

import (
	"cmp"
	"context"
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/job"
	"steadyferry/internal/core/queue"
	"steadyferry/internal/core/sample"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/core/words"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/ledger"
	"steadyferry/internal/engine/logbook"
	"steadyferry/internal/engine/part"
)

// Bounds of a report.
const (
	MostReported    = 31 * 24 * time.Hour
	LeastReported   = 10 * time.Minute
	reportSteps     = 160 // of a curve
	reportIncidents = 200
	reportRuns      = 5000
	reportCauses    = 50
	reportDone      = 50
	reportEntries   = 5000
	doneAddresses   = 4
)

// reporting is a report that is written.
type reporting struct {
	*Outlook
	view *catalog.View
	now  map[sample.Thing][]float64
	out  *form.Report
}

// Report writes what happened in a space up to now.
func (o *Outlook) Report(ctx context.Context, space string, span time.Duration) (*form.Report, error) {
	if _, err := o.parts.Space(space); err != nil {
		return nil, err
	}
	to := time.Now().UTC()
	r := &reporting{o, o.catalog.View(), o.samples.Now(ctx), &form.Report{Space: space, From: to.Add(-span), To: to, Channels: []form.ReportChannel{}, Readers: []form.ReportReader{}, Causes: []form.ReportCause{}, Chores: []form.ReportChore{}, Done: []form.ReportDone{}}}
	var err error
	if r.out.Incidents, err = o.watches.Incidents(ctx, ledger.IncidentsAsked{Space: space, From: r.out.From, Limit: reportIncidents}); err != nil {
		return nil, err
	}
	if r.out.Foreseen, err = o.foresee(ctx, space, to); err != nil {
		return nil, err
	}
	for _, step := range []func(context.Context) error{r.channels, r.readers, r.causes, r.chores, r.done} {
		if err := step(ctx); err != nil {
			return nil, part.Explain(err, space)
		}
	}
	r.verdict()
	return r.out, nil
}

// curve is a value of a thing over the time of the report.
type curve struct {
	figures []*float64
	mean    float64
	peak    float64
	peakAt  time.Time
}

func curveOf(b *sample.Block, value int, from time.Time) (c curve) {
	sum, n := 0.0, 0
	c.figures = []*float64{}
	if b == nil {
		return c
	}
	for i := range b.Len() {
		x, at := b.At(value, i), b.Begin.Add(time.Duration(i)*b.Step)
		if at.Before(from.Add(-b.Step)) {
			continue
		}
		if math.IsNaN(x) {
			c.figures = append(c.figures, nil)
			continue
		}
		sum, n = sum+x, n+1
		if x > c.peak {
			c.peak, c.peakAt = x, at.UTC()
		}
		c.figures = append(c.figures, &x)
	}
	if n > 0 {
		c.mean = sum / float64(n)
	}
	c.figures = thinned(c.figures)
	return c
}

// thinned makes a curve of no more steps than are drawn, of which each has the most of those
// that it stands for.
func thinned(figures []*float64) []*float64 {
	by := (len(figures) + reportSteps - 1) / reportSteps
	if by <= 1 {
		return figures
	}
	out := []*float64{}
	for some := range slices.Chunk(figures, by) {
		var most *float64
		for _, x := range some {
			if x != nil && (most == nil || *x > *most) {
				most = x
			}
		}
		out = append(out, most)
	}
	return out
}

func (r *reporting) histories(ctx context.Context, k *sample.Kind, ids []int64) (map[int64]*sample.Block, error) {
	return r.samples.Histories(ctx, k.Name, ids, r.out.From, r.out.To)
}

func (r *reporting) figure(k *sample.Kind, id int64, name string) float64 {
	if values := r.now[sample.Thing{Kind: k.Name, ID: id}]; len(values) > k.Place(name) {
		if x := values[k.Place(name)]; !math.IsNaN(x) {
			return x
		}
	}
	return 0
}

// own are the channels of the space, those of which are no dead letters of readers, by address.
func (r *reporting) own() (all []*catalog.Channel) {
	for _, ch := range r.view.Channels {
		if ch.Space == r.out.Space && !ch.GroupID.Valid {
			all = append(all, ch)
		}
	}
	slices.SortFunc(all, func(a, b *catalog.Channel) int { return strings.Compare(a.Name, b.Name) })
	return all
}

func (r *reporting) channels(ctx context.Context) error {
	own := r.own()
	ids := make([]int64, len(own))
	for i, ch := range own {
		ids[i] = ch.ID
	}
	past, err := r.histories(ctx, sample.Channel, ids)
	if err != nil {
		return err
	}
	for _, ch := range own {
		c := curveOf(past[ch.ID], sample.Channel.Place("in-rate"), r.out.From)
		one := form.ReportChannel{Address: ch.Address(), Kind: ch.Kind, Rate: c.mean, Peak: c.peak, Curve: c.figures, Kept: int64(r.figure(sample.Channel, ch.ID, "messages")),
			Bytes: int64(r.figure(sample.Channel, ch.ID, "bytes")), Dead: int64(r.figure(sample.Channel, ch.ID, "dead"))}
		if t := r.parts.ByID(ch.ID); t != nil {
			if n, atLeast, err := r.look.Came(ctx, t, r.out.From); err == nil {
				one.Messages, one.AtLeast = &n, atLeast
			}
		}
		r.out.Channels = append(r.out.Channels, one)
	}
	return nil
}

func (r *reporting) readers(ctx context.Context) error {
	ids := []int64{}
	for id, g := range r.view.GroupIDs {
		if ch := r.view.Channel(g.ChannelID); ch != nil && ch.Space == r.out.Space {
			ids = append(ids, id)
		}
	}
	past, err := r.histories(ctx, sample.Group, ids)
	if err != nil {
		return err
	}
	for _, id := range ids {
		g := r.view.GroupIDs[id]
		lag, age := curveOf(past[id], sample.Group.Place("lag"), r.out.From), curveOf(past[id], sample.Group.Place("lag-age"), r.out.From)
		one := form.ReportReader{Address: r.view.Channel(g.ChannelID).Reader(g.Name), Kind: g.Kind(), Lag: int64(r.figure(sample.Group, id, "lag")), WorstLag: int64(lag.peak), WorstAge: age.peak, Curve: lag.figures}
		if lag.peak > 0 {
			one.WorstAt = &lag.peakAt
		}
		r.out.Readers = append(r.out.Readers, one)
	}
	slices.SortFunc(r.out.Readers, func(a, b form.ReportReader) int { return strings.Compare(a.Address, b.Address) })
	return nil
}

// causes are why messages failed in the time of the report, of those that are dead letters
// still: new causes first.
func (r *reporting) causes(ctx context.Context) error {
	for _, ch := range r.view.Channels {
		if ch.Space != r.out.Space || ch.Kind != setting.Queue || r.figure(sample.Channel, ch.ID, "dead") == 0 {
			continue
		}
		t := r.parts.ByID(ch.ID)
		if t == nil {
			continue
		}
		dead, err := r.queues.Dead(ctx, t, r.out.To.Sub(r.out.From), 1)
		if err != nil {
			continue // its node is away; the incidents tell
		}
		at := t.Address()
		at.Dead = true
		for _, c := range dead.Causes {
			if c.Bars[0] == 0 {
				continue
			}
			r.out.Causes = append(r.out.Causes, form.ReportCause{Address: at.String(), Cause: queue.CauseID(c.ID), Reason: c.Reason, Detail: queue.Shown(c.Pattern), Came: c.Bars[0], Count: c.Count, First: c.First, New: c.First.After(r.out.From)})
		}
	}
	slices.SortFunc(r.out.Causes, func(a, b form.ReportCause) int {
		rank := map[bool]int{true: 0, false: 1}
		return cmp.Or(cmp.Compare(rank[a.New], rank[b.New]), cmp.Compare(b.Came, a.Came), strings.Compare(a.Cause, b.Cause))
	})
	r.out.Causes = r.out.Causes[:min(len(r.out.Causes), reportCauses)]
	return nil
}

// chores are what was done by itself, the chores of which most failed first.
func (r *reporting) chores(ctx context.Context) error {
	runs, err := r.timetable.Since(ctx, r.out.Space, r.out.From, reportRuns)
	at := map[string]int{}
	for _, run := range runs { // the newest first
		i, known := at[run.Chore]
		if !known {
			i = len(r.out.Chores)
			at[run.Chore] = i
			r.out.Chores = append(r.out.Chores, form.ReportChore{Address: run.Chore, Last: run.CreatedAt, Says: run.State + ": " + run.Says})
		}
		c := &r.out.Chores[i]
		c.Runs, c.Messages = c.Runs+1, c.Messages+run.Messages
		if run.State == string(job.Failed) || run.State == string(job.Halted) {
			c.Failed++
		}
	}
	slices.SortFunc(r.out.Chores, func(a, b form.ReportChore) int {
		return cmp.Or(cmp.Compare(b.Failed, a.Failed), strings.Compare(a.Address, b.Address))
	})
	return err
}

// done is who did what, the most often done first.
func (r *reporting) done(ctx context.Context) error {
	rows, err := r.ledger.Changes(ctx, r.out.Space, r.out.From, r.out.To, reportEntries)
	if err != nil {
		return err
	}
	at := map[[2]string]int{}
	for _, e := range access.Only(ctx, access.Logbook, rows, func(r logbook.Row) string { return r.Address }) {
		key := [2]string{e.Who, e.Action}
		i, known := at[key]
		if !known {
			i = len(r.out.Done)
			at[key] = i
			r.out.Done = append(r.out.Done, form.ReportDone{Who: e.Who, Action: e.Action, Addresses: []string{}})
		}
		d := &r.out.Done[i]
		if d.Times++; len(d.Addresses) < doneAddresses && !slices.Contains(d.Addresses, e.Address) {
			d.Addresses = append(d.Addresses, e.Address)
		}
	}
	slices.SortFunc(r.out.Done, func(a, b form.ReportDone) int {
		return cmp.Or(cmp.Compare(b.Times, a.Times), strings.Compare(a.Who, b.Who), strings.Compare(a.Action, b.Action))
	})
	r.out.Done = r.out.Done[:min(len(r.out.Done), reportDone)]
	return nil
}

// verdict says it in a sentence.
func (r *reporting) verdict() {
	came, atLeast, dead, fresh, open := int64(0), "", int64(0), 0, 0
	for _, c := range r.out.Channels {
		if c.Messages != nil {
			came += *c.Messages
		}
		if c.AtLeast || c.Messages == nil {
			atLeast = "at least "
		}
		dead += c.Dead
	}
	for _, c := range r.out.Causes {
		if c.New {
			fresh++
		}
	}
	for _, i := range r.out.Incidents {
		if i.EndedAt == nil {
			open++
		}
	}
	r.out.Says = fmt.Sprintf("%s%s came in; %s, of which %s; %s, %s; %s.", atLeast, words.Many(int(came), "message"), words.Many(len(r.out.Incidents), "incident"),
		words.Many(open, "goes on", "go on"), words.Many(int(dead), "dead letter")+" of queues now", words.Many(fresh, "new cause"), words.Many(len(r.out.Foreseen), "forecast"))
}
