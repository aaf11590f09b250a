// Package chart tells how things hang together: who publishes, through which channels and
// routes it goes, who reads it and where it leaves, with what is measured of each and what is
// out of order; now, or at a time that is past. It only reads, and may be called at once by
// many.
package chart

import (
	"cmp"
	"context"
	"slices"
	"strings"
	"time"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/chart"
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/group"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/sample"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/core/watch"
	"steadyferry/internal/core/words"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/ledger"
	"steadyferry/internal/engine/part"
	"steadyferry/internal/service/groups"
	"steadyferry/internal/service/publishers"
	"steadyferry/internal/service/samples"
	"steadyferry/internal/service/watches"
)

// Charts are those of the cluster.
type Charts struct {
	parts      *part.Registry
	catalog    *catalog.Catalog
	samples    *samples.Samples
	watches    *watches.Watches
	groups     *groups.Groups
	publishers *publishers.Publishers
}

// New returns the service.
func New(parts *part.Registry, records *catalog.Catalog, measured *samples.Samples, ws *watches.Watches, gs *groups.Groups, ps *publishers.Publishers) *Charts {
	return &Charts{parts: parts, catalog: records, samples: measured, watches: ws, groups: gs, publishers: ps}
}

// Asked is which chart is wanted.
type Asked struct {
	Space  string    // empty: all
	Around string    // id of a thing; empty: the whole
	Steps  int       // links away from it
	At     time.Time // zero: now
	Most   int       // things, as far as folding goes
	Open   []string  // ids of folded things that stay apart
}

// The kinds of things on a chart that are none of their own elsewhere.
const (
	kindPublisher = "publisher"
	kindMembers   = "members"
)

// mostIncidents bounds how many incidents mark a chart.
const mostIncidents = 500

// drawing is a chart that is made.
type drawing struct {
	*Charts
	view    *catalog.View
	asked   Asked
	now     time.Time
	figures map[sample.Thing][]float64
	worst   map[string]form.Incident // by address
	out     *form.Chart
	there   map[string]bool
}

// Draw makes a chart.
func (cs *Charts) Draw(ctx context.Context, asked Asked) (*form.Chart, error) {
	d := &drawing{Charts: cs, view: cs.catalog.View(), asked: asked, now: time.Now(), worst: map[string]form.Incident{}, there: map[string]bool{}}
	if asked.Space != "" && d.view.Spaces[asked.Space] == nil {
		_, err := cs.parts.Space(asked.Space)
		return nil, err
	}
	d.out = &form.Chart{At: d.now.UTC(), Now: asked.At.IsZero(), Things: []form.ChartThing{}, Links: []form.ChartLink{}}
	if !d.out.Now {
		d.now, d.out.At = asked.At, asked.At.UTC()
	}
	if err := d.measure(ctx); err != nil {
		return nil, err
	}
	if err := d.trouble(ctx); err != nil {
		return nil, err
	}
	d.channels()
	d.readers()
	if d.out.Now {
		d.publishing(ctx)
		d.members(ctx)
	}
	d.seen(ctx)
	if asked.Around != "" {
		if !d.there[asked.Around] {
			return nil, problem.New(problem.NotFound, "%s is not on the chart", asked.Around).Field("around").Next("ferry show %s -chart lists what is", cmp.Or(asked.Space, "SPACE"))
		}
		chart.Around(d.out, asked.Around, asked.Steps)
	}
	open := map[string]bool{}
	for _, id := range asked.Open {
		open[id] = true
	}
	chart.Fold(d.out, asked.Most, open)
	return d.out, nil
}

// seen leaves out what whoever asks may not see, and who publishes there or reads from it.
func (d *drawing) seen(ctx context.Context) {
	ends := func(t form.ChartThing) bool { return t.Kind == "publisher" || t.Kind == "members" }
	hidden := func(id string) bool { delete(d.there, id); return true }
	d.out.Things = slices.DeleteFunc(d.out.Things, func(t form.ChartThing) bool {
		return !ends(t) && !access.May(ctx, access.SeeCounts, t.ID) && hidden(t.ID)
	})
	d.out.Links = slices.DeleteFunc(d.out.Links, func(l form.ChartLink) bool { return !d.there[l.From] || !d.there[l.To] })
	linked := map[string]bool{}
	for _, l := range d.out.Links {
		linked[l.From], linked[l.To] = true, true
	}
	d.out.Things = slices.DeleteFunc(d.out.Things, func(t form.ChartThing) bool { return ends(t) && !linked[t.ID] && hidden(t.ID) })
}

// measure reads the figures of the time.
func (d *drawing) measure(ctx context.Context) (err error) {
	if d.out.Now {
		d.figures = d.samples.Now(ctx)
		return nil
	}
	things := []sample.Thing{}
	for t, at := range watches.Things(d.view) {
		if space, _, _ := strings.Cut(at, "/"); d.asked.Space == "" || space == d.asked.Space {
			things = append(things, t)
		}
	}
	d.figures, err = d.samples.Then(ctx, things, d.now)
	return err
}

// trouble finds the worst incident of each thing at the time.
func (d *drawing) trouble(ctx context.Context) error {
	all, err := d.watches.Incidents(ctx, ledger.IncidentsAsked{Open: d.out.Now, Space: d.asked.Space, From: d.asked.At, Limit: mostIncidents})
	for _, i := range all {
		if i.BegunAt.After(d.now) || i.EndedAt != nil && i.EndedAt.Before(d.now) {
			continue
		}
		at := strings.TrimSuffix(i.Address, "/dead")
		level := i.State
		if !d.out.Now {
			level = i.Worst
		}
		i.State = level
		if was, known := d.worst[at]; !known || was.State == watch.Warn.String() && level == watch.Alarm.String() {
			d.worst[at] = i
		}
	}
	return err
}

// figure is a measured value of a thing.
func (d *drawing) figure(k *sample.Kind, id int64, name string) float64 {
	values := d.figures[sample.Thing{Kind: k.Name, ID: id}]
	if i := k.Place(name); i < len(values) {
		return values[i]
	}
	return sample.Unknown
}

// put puts a thing on the chart, with what is out of order with it.
func (d *drawing) put(t form.ChartThing) {
	if d.there[t.ID] {
		return
	}
	d.there[t.ID] = true
	t.Level = watch.Calm.String()
	if i, bad := d.worst[t.ID]; bad {
		t.Level, t.Says = i.State, i.Says
		if d.out.Now {
			t.Incident = i.Number
		}
	}
	if t.Facts == nil {
		t.Facts = []form.ChartFact{}
	}
	d.out.Things = append(d.out.Things, t)
}

func (d *drawing) link(from, to string, rate float64) {
	d.out.Links = append(d.out.Links, form.ChartLink{From: from, To: to, Rate: known(rate)})
}

// known is a figure, or nothing.
func known(x float64) float64 {
	if x != x {
		return 0
	}
	return x
}

func (d *drawing) has(space string) bool { return d.asked.Space == "" || d.asked.Space == space }

// facts are values of a thing for people, those that are known.
func (d *drawing) facts(k *sample.Kind, id int64, names ...string) (all []form.ChartFact) {
	for _, name := range names {
		if x := d.figure(k, id, name); x == x {
			all = append(all, form.ChartFact{Name: strings.ReplaceAll(name, "-", " "), Text: watch.Format(x, k.Values[k.Place(name)].Unit)})
		}
	}
	return all
}

func (d *drawing) channels() {
	for at, ch := range d.view.Channels {
		if !ch.GroupID.Valid && d.has(ch.Space) {
			d.channel(at, ch)
		}
	}
}

func (d *drawing) channel(at string, ch *catalog.Channel) {
	of := func(name string) float64 { return d.figure(sample.Channel, ch.ID, name) }
	t := form.ChartThing{ID: at, Kind: ch.Kind, Name: ch.Name, Space: ch.Space, State: "ready", Rate: known(of("in-rate"))}
	if ch.Kind == setting.Queue {
		t.Facts = d.facts(sample.Channel, ch.ID, "waiting", "leased", "dead", "oldest-waiting", "in-rate")
		t.Says = words.Many(int(known(of("waiting"))), "message waits", "messages wait") + ", " + words.Many(int(known(of("dead"))), "dead letter")
	} else {
		t.Facts = d.facts(sample.Channel, ch.ID, "in-rate", "out-rate", "messages", "bytes", "silent-for")
		t.Says = words.Many(int(known(of("messages"))), "message") + " kept"
	}
	switch {
	case of("leaderless") > 0:
		t.State = "no-leader"
	case of("replicas-missing") > 0:
		t.State = "replicas-missing"
	case of("dead") > 0:
		t.State = "dead"
	}
	d.put(t)
}

// readers puts in groups and routes, and what routes lead to.
func (d *drawing) readers() {
	for _, g := range d.view.GroupIDs {
		ch := d.view.Channel(g.ChannelID)
		if ch == nil || !d.has(ch.Space) {
			continue
		}
		at := ch.Reader(g.Name)
		rate := known(d.figure(sample.Group, g.ID, "out-rate"))
		t := form.ChartThing{ID: at, Kind: g.Kind(), Name: g.Name, Space: ch.Space, Rate: rate, Paused: g.Paused, State: string(group.OfSeverity(int(known(d.figure(sample.Group, g.ID, "severity"))))),
			Facts: d.facts(sample.Group, g.ID, "lag", "lag-age", "in-rate", "out-rate", "sent-rate", "members")}
		t.Says = words.Many(int(known(d.figure(sample.Group, g.ID, "lag"))), "message") + " behind"
		if g.Paused {
			t.State = "paused"
		}
		if dead := d.view.DeadOf[g.ID]; dead != nil {
			t.Facts = append(t.Facts, d.facts(sample.Channel, dead.ID, "dead")...)
		}
		d.put(t)
		d.link(d.sourceOf(ch), at, rate)
		if g.Route != nil {
			d.target(at, g.Route.Target, d.figure(sample.Group, g.ID, "sent-rate"))
		}
	}
}

// sourceOf is the thing that a channel is on the chart: dead letters are those of their queue,
// group or route.
func (d *drawing) sourceOf(ch *catalog.Channel) string {
	if g := d.view.GroupIDs[ch.GroupID.Int64]; ch.GroupID.Valid && g != nil {
		if of := d.view.Channel(g.ChannelID); of != nil {
			return of.Reader(g.Name)
		}
	}
	return ch.Address()
}

// target puts in what a route leads to, also when that is of another space.
func (d *drawing) target(route string, id int64, rate float64) {
	if ch := d.view.Channel(id); ch != nil {
		d.channel(ch.Address(), ch)
		d.link(route, ch.Address(), rate)
		return
	}
	e := d.view.Endpoint(id)
	if e == nil {
		return
	}
	t := form.ChartThing{ID: e.Address(), Kind: setting.AnEndpoint, Name: e.Name, Space: e.Space, State: "well", Says: "it takes what comes", Facts: d.facts(sample.Endpoint, e.ID, "endpoint-failing")}
	if d.figure(sample.Endpoint, e.ID, "endpoint-failing") > 0 {
		t.State, t.Says = "failing", "it does not take what is sent"
	}
	t.Facts = append(t.Facts, form.ChartFact{Name: "address", Text: e.URL})
	d.put(t)
	d.link(route, e.Address(), rate)
}

// publishing puts in who has published in the last hour.
func (d *drawing) publishing(ctx context.Context) {
	for _, p := range d.publishers.Seen(ctx) {
		ch := d.view.Channel(p.Channel)
		if ch == nil || !d.there[ch.Address()] {
			continue
		}
		id := kindPublisher + ":" + p.Name
		t := form.ChartThing{ID: id, Kind: kindPublisher, Name: p.Name, Space: ch.Space, State: "idle", Says: "published last " + address.FormatDuration(max(d.now.Sub(p.Last), 0).Round(time.Second)) + " ago"}
		if p.Rate > 0 {
			t.State = "running"
		}
		d.put(t)
		i := slices.IndexFunc(d.out.Things, func(t form.ChartThing) bool { return t.ID == id })
		d.out.Things[i].Rate += p.Rate
		d.link(id, ch.Address(), p.Rate)
	}
}

// members puts in who reads in groups.
func (d *drawing) members(ctx context.Context) {
	lags, err := d.groups.Lag(ctx, nil, nil)
	if err != nil {
		return // who reads is not known
	}
	for _, l := range lags {
		at := part.GroupAddress(l.Topic, l.Group.Name).String()
		if len(l.Members) == 0 || l.Group.Route != nil || !d.there[at] {
			continue
		}
		t := form.ChartThing{ID: kindMembers + ":" + at, Kind: kindMembers, Name: words.Many(len(l.Members), "member"), Space: l.Topic.Address().Space, State: "running", Rate: l.CommitRate}
		names := []string{}
		for _, m := range l.Members {
			name := cmp.Or(m.Member.Label, m.ID)
			names = append(names, name)
			t.Facts = append(t.Facts, form.ChartFact{Name: name, Text: words.Many(len(m.Partitions), "partition")})
		}
		t.Says = strings.Join(names, ", ")
		d.put(t)
		d.link(at, t.ID, l.CommitRate)
	}
}
