package declares

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strings"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/declare"
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/queue"
	"steadyferry/internal/core/ranges"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/logbook"
	"steadyferry/internal/engine/part"
	"steadyferry/internal/service/queues"
)

// wayBack does what takes an entry's act back, or with preview only says what that would do.
type wayBack func(ctx context.Context, who string, preview bool) (*form.Preview, error)

// Undo takes back what an entry of the logbook tells, as far as there is a way, or with preview only says what that
// would do: it is an act like any other, for which whoever asks needs the same rights, and which has its
// own entry. Where something has been set again since, it is refused.
func (d *Declares) Undo(ctx context.Context, who string, id int64, preview bool) (*form.Preview, error) {
	rows, err := logbook.Entries(ctx, d.catalog, logbook.Asked{Before: id + 1, Limit: 1})
	if err != nil {
		return nil, part.Explain(err, "the logbook")
	}
	if len(rows) == 0 || rows[0].ID != id || !access.May(ctx, access.Logbook, rows[0].Address) {
		return nil, problem.New(problem.NotFound, "there is no entry %d", id).Field("entry").Next("ferry logbook lists entries with their numbers")
	}
	e := &rows[0]
	back := d.wayBack(e)
	if back == nil {
		return nil, problem.New(problem.Conflict, "there is no way back from entry %d: %s of %s, %s", id, e.Action, e.Address, e.Outcome).Next("%s", otherwise(e))
	}
	p, err := back(ctx, who, preview)
	if p == nil && err == nil {
		p = &form.Preview{Address: e.Address}
	}
	return p, err
}

// HasWayBack reports whether there is a way back from what an entry tells, as far as it shows.
func (d *Declares) HasWayBack(e *logbook.Row) bool { return d.wayBack(e) != nil }

// otherwise is what can be done where there is no way back.
func otherwise(e *logbook.Row) string {
	switch verb, _, _ := strings.Cut(e.Action, " "); verb {
	case "discard":
		return fmt.Sprintf("ferry dead %s -undo brings back what was discarded, for as long as the queue keeps it", strings.TrimSuffix(e.Address, "/dead"))
	case "new":
		return fmt.Sprintf("ferry remove %s takes away what was made", e.Address)
	}
	return "what is set, and what is removed, can be taken back"
}

// wayBack returns what takes an entry's act back; nil when nothing does.
func (d *Declares) wayBack(e *logbook.Row) wayBack {
	verb, kind, _ := strings.Cut(e.Action, " ")
	before, after := fieldsOf(e.Before), fieldsOf(e.After)
	delete(after, "declaration")
	switch {
	case e.Outcome != catalog.Done:
		return nil
	case e.Action == "discard messages":
		return d.returnMeant(e, after)
	case verb == "remove" && (kind == setting.Topic || kind == setting.Queue):
		return func(ctx context.Context, who string, preview bool) (*form.Preview, error) {
			a, err := address.ParseChannel(e.Address)
			if err != nil || preview {
				return &form.Preview{Address: e.Address, Effects: []string{"it is brought back with all its messages, if that is not longer ago than removed channels are kept"}}, err
			}
			return nil, d.manage.RestoreChannel(ctx, who, a)
		}
	case verb == "remove" && slices.Contains([]string{setting.AWatch, setting.AChore, setting.ARole, setting.AMask}, kind) && len(before) > 0:
		return d.makeAgain(e.Address, kind, before)
	case verb == "set" && len(before) > 0 && (kind == setting.Person || kind == setting.Machine):
		return func(ctx context.Context, who string, preview bool) (*form.Preview, error) {
			_, name, _ := strings.Cut(e.Address, "/")
			p := d.catalog.View().Principal(name)
			if p == nil {
				return nil, part.Explain(catalog.ErrNotFound, e.Address)
			}
			if err := notSince(e, setting.Principals.Show(&p.Principal, ""), after); err != nil {
				return nil, err
			}
			settings, err := setting.Principals.Read(rawOf(before))
			if err != nil {
				return nil, err
			}
			return d.rights.SetPrincipal(ctx, who, name, settings, preview)
		}
	case verb == "set" && len(before) > 0 && d.kinds[kind].set != nil:
		return d.setBack(e, kind, before, after)
	}
	return nil
}

// returnMeant brings messages back that were discarded, where the entry tells all of them.
func (d *Declares) returnMeant(e *logbook.Row, after map[string]any) wayBack {
	told, _ := after["meant"].(map[string]any)
	offsets, ok := ranges.Parse(told)
	if !ok {
		return nil
	}
	return func(ctx context.Context, who string, preview bool) (*form.Preview, error) {
		t, err := d.queueAt(ctx, e.Address)
		if err != nil {
			return nil, err
		}
		s := queues.Selection{States: []queue.State{queue.Discarded}}
		for partition, all := range offsets {
			for _, o := range all {
				s.Messages = append(s.Messages, queues.Place{Partition: partition, Offset: o})
			}
		}
		r, err := d.queues.Act(ctx, t, s, queues.Action{Op: queue.OpUndo, Who: who, Why: fmt.Sprintf("entry %d is taken back", e.ID)}, preview)
		if err != nil {
			return nil, err
		}
		if r.Messages == 0 {
			return nil, problem.New(problem.Conflict, "none of the messages of entry %d can be brought back: they were already, or the queue keeps them no more", e.ID)
		}
		return &form.Preview{Address: e.Address, Effects: r.Effects, Messages: r.Messages, Done: r.Done}, nil
	}
}

// queueAt is the queue at which messages of an address are: of dead letters too, also of groups and routes.
func (d *Declares) queueAt(ctx context.Context, at string) (*part.Channel, error) {
	a, err := address.Parse(at)
	if err != nil {
		return nil, err
	}
	if a.Group != "" {
		a.Dead = false
		return d.groups.DeadQueue(ctx, a)
	}
	return d.parts.Channel(a)
}

// makeAgain makes a thing that was removed, as it was.
func (d *Declares) makeAgain(at, kind string, before map[string]any) wayBack {
	return func(ctx context.Context, who string, preview bool) (*form.Preview, error) {
		a, settings, err := d.asChange(at, kind, before, nil)
		if err != nil {
			return nil, err
		}
		c := &form.DeclareChange{Op: declare.Create, Kind: kind, Address: at, After: before}
		if err := d.kinds[kind].check(a, c, nil); err != nil || preview {
			return &form.Preview{Address: at, After: before, Effects: append(c.Effects, "it is created as it was")}, err
		}
		return nil, d.kinds[kind].create(ctx, who, a, c, settings)
	}
}

// setBack sets what was set as it was before, unless it is another thing by now.
func (d *Declares) setBack(e *logbook.Row, kind string, before, after map[string]any) wayBack {
	return func(ctx context.Context, who string, preview bool) (*form.Preview, error) {
		there := d.there(kind, e.Address)
		if there == nil {
			return nil, part.Explain(catalog.ErrNotFound, e.Address)
		}
		if err := notSince(e, there, after); err != nil {
			return nil, err
		}
		a, settings, err := d.asChange(e.Address, kind, before, there)
		if err != nil {
			return nil, err
		}
		return d.kinds[kind].set(ctx, who, a, settings, preview)
	}
}

// there is how a thing that can be declared is set now; nil when it is not there.
func (d *Declares) there(kind, at string) map[string]any {
	in, _, _ := strings.Cut(at, "/")
	for _, t := range d.There(func(space string) bool { return space == in }) {
		if t.Address == at && t.Kind == kind {
			return t.Settings
		}
	}
	return nil
}

// asChange reads an address, and settings as the logbook has them, as a change of what is there.
func (d *Declares) asChange(at, kind string, settings, there map[string]any) (a address.Address, change setting.Change, err error) {
	k := declare.Named(kind)
	normal, err := k.Normal(settings)
	if err != nil {
		return a, nil, err
	}
	if change, err = k.Change(normal, there); err != nil || kind == "nodes" {
		return a, change, err
	}
	a, err = address.Parse(at)
	return a, change, err
}

// notSince returns that what an entry has set was set again since.
func notSince(e *logbook.Row, there, after map[string]any) error {
	now := fieldsOf(jsonOf(there)) // as the logbook has values
	for _, name := range slices.Sorted(maps.Keys(after)) {
		if is := now[name]; !reflect.DeepEqual(is, after[name]) {
			return problem.New(problem.Conflict, "%s of %s was set again since entry %d: it is %v now", name, e.Address, e.ID, is).Next("ferry logbook %s tells by whom: take that back first, or set what is wanted", e.Address)
		}
	}
	return nil
}

func fieldsOf(raw json.RawMessage) map[string]any {
	fields := map[string]any{}
	if json.Unmarshal(raw, &fields) != nil || fields == nil {
		return map[string]any{}
	}
	return fields
}

func jsonOf(v any) json.RawMessage {
	b, err := json.Marshal(v)
	if err != nil {
		panic(err) // plain values
	}
	return b
}

func rawOf(fields map[string]any) map[string]json.RawMessage {
	raw := make(map[string]json.RawMessage, len(fields))
	for name, value := range fields {
		raw[name] = jsonOf(value)
	}
	return raw
}
