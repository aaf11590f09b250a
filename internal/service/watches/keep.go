package watches

import (
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"maps"
	"slices"
	"strings"
	"time"

	"steadyferry/internal/core/address"
	"steadyferry/internal/core/declare"
	"steadyferry/internal/core/sample"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/core/watch"
	"steadyferry/internal/core/words"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/ledger"
)

// Corrects sets a thing of a kind as it shall be.
type Corrects func(ctx context.Context, who, kind string, at address.Address, settings setting.Change) error

// Keep has what is kept be set right by a function, from now on. It is called before the node
// runs.
func (ws *Watches) Keep(f Corrects) { ws.correct = f }

// astray is a thing that is not set as a watch keeps it.
type astray struct {
	at, kind string
	settings []string
	given    bool // it is not set right any more: an incident begins
	until    time.Time
}

// setAs is the kind of a thing, and how it is set.
func setAs(view *catalog.View, t sample.Thing) (kind string, is map[string]any) {
	switch t.Kind {
	case sample.Channel.Name:
		if ch := view.Channel(t.ID); ch != nil && !ch.GroupID.Valid {
			return ch.Kind, setting.Channels.Show(&ch.Channel, ch.Kind)
		}
	case sample.Group.Name:
		if g := view.GroupIDs[t.ID]; g != nil {
			return g.Kind(), setting.Groups.Show(&g.Group, g.Kind())
		}
	case sample.Endpoint.Name:
		if e := view.Endpoint(t.ID); e != nil {
			return setting.AnEndpoint, setting.Endpoints.Show(&e.Endpoint, e.Kind())
		}
	}
	return "", nil
}

// astray is the figure of a thing under a watch that keeps it: how many settings are not as
// they shall be, once they are not set right by themselves any more. mu is held.
func (j *judging) astray(u under, r *ruled) float64 {
	kind, is := setAs(j.view, u.Thing)
	if r.Keep.Of(kind) == nil {
		return sample.Unknown
	}
	names := r.Keep.Astray(kind, is)
	if len(names) == 0 {
		delete(j.wrong, u)
		return 0
	}
	a := j.wrong[u]
	if a == nil || a.given && j.now.After(a.until) {
		a = &astray{}
		j.wrong[u] = a
	}
	a.at, a.kind, a.settings = j.at[u.Thing], kind, names
	if a.given {
		return float64(len(names))
	}
	return 0
}

// setRight sets things as they shall be, as long as that was not done too often.
func (ws *Watches) setRight(ctx context.Context) {
	ws.mu.Lock()
	todo := map[under]astray{}
	for u, a := range ws.wrong {
		if !a.given {
			todo[u] = *a
		}
	}
	ws.mu.Unlock()
	for u, a := range todo {
		given, until, err := ws.setOne(ctx, u, &a)
		if err != nil {
			if ctx.Err() == nil {
				slog.Warn("what a watch keeps could not be set right", "address", a.at, "error", err)
			}
			continue
		}
		ws.mu.Lock()
		if now := ws.wrong[u]; now != nil {
			if now.given, now.until = given, until; !given {
				delete(ws.wrong, u) // the next look tells
			}
		}
		ws.mu.Unlock()
	}
}

// setOne sets one thing right, or says that it was done too often, and until when that is so.
func (ws *Watches) setOne(ctx context.Context, u under, a *astray) (given bool, until time.Time, err error) {
	w := ws.watchOf(u.watch)
	if w == nil || w.Paused {
		return false, until, nil
	}
	since := time.Now().Add(-watch.CorrectionsIn)
	done, err := ws.ledger.Corrections(ctx, u.watch, u.Kind, u.ID, since)
	if err != nil {
		return false, until, err
	}
	if len(done) >= watch.MostCorrections {
		return true, done[0].Add(watch.CorrectionsIn), nil
	}
	r, err := watch.New(&w.Watch)
	if err != nil {
		return false, until, err
	}
	_, is := setAs(ws.catalog.View(), u.Thing)
	wanted := map[string]any{}
	for _, name := range r.Keep.Astray(a.kind, is) {
		wanted[name] = r.Keep.Of(a.kind)[name]
	}
	if len(wanted) == 0 {
		return false, until, nil
	}
	settings, err := declare.Named(a.kind).Change(wanted, is)
	if err != nil {
		return false, until, err
	}
	at, err := address.Parse(a.at)
	if err != nil {
		return false, until, err
	}
	by := ws.whoSet(ctx, a.at, wanted)
	// Recorded before it is done: what is not known to be done counts.
	if err := ws.ledger.AddCorrection(ctx, u.watch, u.Kind, u.ID); err != nil {
		return false, until, err
	}
	who := fmt.Sprintf("watch %s, after %s", w.Address(), by)
	return false, until, ws.correct(ctx, who, a.kind, at, settings)
}

func (ws *Watches) watchOf(id int64) *catalog.Watch {
	for _, w := range ws.catalog.View().Watches {
		if w.ID == id {
			return w
		}
	}
	return nil
}

// whoSet is who has changed one of the settings of a thing last.
func (ws *Watches) whoSet(ctx context.Context, at string, settings map[string]any) string {
	rows, err := ws.ledger.Changes(ctx, at, time.Now().AddDate(-1, 0, 0), time.Now().Add(time.Minute), mostEntries)
	if err != nil {
		return "somebody"
	}
	for _, e := range rows {
		var after map[string]any
		if e.Address != at || json.Unmarshal(e.After, &after) != nil {
			continue
		}
		for name := range settings {
			if _, set := after[name]; set {
				return e.Who
			}
		}
	}
	return "somebody"
}

// keptText says how things shall be set.
func keptText(w *setting.Watch) string {
	texts := []string{}
	for _, name := range slices.Sorted(maps.Keys(w.Keep)) {
		texts = append(texts, name+"="+w.Keep[name])
	}
	return strings.Join(texts, ", ")
}

// keptSays tells an incident of what is kept in a sentence.
func keptSays(i *ledger.Incident) string {
	return fmt.Sprintf("%s: %s, and set right %s within an hour: somebody means it", i.Address, words.Many(int(i.Peak), "setting is not as it shall be", "settings are not as they shall be"), words.Many(watch.MostCorrections, "time"))
}
