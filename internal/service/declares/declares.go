// Package declares makes of what is there what files declare: it says what would
// change, does it in an order that works, and tells where what is there has gone
// another way since. What a declaration has set is recorded as its own. It may be
// called at once by many; one apply runs at a time.
package declares

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/clock"
	"steadyferry/internal/core/declare"
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/core/words"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/ledger"
	"steadyferry/internal/engine/logbook"
	"steadyferry/internal/engine/part"
	rights "steadyferry/internal/service/access"
	"steadyferry/internal/service/change"
	"steadyferry/internal/service/cluster"
	"steadyferry/internal/service/endpoints"
	"steadyferry/internal/service/groups"
	"steadyferry/internal/service/manage"
	"steadyferry/internal/service/queues"
	"steadyferry/internal/service/routes"
	"steadyferry/internal/service/timetable"
	"steadyferry/internal/service/watches"
)

// Declares is the service.
type Declares struct {
	parts   *part.Registry
	catalog *catalog.Catalog
	cluster *cluster.Cluster
	manage  *manage.Manage
	groups  *groups.Groups
	routes  *routes.Routes
	outside *endpoints.Endpoints
	watches *watches.Watches
	chores  *timetable.Timetable
	rights  *rights.Service
	queues  *queues.Queues
	kinds   map[string]kind
}

// New returns the service.
func New(parts *part.Registry, records *catalog.Catalog, cl *cluster.Cluster, mg *manage.Manage, gs *groups.Groups, rs *routes.Routes, outside *endpoints.Endpoints, ws *watches.Watches, chores *timetable.Timetable, may *rights.Service, qs *queues.Queues) *Declares {
	d := &Declares{parts: parts, catalog: records, cluster: cl, manage: mg, groups: gs, routes: rs, outside: outside, watches: ws, chores: chores, rights: may, queues: qs}
	d.kinds = d.allKinds()
	return d
}

// MaxThings is how many things one declaration has.
const MaxThings = 50_000

// There returns what can be declared, as it is: of the spaces for which want is
// true, and what is set on all nodes together.
func (d *Declares) There(want func(space string) bool) []declare.Thing {
	view := d.catalog.View()
	things := []declare.Thing{{Kind: "nodes", Address: declare.Nodes, Settings: setting.Clusters.Show(new(d.cluster.Settings()), "")}}
	for name, s := range view.Spaces {
		if want(name) {
			things = append(things, declare.Thing{Kind: "space", Address: name, Settings: setting.Spaces.Show(&s.Space, "")})
		}
	}
	for at, ch := range view.Channels {
		if !want(ch.Space) {
			continue
		}
		if !ch.GroupID.Valid { // what holds a group's dead letters comes with it
			things = append(things, declare.Thing{Kind: ch.Kind, Address: at, Settings: setting.Channels.Show(&ch.Channel, ch.Kind)})
		}
		for name, g := range view.Groups[ch.ID] {
			things = append(things, declare.Thing{Kind: g.Kind(), Address: ch.Reader(name), Settings: setting.Groups.Show(&g.Group, g.Kind())})
		}
	}
	for at, e := range view.Endpoints {
		if want(e.Space) {
			things = append(things, declare.Thing{Kind: setting.AnEndpoint, Address: at, Settings: setting.Endpoints.Show(&e.Endpoint, e.Kind())})
		}
	}
	for at, w := range view.Watches {
		if w.Space == declare.Nodes || want(w.Space) {
			things = append(things, declare.Thing{Kind: setting.AWatch, Address: at, Settings: setting.Watches.Show(&w.Watch, ""), Itself: watches.CameItself(w)})
		}
	}
	for at, c := range view.Chores {
		if c.Space == declare.Nodes || want(c.Space) {
			things = append(things, declare.Thing{Kind: setting.AChore, Address: at, Settings: setting.Chores.Show(&c.Chore, "")})
		}
	}
	for at, r := range view.Roles {
		things = append(things, declare.Thing{Kind: setting.ARole, Address: at, Settings: setting.Roles.Show(&r.Role, "")})
	}
	for at, m := range view.Masks {
		things = append(things, declare.Thing{Kind: setting.AMask, Address: at, Settings: setting.Masks.Show(&m.Mask, "")})
	}
	for _, t := range things {
		declare.Named(t.Kind).Declarable(t.Settings)
	}
	declare.Sort(things)
	return things
}

// read checks what is declared, and returns it with settings as tables show them.
func (d *Declares) read(in []form.Thing) ([]declare.Thing, error) {
	if len(in) > MaxThings {
		return nil, problem.New(problem.TooLarge, "%s are declared", words.Many(len(in), "thing")).Field("things").Allowed(fmt.Sprintf("up to %d in one declaration", MaxThings))
	}
	things := make([]declare.Thing, len(in))
	seen := map[string]bool{}
	for i, t := range in {
		k := declare.Named(t.Kind)
		if k == nil {
			return nil, problem.New(problem.Invalid, "%s is a %q", t.Address, t.Kind).Field("things").Allowed(strings.Join(slices.Sorted(maps.Keys(d.kinds)), ", "))
		}
		if err := d.checkAddress(t); err != nil {
			return nil, err
		}
		if seen[t.Address] {
			return nil, problem.New(problem.Invalid, "%s is declared twice", t.Address).Field("things")
		}
		seen[t.Address] = true
		settings, err := k.Normal(t.Settings)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", t.Address, err)
		}
		things[i] = declare.Thing{Kind: t.Kind, Address: t.Address, Settings: settings, From: t.From}
	}
	return things, nil
}

func (d *Declares) checkAddress(t form.Thing) error {
	if t.Kind == "nodes" {
		if t.Address != declare.Nodes {
			return problem.New(problem.Invalid, "what is set on all nodes has the address %q", t.Address).Field("things").Allowed(declare.Nodes)
		}
		return nil
	}
	a, err := address.Parse(t.Address)
	if err != nil {
		return err
	}
	want := d.kinds[t.Kind].address
	if a.Kind() != want || a.Dead {
		return problem.New(problem.Invalid, "%s is the address of a %s, and declared as a %s", t.Address, a.Kind(), t.Kind).Field("things")
	}
	if place := d.kinds[t.Kind].place; place != "" && a.Space != place {
		return problem.New(problem.Invalid, "%s is declared as a %s", t.Address, t.Kind).Field("things").Allowed(place + "/NAME")
	}
	return nil
}

// Plan says what a declaration would change.
func (d *Declares) Plan(ctx context.Context, who, name string, in form.Declare) (*form.DeclarePlan, error) {
	p, _, err := d.plan(ctx, who, name, in)
	return p, err
}

func (d *Declares) plan(ctx context.Context, who, name string, in form.Declare) (*form.DeclarePlan, []declare.Thing, error) {
	if err := address.CheckName(name); err != nil {
		return nil, nil, problem.New(problem.Invalid, "the declaration: %v", err).Field("declaration").Allowed("names of 1 to 100 of a-z 0-9 . _ - that start with a letter or a digit")
	}
	things, err := d.read(in.Things)
	if err != nil {
		return nil, nil, err
	}
	spaces := map[string]bool{}
	for _, t := range things {
		// What is compared is told, and with -remove all that is in a space.
		at := t.Address
		if spaces[declare.SpaceOf(t)] = true; in.Remove {
			at = cmp.Or(declare.SpaceOf(t), at)
		}
		if err := access.Check(ctx, access.SeeCounts, at); err != nil {
			return nil, nil, err
		}
	}
	there := d.There(func(space string) bool { return spaces[space] })
	p := &form.DeclarePlan{Declaration: name, Changes: []form.DeclareChange{}}
	for _, c := range declare.Compare(things, there, in.Remove) {
		p.Changes = append(p.Changes, form.DeclareChange{Op: c.Op, Kind: c.Kind, Address: c.Address, Before: c.Before, After: c.After, From: c.From, Effects: []string{}, State: "planned"})
	}
	if err := d.takeOver(ctx, p, things); err != nil {
		return nil, nil, err
	}
	sum := sha256.New()
	if err := json.NewEncoder(sum).Encode(p.Changes); err != nil {
		return nil, nil, err
	}
	p.Basis = hex.EncodeToString(sum.Sum(nil))[:16]
	created, removed := map[string]string{}, map[string]bool{} // kinds, by address
	ctx = change.WithGoing(ctx, removed)
	for i := range p.Changes {
		c := &p.Changes[i]
		switch c.Op {
		case declare.Create:
			created[c.Address] = c.Kind
		case declare.Remove:
			removed[c.Address] = true
		}
		if err := d.foresee(ctx, who, name, c, created); err != nil {
			var wrong *problem.Problem
			if !errors.As(err, &wrong) || wrong.Kind == problem.CatalogAway || ctx.Err() != nil {
				return nil, nil, err
			}
			c.State, c.Problem = "refused", wrong.Error()
		}
	}
	return p, things, nil
}

// takeOver adds to a plan what it says of things that another declaration has:
// that they come to this one, or go although they are declared.
func (d *Declares) takeOver(ctx context.Context, p *form.DeclarePlan, things []declare.Thing) error {
	marks, err := ledger.Of(d.catalog).AllDeclared(ctx)
	if err != nil {
		return part.Explain(err, p.Declaration)
	}
	others := map[string]string{}
	for _, m := range marks {
		if m.Declaration != p.Declaration {
			others[m.Kind+" "+m.Address] = m.Declaration
		}
	}
	changed := map[string]bool{}
	for i := range p.Changes {
		c := &p.Changes[i]
		changed[c.Kind+" "+c.Address] = true
		if other := others[c.Kind+" "+c.Address]; other != "" && c.Op == declare.Remove {
			c.Effects = append(c.Effects, "it is declared by "+other)
		}
	}
	for _, t := range things {
		other := others[t.Kind+" "+t.Address]
		if other == "" || changed[t.Kind+" "+t.Address] {
			continue
		}
		p.Changes = append(p.Changes, form.DeclareChange{Op: declare.TakeOver, Kind: t.Kind, Address: t.Address, State: "planned",
			Effects: []string{fmt.Sprintf("declared by %s until now; %s takes it over", other, p.Declaration)}})
	}
	return nil
}

// foresee adds to a change what it means, or returns why it cannot be made.
func (d *Declares) foresee(ctx context.Context, who, name string, c *form.DeclareChange, created map[string]string) error {
	at, err := address.Parse(c.Address)
	if err != nil {
		return err
	}
	if c.Op == declare.Create {
		return d.kinds[c.Kind].check(at, c, created)
	}
	p, err := d.once(declare.By(ctx, name), who, c, true)
	if err == nil {
		c.Effects, c.Careful = append(c.Effects, p.Effects...), p.Careful || c.Op == declare.Remove
	}
	return err
}

// leaderTime is how long a change waits for a leader: a partition that was just
// created has none for a moment.
const leaderTime = 20 * time.Second

// do makes one change. What an apply that was cut off has made after all is made.
func (d *Declares) do(ctx context.Context, who string, c *form.DeclareChange) error {
	for end := time.Now().Add(leaderTime); ; {
		_, err := d.once(ctx, who, c, false)
		var p *problem.Problem
		switch {
		case !errors.As(err, &p):
			return err
		case p.Kind == problem.Unavailable && ctx.Err() == nil && time.Now().Before(end):
			clock.Wait(ctx, 100*time.Millisecond)
			continue
		case p.Kind == problem.Conflict && c.Op == declare.Create && d.isAlready(ctx, c):
			return nil
		}
		return err
	}
}

// isAlready reports whether what was to be created is there, as declared.
func (d *Declares) isAlready(ctx context.Context, c *form.DeclareChange) bool {
	if d.catalog.CatchUp(ctx) != nil {
		return false
	}
	t := declare.Thing{Kind: c.Kind, Address: c.Address, Settings: c.After}
	there := d.There(func(space string) bool { return space == declare.SpaceOf(t) })
	return len(declare.Compare([]declare.Thing{t}, there, false)) == 0
}

// once makes one change, or with preview says what a change of what is there does.
// What is only taken over is marked when all is done.
func (d *Declares) once(ctx context.Context, who string, c *form.DeclareChange, preview bool) (*form.Preview, error) {
	if c.Op == declare.TakeOver {
		return &form.Preview{}, nil
	}
	at, err := address.Parse(c.Address)
	if err != nil {
		return nil, err
	}
	k := d.kinds[c.Kind]
	if c.Op == declare.Remove {
		return k.remove(ctx, who, at, preview)
	}
	settings, err := declare.Named(c.Kind).Change(c.After, c.Before)
	if err != nil {
		return nil, err
	}
	if c.Op == declare.Set {
		return k.set(ctx, who, at, settings, preview)
	}
	return nil, k.create(ctx, who, at, c, settings)
}

// atOnce is how many channels are made at once.
const atOnce = 12

// Apply makes of what is there what is declared, and tells each change when it is
// made. It stops at the first that fails: what was done stays, and what is left is
// told as such.
func (d *Declares) Apply(ctx context.Context, who, name string, in form.Declare, tell func(form.DeclareChange) error) (*form.DeclarePlan, error) {
	release, ok, err := d.catalog.Claim(ctx, "apply")
	if err != nil {
		return nil, part.Explain(err, name)
	}
	if !ok {
		return nil, problem.New(problem.Conflict, "another declaration is applied at this moment").Next("look at ferry logbook, and at ferry diff again when it is done")
	}
	defer release()
	if err := d.catalog.CatchUp(ctx); err != nil {
		return nil, part.Explain(err, name)
	}
	p, things, err := d.plan(ctx, who, name, in)
	if err != nil {
		return nil, err
	}
	if in.Basis != "" && in.Basis != p.Basis {
		return nil, d.othersChanged(ctx, p)
	}
	for _, c := range p.Changes {
		if c.State == "refused" {
			return nil, problem.New(problem.Conflict, "%s", c.Problem).Next("nothing was changed")
		}
	}
	declared := declare.By(ctx, strings.TrimSpace(name+" "+in.Revision))
	failed := d.each(declared, who, p, tell)
	for i := range p.Changes {
		if p.Changes[i].State == "planned" {
			p.Changes[i].State = "left"
		}
	}
	if failed != nil {
		return p, failed
	}
	p.Done = true
	return p, part.Explain(d.mark(ctx, who, name, in.Revision, things), name)
}

// each makes the changes of a plan. Channels are made several at once; all else
// comes one after the other.
func (d *Declares) each(ctx context.Context, who string, p *form.DeclarePlan, tell func(form.DeclareChange) error) error {
	var mu sync.Mutex // of tell
	one := func(ctx context.Context, c *form.DeclareChange) error {
		err := d.do(ctx, who, c)
		mu.Lock()
		defer mu.Unlock()
		if c.State = "done"; err != nil {
			c.State, c.Problem = "failed", err.Error()
		}
		if told := tell(*c); told != nil {
			return told
		}
		return err
	}
	for begin := 0; begin < len(p.Changes); {
		end := begin + 1
		for isNewChannel(p.Changes[begin]) && end < len(p.Changes) && isNewChannel(p.Changes[end]) {
			end++
		}
		several, ctx := errgroup.WithContext(ctx)
		several.SetLimit(atOnce)
		for i := range p.Changes[begin:end] {
			c := &p.Changes[begin+i]
			several.Go(func() error {
				if ctx.Err() != nil {
					return ctx.Err()
				}
				return one(ctx, c)
			})
		}
		if err := several.Wait(); err != nil {
			return err
		}
		begin = end
	}
	return nil
}

func isNewChannel(c form.DeclareChange) bool {
	return c.Op == declare.Create && (c.Kind == "topic" || c.Kind == "queue")
}

// othersChanged says that what would be changed is something else than what was
// looked at.
func (d *Declares) othersChanged(ctx context.Context, p *form.DeclarePlan) error {
	wrong := problem.New(problem.Conflict, "what is there has changed since the diff: %s are to be made now", words.Many(len(p.Changes), "change")).Field("basis").Next("nothing was changed; look at ferry diff again")
	last, err := logbook.Entries(ctx, d.catalog, logbook.Asked{Limit: 3})
	if err != nil {
		return wrong
	}
	for _, e := range last {
		wrong.Detail += fmt.Sprintf("; %s by %s: %s", e.Action, e.Who, e.Address)
	}
	return wrong
}

// mark records what a declaration has set.
func (d *Declares) mark(ctx context.Context, who, name, revision string, things []declare.Thing) error {
	all := make([]ledger.Declared, len(things))
	for i, t := range things {
		settings, err := json.Marshal(t.Settings)
		if err != nil {
			return err
		}
		all[i] = ledger.Declared{Kind: t.Kind, Address: t.Address, Settings: settings}
	}
	return ledger.Of(d.catalog).SetDeclared(ctx, name, revision, who, all)
}
