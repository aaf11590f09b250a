package watches

import (
	"cmp"
	"context"
	"maps"
	"math"
	"slices"
	"time"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/sample"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/core/watch"
	"steadyferry/internal/engine/part"
)

// Bounds of a trial.
const (
	mostPast      = 30 * 24 * time.Hour
	mostTried     = 200 // things
	mostCrossings = 100 // that are told of each
	shownThings   = 20
	shownSteps    = 240 // of a curve
)

// CheckedTrial is Try for settings as somebody gave them.
func (ws *Watches) CheckedTrial(ctx context.Context, a address.Address, settings setting.Change, span time.Duration) (*form.WatchTrial, error) {
	if err := access.Check(ctx, access.Watch, a.String()); err != nil {
		return nil, err
	}
	w := &setting.Watch{}
	if old := ws.catalog.View().Watches[a.String()]; old != nil {
		*w = old.Watch
	} else {
		setting.Watches.SetDefaults(w, "")
	}
	if err := apply(w, a, settings); err != nil {
		return nil, err
	}
	if len(w.Keep) > 0 {
		return nil, problem.New(problem.Invalid, "%s keeps %s: it looks at no value, and has no past to be tried on", a, keptText(w)).Field("keep")
	}
	return ws.Try(ctx, w, span)
}

// Try says what a watch would have said of the last time. Of the last day it is exact; before
// that a peak within a step counts as having lasted for all of it.
func (ws *Watches) Try(ctx context.Context, w *setting.Watch, span time.Duration) (*form.WatchTrial, error) {
	r, err := watch.New(w)
	if err != nil {
		return nil, err
	}
	now := time.Now()
	at := Things(ws.catalog.View())
	things := coveredBy(r, at)
	slices.SortFunc(things, func(a, b sample.Thing) int { return cmp.Compare(at[a], at[b]) })
	out := &form.WatchTrial{Things: len(things), From: now.Add(-span).UTC(), Each: []form.TriedThing{}, Unit: r.Unit, Below: r.Below}
	out.Warn, out.Alarm, out.Calm = levels(r)
	things = things[:min(len(things), mostTried)]
	var figures []float64
	for kind, ids := range byKind(things) {
		deep, err := ws.samples.Deep(ctx, kind, ids, now.Add(-span), now)
		if err != nil {
			return nil, part.Explain(err, w.Of)
		}
		k := sample.Named(kind)
		for _, id := range ids {
			one, all := tryOne(r, k, deep[id], now)
			one.Address = at[sample.Thing{Kind: kind, ID: id}]
			one.Curve = curve(r, k, deep[id], now.Add(-span), now)
			figures = append(figures, all...)
			out.Rang, out.Alarms, out.Seconds = out.Rang+one.Rang, out.Alarms+one.Alarms, out.Seconds+one.Seconds
			out.Each = append(out.Each, one)
		}
	}
	out.Tried = len(out.Each)
	slices.SortStableFunc(out.Each, func(a, b form.TriedThing) int {
		return cmp.Or(cmp.Compare(b.Alarms, a.Alarms), cmp.Compare(b.Seconds, a.Seconds), cmp.Compare(a.Address, b.Address))
	})
	out.Each = out.Each[:min(len(out.Each), shownThings)]
	warn, alarm := r.Propose(figures)
	out.Proposed = form.TrialLevels{Warn: levelText(warn, r.Unit), Alarm: levelText(alarm, r.Unit)}
	return out, nil
}

func byKind(things []sample.Thing) map[string][]int64 {
	by := map[string][]int64{}
	for _, t := range things {
		by[t.Kind] = append(by[t.Kind], t.ID)
	}
	return by
}

func tryOne(r *watch.Rule, k *sample.Kind, blocks []*sample.Block, now time.Time) (one form.TriedThing, figures []float64) {
	crossings, _ := r.Try(k, blocks...)
	one.Rang, one.Crossings = len(crossings), []form.Crossing{}
	for _, c := range crossings {
		told := form.Crossing{BegunAt: c.Begun.UTC(), Worst: c.Worst.String(), Peak: c.Peak}
		end := now
		if !c.Ended.IsZero() {
			end = c.Ended.UTC()
			told.EndedAt = &end
		}
		if c.Worst == watch.Alarm {
			one.Alarms++
		}
		one.Seconds += max(end.Sub(c.Rang).Seconds(), 0)
		one.Crossings = append(one.Crossings, told)
	}
	one.Crossings = one.Crossings[max(0, len(one.Crossings)-mostCrossings):]
	for _, b := range blocks {
		figures = append(figures, r.Figures(k, b)...)
	}
	return one, figures
}

// curve has the worst figure of each of some equal steps.
func curve(r *watch.Rule, k *sample.Kind, blocks []*sample.Block, from, to time.Time) form.Curve {
	step := to.Sub(from) / shownSteps
	step = max(step.Truncate(sample.Levels[0].Step), sample.Levels[0].Step)
	out := form.Curve{Begin: from.Truncate(step).UTC(), StepSeconds: int(step / time.Second)}
	for _, b := range blocks {
		for i, x := range r.Figures(k, b) {
			at := int(b.Begin.Add(time.Duration(i)*b.Step).Sub(out.Begin) / step)
			if math.IsNaN(x) || at < 0 {
				continue
			}
			for len(out.Figures) <= at {
				out.Figures = append(out.Figures, nil)
			}
			if was := out.Figures[at]; was == nil || r.Worse(x, *was) {
				out.Figures[at] = &x
			}
		}
	}
	if out.Figures == nil {
		out.Figures = []*float64{}
	}
	return out
}

// levels are those of a rule, nil without one.
func levels(r *watch.Rule) (warn, alarm, calm *float64) {
	known := func(x float64) *float64 {
		if math.IsNaN(x) {
			return nil
		}
		return &x
	}
	w, a, c := r.Levels()
	return known(w), known(a), known(c)
}

func levelText(x float64, unit string) string {
	if math.IsNaN(x) {
		return ""
	}
	return watch.FormatLevel(x, unit)
}

// latest returns the last figure that is known of each thing, of the last minutes.
func (ws *Watches) latest(ctx context.Context, r *watch.Rule, things []sample.Thing) (map[sample.Thing]float64, error) {
	const lately = 2 * time.Minute
	now := time.Now()
	out := map[sample.Thing]float64{}
	if r.Keep != nil {
		view := ws.catalog.View()
		for _, t := range things {
			if kind, is := setAs(view, t); r.Keep.Of(kind) != nil {
				out[t] = float64(len(r.Keep.Astray(kind, is)))
			}
		}
		return out, nil
	}
	by := byKind(things)
	for _, kind := range slices.Sorted(maps.Keys(by)) {
		deep, err := ws.samples.Deep(ctx, kind, by[kind], now.Add(-lately), now)
		if err != nil {
			return nil, err
		}
		for id, blocks := range deep {
			for _, b := range blocks {
				for _, x := range r.Figures(sample.Named(kind), b) {
					if !math.IsNaN(x) {
						out[sample.Thing{Kind: kind, ID: id}] = x
					}
				}
			}
		}
	}
	return out, nil
}
