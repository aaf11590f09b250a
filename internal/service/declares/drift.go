package declares

import (
	"context"
	"encoding/json"
	"maps"
	"reflect"
	"slices"
	"strings"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/declare"
	"steadyferry/internal/core/form"
	"steadyferry/internal/engine/ledger"
	"steadyferry/internal/engine/logbook"
	"steadyferry/internal/engine/part"
)

// Drift returns what is another way than declarations have it, by address.
func (d *Declares) Drift(ctx context.Context) ([]form.Drift, error) {
	marks, err := ledger.Of(d.catalog).AllDeclared(ctx)
	if err != nil {
		return nil, part.Explain(err, "declarations")
	}
	there := map[string]declare.Thing{}
	for _, t := range d.There(func(string) bool { return true }) {
		there[t.Kind+" "+t.Address] = t
	}
	drift := []form.Drift{}
	for _, m := range marks {
		if !access.May(ctx, access.SeeCounts, m.Address) {
			continue
		}
		found, err := d.driftOf(m, there)
		if err != nil {
			return nil, err
		}
		if len(found) == 0 {
			continue
		}
		who := ""
		if last, err := logbook.ChangesOf(ctx, d.catalog, m.Address, 1); err == nil && len(last) > 0 {
			who = last[0].Who
		}
		for i := range found {
			found[i].Who = who
		}
		drift = append(drift, found...)
	}
	return drift, nil
}

func (d *Declares) driftOf(m ledger.Declared, there map[string]declare.Thing) ([]form.Drift, error) {
	k := declare.Named(m.Kind)
	if k == nil {
		return nil, nil // of a later version
	}
	one := form.Drift{Kind: m.Kind, Address: m.Address, Declaration: m.Declaration, Revision: m.Revision, At: m.At.UTC()}
	t, known := there[m.Kind+" "+m.Address]
	if !known {
		return []form.Drift{one}, nil
	}
	var raw map[string]any
	if err := json.Unmarshal(m.Settings, &raw); err != nil {
		return nil, err
	}
	declared, err := k.Normal(raw)
	if err != nil {
		return nil, err
	}
	var found []form.Drift
	for _, row := range k.Rows {
		value, meant := declared[row.Name]
		if !meant || reflect.DeepEqual(value, t.Settings[row.Name]) {
			continue
		}
		d := one
		d.Setting, d.Declared, d.Is = row.Name, value, t.Settings[row.Name]
		d.Texts = [2]string{declare.Text(row, value), declare.Text(row, d.Is)}
		d.Back = k.Back(map[string]any{row.Name: value}, t.Settings)
		d.Line = strings.TrimSpace(declare.Line(row, d.Is, ""))
		found = append(found, d)
	}
	return found, nil
}

// Of returns which declaration has set the thing with the address, or nil: also
// while the catalog is away, which keeps nobody from looking at the thing.
func (d *Declares) Of(ctx context.Context, at string) *form.Declaration {
	if !d.catalog.AwaySince().IsZero() {
		return nil
	}
	m, err := ledger.Of(d.catalog).DeclaredOf(ctx, at)
	if err != nil {
		return nil
	}
	var settings map[string]any
	if json.Unmarshal(m.Settings, &settings) != nil {
		return nil
	}
	out := &form.Declaration{Declaration: m.Declaration, Revision: m.Revision, At: m.At.UTC(), Settings: slices.AppendSeq([]string{}, maps.Keys(settings))}
	slices.Sort(out.Settings)
	return out
}
