package watches

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"slices"
	"strings"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/core/watch"
	"steadyferry/internal/core/words"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/part"
	"steadyferry/internal/service/change"
)

// Of returns the record of a watch.
func (ws *Watches) Of(ctx context.Context, a address.Address) (*catalog.Watch, error) {
	return change.Find(ctx, ws.catalog, "watch", a, func(v *catalog.View) map[string]*catalog.Watch { return v.Watches }, "ferry watches lists those that there are")
}

// New makes a watch.
func (ws *Watches) New(ctx context.Context, who string, a address.Address, settings setting.Change) (*catalog.Watch, error) {
	if err := access.Check(ctx, access.Watch, a.String()); err != nil {
		return nil, err
	}
	if err := address.CheckName(a.Channel); err != nil || a.Group != "" {
		return nil, problem.New(problem.Invalid, "%s is no address of a watch", a).Field("address").Allowed("SPACE/NAME, or nodes/NAME for what is watched of nodes")
	}
	w := &catalog.Watch{Owned: catalog.Owned{ID: catalog.NewOwnedID(), Space: a.Space, Name: a.Channel}}
	if a.Space != address.Nodes {
		space, err := ws.parts.Space(a.Space)
		if err != nil {
			return nil, err
		}
		w.SpaceID = sql.NullInt64{Int64: space.ID, Valid: true}
	}
	if err := ws.fill(&w.Watch, a, settings, nil); err != nil {
		return nil, err
	}
	if err := mayKeep(ctx, &w.Watch); err != nil {
		return nil, err
	}
	err := ws.catalog.NewWatch(ctx, w, &catalog.Entry{Who: who, Action: "new watch", Address: a.String(), After: setting.Watches.Show(&w.Watch, "")})
	if errors.Is(err, catalog.ErrExists) {
		return nil, problem.New(problem.Conflict, "%s exists already", a).Field("address").Next("ferry show %s tells what it is", a)
	}
	if err != nil {
		return nil, part.Explain(err, a.String())
	}
	return ws.Of(ctx, a)
}

// fill sets what a watch is, with defaults for what is not said, and checks it.
func (ws *Watches) fill(w *setting.Watch, a address.Address, settings setting.Change, coming map[string]string) error {
	setting.Watches.SetDefaults(w, "")
	if err := apply(w, a, settings); err != nil {
		return err
	}
	return change.CheckTold(ws.catalog.View(), w.Tell, coming)
}

// CheckNew says why a watch with the settings could not be made after what is coming, the
// kinds of other things by their addresses.
func (ws *Watches) CheckNew(a address.Address, settings setting.Change, coming map[string]string) error {
	return ws.fill(&setting.Watch{}, a, settings, coming)
}

// apply makes a change of settings, and says what is wrong with it.
func apply(w *setting.Watch, a address.Address, settings setting.Change) error {
	setting.Watches.Apply(w, settings)
	if _, err := watch.New(w); err != nil {
		return err
	}
	if _, err := watch.NewTelling(w); err != nil {
		return problem.New(problem.Invalid, "%v", err).Field("quiet")
	}
	// A watch of a space sees nothing of others.
	if of, _, _ := strings.Cut(w.Of, "/"); of != a.Space {
		return problem.New(problem.Invalid, "of is %s, and the watch is of %s", w.Of, a.Space).Field("of").Allowed(fmt.Sprintf("what begins with %s, such as %s/*", a.Space, a.Space))
	}
	return nil
}

// Set changes a watch, or with preview only says what that would do.
func (ws *Watches) Set(ctx context.Context, who string, a address.Address, settings setting.Change, preview bool) (p *form.Preview, err error) {
	if err := access.Check(ctx, access.Watch, a.String()); err != nil {
		return nil, err
	}
	err = change.UntilFresh(ctx, ws.catalog, a.String(), func() error {
		old, err := ws.Of(ctx, a)
		if err != nil {
			return err
		}
		w := *old
		if err := apply(&w.Watch, a, settings); err != nil {
			return err
		}
		if err := change.CheckTold(ws.catalog.View(), w.Tell, nil); settings["tell"] != nil && err != nil {
			return err
		}
		if p, err = change.Preview(ctx, ws.catalog, a.String(), setting.Watches, &old.Watch, &w.Watch, ""); err != nil || len(p.After) == 0 {
			return err
		}
		if slices.ContainsFunc(judges, func(name string) bool { return p.After[name] != nil }) {
			if effects, err := ws.differs(ctx, &old.Watch, &w.Watch); err == nil {
				p.Effects = append(p.Effects, effects...)
			}
		}
		if p.After["keep"] != nil || p.After["of"] != nil {
			if err := mayKeep(ctx, &w.Watch); err != nil {
				return err
			}
		}
		if preview {
			return nil
		}
		return ws.catalog.SetWatch(ctx, &w, &catalog.Entry{Who: who, Action: "set watch", Address: a.String(), Before: p.Before, After: p.After})
	})
	return p, err
}

// mayKeep returns why whoever asks may not have a watch keep what it shall: it is the service that sets it
// right later, in their place.
func mayKeep(ctx context.Context, w *setting.Watch) error {
	if len(w.Keep) == 0 {
		return nil
	}
	on, err := address.ParsePattern(w.Of)
	if err != nil {
		return err
	}
	verbs := map[access.Verb]bool{}
	for name := range w.Keep {
		verbs[map[bool]access.Verb{true: access.Pause, false: access.SetUp}[name == "paused"]] = true
	}
	for v := range verbs {
		if err := access.CheckOn(ctx, v, on); err != nil {
			return err
		}
	}
	return nil
}

// judges are the settings that decide what a watch finds.
var judges = []string{"of", "value", "when", "warn", "alarm", "calm", "for"}

// differs says what a change would have meant for the past.
func (ws *Watches) differs(ctx context.Context, was, is *setting.Watch) ([]string, error) {
	before, err := ws.Try(ctx, was, mostPast)
	if err != nil {
		return nil, err
	}
	after, err := ws.Try(ctx, is, mostPast)
	if err != nil {
		return nil, err
	}
	return []string{fmt.Sprintf("in the last 30 days it would have rung %s (%s); as it is now, %s (%s)",
		words.Many(after.Rang, "time"), words.Many(after.Alarms, "alarm"), words.Many(before.Rang, "time"), words.Many(before.Alarms, "alarm"))}, nil
}

// Remove deletes a watch, or with preview only says what that would do.
func (ws *Watches) Remove(ctx context.Context, who string, a address.Address, preview bool) (*form.Preview, error) {
	if err := access.Check(ctx, access.Watch, a.String()); err != nil {
		return nil, err
	}
	w, err := ws.Of(ctx, a)
	if err != nil {
		return nil, err
	}
	p := &form.Preview{Address: a.String(), Effects: []string{"nothing is judged by it any more, and incidents of it that go on end; they are kept"}}
	if preview {
		return p, nil
	}
	err = ws.catalog.RemoveWatch(ctx, w.ID, &catalog.Entry{Who: who, Action: "remove watch", Address: a.String(), Before: setting.Watches.Show(&w.Watch, "")})
	return p, part.Explain(err, a.String())
}
