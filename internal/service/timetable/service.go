// Package timetable does by itself what people would do by hand, at its time. It owns chores
// and decides, on the node on duty, which of their times and incidents make a run. A run is a
// job: which one is made is recorded together with how far it is decided, so that each time
// makes one at most, whatever node dies. What a run does is an act (Act), made elsewhere. It
// may be called at once by many; acts are registered before the node runs.
package timetable

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/core/timetable"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/ledger"
	"steadyferry/internal/engine/part"
	"steadyferry/internal/service/change"
	"steadyferry/internal/service/jobs"
)

// Timetable is that of the cluster.
type Timetable struct {
	parts   *part.Registry
	catalog *catalog.Catalog
	ledger  ledger.Ledger
	jobs    *jobs.Jobs
	runs    *jobs.Kind[Spec, progress]
	acts    map[string]Act
}

// Act is one of the things that chores do.
type Act struct {
	// Needs and Takes are the settings that it must have, and those that it can have beside
	// them; all others that are of acts it refuses.
	Needs, Takes []string
	// Check says what is wrong with its settings, as far as that shows without a look at
	// what is there.
	Check func(c *setting.Chore) error
	// Plan says what it would do now.
	Plan func(ctx context.Context, c *setting.Chore) (*Plan, error)
	// Do does what can be done now, and reports whether that is all. It is called again
	// until it is, or has failed; by another node when one dies.
	Do func(ctx context.Context, d *Doing) (done bool, err error)
	// Stop ends what it has begun; may be nil.
	Stop func(ctx context.Context, d *Doing) error
}

// Plan is what a chore would do now.
type Plan struct {
	Messages int64
	Effects  []string
	Careful  bool // it loses something, or moves offsets
}

// New returns the service, and has jobs know how runs are run.
func New(parts *part.Registry, records *catalog.Catalog, js *jobs.Jobs) *Timetable {
	t := &Timetable{parts: parts, catalog: records, ledger: ledger.Of(records), jobs: js, acts: map[string]Act{}}
	t.runs = t.newKind()
	jobs.Register(js, t.runs)
	return t
}

// Register makes an act known.
func (t *Timetable) Register(name string, a Act) { t.acts[name] = a }

// Acts are what chores can do, by their names.
func (t *Timetable) Acts() []form.ChoreAct {
	all := []form.ChoreAct{}
	for _, name := range slices.Sorted(maps.Keys(t.acts)) {
		all = append(all, form.ChoreAct{Name: name, Needs: append([]string{}, t.acts[name].Needs...), Takes: append([]string{}, t.acts[name].Takes...)})
	}
	return all
}

// Of returns the record of a chore.
func (t *Timetable) Of(ctx context.Context, a address.Address) (*catalog.Chore, error) {
	return change.Find(ctx, t.catalog, "chore", a, func(v *catalog.View) map[string]*catalog.Chore { return v.Chores }, "ferry timetable lists those that there are")
}

// New makes a chore, or with preview only says what it would do.
func (t *Timetable) New(ctx context.Context, who string, a address.Address, settings setting.Change, preview bool) (*form.Chore, error) {
	if err := access.Check(ctx, access.Chore, a.String()); err != nil {
		return nil, err
	}
	if err := address.CheckName(a.Channel); err != nil || a.Group != "" {
		return nil, problem.New(problem.Invalid, "%s is no address of a chore", a).Field("address").Allowed("SPACE/NAME, or nodes/NAME for what is done to all")
	}
	c := &catalog.Chore{Owned: catalog.Owned{ID: catalog.NewOwnedID(), Space: a.Space, Name: a.Channel}, Since: time.Now(), By: who}
	if a.Space != address.Nodes {
		space, err := t.parts.Space(a.Space)
		if err != nil {
			return nil, err
		}
		c.SpaceID = sql.NullInt64{Int64: space.ID, Valid: true}
	}
	setting.Chores.SetDefaults(&c.Chore, "")
	setting.Chores.Apply(&c.Chore, settings)
	if err := t.check(&c.Chore, a); err != nil {
		return nil, err
	}
	if err := change.CheckTold(t.catalog.View(), c.Tell, nil); err != nil {
		return nil, err
	}
	if preview {
		out := t.describe(c, nil, time.Now())
		return &out, t.foresee(ctx, c, &out)
	}
	err := t.catalog.NewChore(ctx, c, &catalog.Entry{Who: who, Action: "new chore", Address: a.String(), After: setting.Chores.Show(&c.Chore, "")})
	if errors.Is(err, catalog.ErrExists) {
		return nil, problem.New(problem.Conflict, "%s exists already", a).Field("address").Next("ferry show %s tells what it is", a)
	}
	if err != nil {
		return nil, part.Explain(err, a.String())
	}
	if c, err = t.Of(ctx, a); err != nil {
		return nil, err
	}
	return t.Show(ctx, c)
}

// CheckNew says why a chore with the settings could not be made after what is coming, the
// kinds of other things by their addresses.
func (t *Timetable) CheckNew(a address.Address, settings setting.Change, coming map[string]string) error {
	c := &setting.Chore{}
	setting.Chores.SetDefaults(c, "")
	setting.Chores.Apply(c, settings)
	if err := t.check(c, a); err != nil {
		return err
	}
	return change.CheckTold(t.catalog.View(), c.Tell, coming)
}

// ofActs are the settings that some acts have and others do not.
var ofActs = []string{"of", "to", "cause", "where", "limit", "edits", "position", "why"}

// check says what is wrong with a chore.
func (t *Timetable) check(c *setting.Chore, a address.Address) error {
	if _, err := timetable.New(c, time.Now()); err != nil {
		return err
	}
	act, known := t.acts[c.Do]
	if !known {
		return problem.New(problem.Invalid, "do is %q", c.Do).Field("do").Allowed(strings.Join(slices.Sorted(maps.Keys(t.acts)), ", "))
	}
	for _, name := range ofActs {
		row := setting.Chores.Named(name)
		none := &setting.Chore{}
		has := fmt.Sprint(row.Get(c)) != fmt.Sprint(row.Get(none))
		switch {
		case slices.Contains(act.Needs, name) && !has:
			return problem.New(problem.Invalid, "a chore that does %s needs %s", c.Do, name).Field(name).Allowed(row.Form.Allowed)
		case has && !slices.Contains(act.Needs, name) && !slices.Contains(act.Takes, name):
			return problem.New(problem.Invalid, "a chore that does %s has no %s", c.Do, name).Field(name).Allowed(strings.Join(append(slices.Clone(act.Needs), act.Takes...), ", "))
		}
	}
	// A chore of a space touches nothing of others.
	for _, one := range []struct{ name, at string }{{"of", c.Of}, {"to", c.To}, {"when", c.When}} {
		space, _, _ := strings.Cut(one.at, "/")
		if one.at != "" && space != a.Space && a.Space != address.Nodes {
			return problem.New(problem.Invalid, "%s is %s, and the chore is of %s", one.name, one.at, a.Space).Field(one.name).Allowed("what begins with " + a.Space)
		}
	}
	if act.Check != nil {
		return act.Check(c)
	}
	return nil
}

// timed are the settings that decide when a chore runs: its times count anew when one of them
// is set.
var timed = []string{"at", "zone", "every", "when", "paused"}

// Set changes a chore, or with preview only says what that would do.
func (t *Timetable) Set(ctx context.Context, who string, a address.Address, settings setting.Change, preview bool) (p *form.Preview, err error) {
	if err := access.Check(ctx, access.Chore, a.String()); err != nil {
		return nil, err
	}
	err = change.UntilFresh(ctx, t.catalog, a.String(), func() error {
		old, err := t.Of(ctx, a)
		if err != nil {
			return err
		}
		c := *old
		if a, ok := access.In(ctx); ok && !access.IsNode(a) { // a watch that keeps it so is not who sets it
			c.By = who
		}
		setting.Chores.Apply(&c.Chore, settings)
		if err := t.check(&c.Chore, a); err != nil {
			return err
		}
		if err := change.CheckTold(t.catalog.View(), c.Tell, nil); settings["tell"] != nil && err != nil {
			return err
		}
		if p, err = change.Preview(ctx, t.catalog, a.String(), setting.Chores, &old.Chore, &c.Chore, ""); err != nil || len(p.After) == 0 {
			return err
		}
		again := slices.ContainsFunc(timed, func(name string) bool { return p.After[name] != nil })
		if s, err := timetable.New(&c.Chore, time.Now()); again && err == nil && !c.Paused {
			if next := s.Next(time.Now()); !next.IsZero() {
				p.Effects = append(p.Effects, "it runs next at "+next.UTC().Format(time.RFC3339))
			}
		}
		if preview {
			return nil
		}
		return t.catalog.SetChore(ctx, &c, again, &catalog.Entry{Who: who, Action: "set chore", Address: a.String(), Before: p.Before, After: p.After})
	})
	return p, err
}

// Remove deletes a chore, or with preview only says what that would do.
func (t *Timetable) Remove(ctx context.Context, who string, a address.Address, preview bool) (*form.Preview, error) {
	if err := access.Check(ctx, access.Chore, a.String()); err != nil {
		return nil, err
	}
	c, err := t.Of(ctx, a)
	if err != nil {
		return nil, err
	}
	p := &form.Preview{Address: a.String(), Effects: []string{"it runs no more; a run that goes on ends by itself, and what was done stays recorded"}}
	if preview {
		return p, nil
	}
	err = t.catalog.RemoveChore(ctx, c.ID, &catalog.Entry{Who: who, Action: "remove chore", Address: a.String(), Before: setting.Chores.Show(&c.Chore, "")})
	return p, part.Explain(err, a.String())
}
