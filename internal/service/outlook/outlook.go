// Package outlook tells the engineer on call what is wrong, what will go wrong, what was
// changed and what is being done; and writes the report of a space. It only reads, and may be
// called at once by many.
package outlook

import (
	"context"
	"fmt"
	"sync"
	"time"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/job"
	"steadyferry/internal/core/outlook"
	"steadyferry/internal/core/sample"
	"steadyferry/internal/core/words"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/ledger"
	"steadyferry/internal/engine/logbook"
	"steadyferry/internal/engine/part"
	"steadyferry/internal/service/jobs"
	"steadyferry/internal/service/look"
	"steadyferry/internal/service/queues"
	"steadyferry/internal/service/samples"
	"steadyferry/internal/service/timetable"
	"steadyferry/internal/service/watches"
)

// Outlook is the service.
type Outlook struct {
	parts     *part.Registry
	catalog   *catalog.Catalog
	ledger    ledger.Ledger
	samples   *samples.Samples
	watches   *watches.Watches
	jobs      *jobs.Jobs
	queues    *queues.Queues
	look      *look.Look
	timetable *timetable.Timetable

	mu       sync.Mutex // guards foreseen
	foreseen map[string]foreseen
}

// New returns the service.
func New(parts *part.Registry, records *catalog.Catalog, measured *samples.Samples, ws *watches.Watches, js *jobs.Jobs, qs *queues.Queues, lk *look.Look, tt *timetable.Timetable) *Outlook {
	return &Outlook{parts: parts, catalog: records, ledger: ledger.Of(records), samples: measured, watches: ws, jobs: js, queues: qs, look: lk, timetable: tt, foreseen: map[string]foreseen{}}
}

// Bounds of an outlook.
const (
	mostWrong    = 200
	mostChanged  = 12
	mostDoing    = 50
	mostForecast = 20
	lately       = time.Hour
	waitingSpan  = 30 * time.Minute
	diskSpan     = 6 * time.Hour
)

// Seen is an outlook but for the words of what was changed.
type Seen struct {
	form.Outlook
	Changed []logbook.Row
}

// Now returns the outlook of a space, or of all.
func (o *Outlook) Now(ctx context.Context, space string) (*Seen, error) {
	now := time.Now()
	out := &Seen{}
	out.At = now.UTC()
	open, err := o.watches.Incidents(ctx, ledger.IncidentsAsked{Open: true, Space: space, Limit: mostWrong})
	if err != nil {
		return nil, err
	}
	out.Wrong = outlook.BySource(open)
	if len(open) == 0 {
		at, err := o.ledger.LastEnded(ctx, space)
		if err != nil {
			return nil, part.Explain(err, "incidents")
		}
		if !at.IsZero() {
			at = at.UTC()
			out.WellSince = &at
		}
	}
	if out.Changed, err = o.ledger.Changes(ctx, space, now.Add(-lately), now, mostChanged); err != nil {
		return nil, part.Explain(err, "the logbook")
	}
	out.Changed = access.Only(ctx, access.Logbook, out.Changed, func(r logbook.Row) string { return r.Address })
	if out.Doing, err = o.doing(ctx, space, now); err != nil {
		return nil, err
	}
	out.Foreseen, err = o.foresee(ctx, space, now)
	return out, err
}

// doing is what goes on, and what has ended badly lately.
func (o *Outlook) doing(ctx context.Context, space string, now time.Time) ([]form.Going, error) {
	all, err := o.jobs.List(ctx, mostDoing)
	if err != nil {
		return nil, err
	}
	out := []form.Going{}
	for _, j := range all {
		bad := j.State == job.Failed || j.State == job.Halted
		if j.Parent.Valid || j.State.Ended() && (!bad || now.Sub(j.EndedAt.Time) > lately) || !inSpace(j.Address, space) {
			continue
		}
		g := form.Going{Job: j.ID, Kind: j.Kind, Address: j.Address, State: string(j.State), Who: j.Who, Since: j.CreatedAt.UTC(), Says: j.Detail}
		if g.Says == "" && j.Total > 0 {
			g.Says = fmt.Sprintf("%s of %s", words.Count(j.Done), words.Count(j.Total))
		}
		out = append(out, g)
	}
	return out, nil
}

func inSpace(at, space string) bool {
	return space == "" || at == space || len(at) > len(space) && at[:len(space)+1] == space+"/"
}

// foreseen is what was foreseen of a space a moment ago.
type foreseen struct {
	at  time.Time
	all []form.Foreseen
}

// Of how many spaces it is known, and for how long that is good: lines through hours do not
// change in seconds.
const (
	foreseenFor  = 5 * time.Second
	foreseenMost = 64
)

// foresee tells what will go wrong, or what that was a moment ago.
func (o *Outlook) foresee(ctx context.Context, space string, now time.Time) ([]form.Foreseen, error) {
	o.mu.Lock()
	known := o.foreseen[space]
	o.mu.Unlock()
	seen := func(all []form.Foreseen) []form.Foreseen {
		return access.Only(ctx, access.SeeCounts, all, func(f form.Foreseen) string { return f.Address })
	}
	if now.Sub(known.at) < foreseenFor {
		return seen(known.all), nil
	}
	// For all who ask: each then sees what it may.
	all, err := o.lookAhead(access.As(ctx, access.Node("outlook")), space, now)
	if err != nil {
		return nil, err
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	if len(o.foreseen) >= foreseenMost {
		clear(o.foreseen)
	}
	o.foreseen[space] = foreseen{now, all}
	return seen(all), nil
}

// lookAhead tells what will go wrong. Of queues only those are looked at in which much waits.
func (o *Outlook) lookAhead(ctx context.Context, space string, now time.Time) ([]form.Foreseen, error) {
	figures := o.samples.Now(ctx)
	f := &foreseeing{o, now, watches.Things(o.catalog.View()), []form.Foreseen{}}
	queues, nodes := []int64{}, []int64{}
	for t, values := range figures {
		at := f.at[t]
		of := func(k *sample.Kind, name string) float64 { return values[k.Place(name)] }
		switch {
		case t.Kind == sample.Node.Name:
			nodes = append(nodes, t.ID)
			if left := of(sample.Node, "certificate-left"); left == left {
				f.add(outlook.Certificate(at, at, seconds(left), now))
			}
		case !inSpace(at, space):
		case t.Kind == sample.Endpoint.Name:
			if left := of(sample.Endpoint, "certificate-left"); left == left {
				f.add(outlook.Certificate(at, at, seconds(left), now))
			}
		case t.Kind == sample.Group.Name:
			if in := of(sample.Group, "loses-data-in"); in == in {
				f.add(outlook.Loss(at, seconds(in), now))
			}
		case t.Kind == sample.Channel.Name && of(sample.Channel, "waiting") >= outlook.LeastWaiting:
			queues = append(queues, t.ID)
		}
	}
	err := f.trends(ctx, sample.Channel, queues, "waiting", waitingSpan, func(at string, _ int64, t outlook.Trend) *form.Foreseen { return outlook.Waiting(at, t) })
	if err == nil {
		known := o.catalog.View().Nodes
		reserve := 0.0 // below which publishing is refused: as on this node
		if d, err := o.parts.Disk(); err == nil {
			reserve = float64(d.Reserve)
		}
		err = f.trends(ctx, sample.Node, nodes, "disk-free", diskSpan, func(at string, id int64, t outlook.Trend) *form.Foreseen {
			if n := known[uint64(id)]; n != nil {
				return outlook.Disk(at, n.Name, t, reserve, now)
			}
			return nil
		})
	}
	if err == nil {
		err = f.rooms(ctx, space)
	}
	outlook.Sort(f.out)
	return f.out[:min(len(f.out), mostForecast)], part.Explain(err, "measured values")
}

// foreseeing is what is foreseen, while it is gathered.
type foreseeing struct {
	*Outlook
	now time.Time
	at  map[sample.Thing]string
	out []form.Foreseen
}

func (f *foreseeing) add(one *form.Foreseen) {
	if one != nil && one.Address != "" {
		f.out = append(f.out, *one)
	}
}

// rooms foretells when spaces keep all that they may.
func (f *foreseeing) rooms(ctx context.Context, space string) error {
	for name, s := range f.catalog.View().Spaces {
		if s.MostKept == 0 || space != "" && space != name {
			continue
		}
		var ids []int64
		for _, t := range f.parts.ChannelsOf(name) {
			if !t.OfGroup() {
				ids = append(ids, t.ID)
			}
		}
		var lines []outlook.Trend
		err := f.trends(ctx, sample.Channel, ids, "bytes", diskSpan, func(_ string, _ int64, t outlook.Trend) *form.Foreseen {
			lines = append(lines, t)
			return nil
		})
		if err != nil {
			return err
		}
		f.add(outlook.Room(name, lines, float64(s.MostKept), f.now))
	}
	return nil
}

// Full tells when a space keeps all that it may, or nil when that is not foreseen.
func (o *Outlook) Full(ctx context.Context, space string) *time.Time {
	all, err := o.foresee(ctx, space, time.Now())
	for _, f := range all {
		if f.Kind == "space" && err == nil {
			return f.At
		}
	}
	return nil
}

// trends draws a line through a value of things over a span, and adds what follows.
func (f *foreseeing) trends(ctx context.Context, k *sample.Kind, ids []int64, value string, span time.Duration, says func(at string, id int64, t outlook.Trend) *form.Foreseen) error {
	if len(ids) == 0 {
		return nil
	}
	deep, err := f.samples.Deep(ctx, k.Name, ids, f.now.Add(-span), f.now)
	for id, blocks := range deep {
		at := f.at[sample.Thing{Kind: k.Name, ID: id}]
		for _, b := range blocks {
			if b.Step != samples.Every {
				continue // what is older stands in coarser steps
			}
			if t, ok := outlook.TrendOf(b.Columns[k.Place(value)], b.Step); ok && at != "" {
				f.add(says(at, id, t))
			}
		}
	}
	return err
}

func seconds(x float64) time.Duration { return time.Duration(x * float64(time.Second)) }
