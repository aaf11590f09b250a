package declare

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"steadyferry/internal/core/address"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/setting"
)

// spaceKeys are the settings of the space of a file, which stand at its top.
var spaceKeys = func() (names []string) {
	for _, s := range setting.Spaces {
		names = append(names, s.Name)
	}
	return names
}()

// What a file may have at its top, and beside the settings of a thing.
var fileKeys = slices.Concat([]string{"declaration", "include", "blocks", "nodes", "space"}, spaceKeys, []string{"topics", "queues", "endpoints", "watches", "chores", "roles", "masks"})

const maxUse = 20 // blocks of one thing

// file reads what a file declares.
func (r *reading) file(root *value) {
	for i := range root.fields {
		f := &root.fields[i]
		if !slices.Contains(fileKeys, f.name) {
			next := ""
			if near := address.Nearest(f.name, fileKeys); near != "" {
				next = "did you mean " + near + "?"
			}
			r.issue(f.place, fmt.Sprintf("%q is nothing that a file has", f.name), strings.Join(fileKeys, ", "), next)
		}
	}
	if name := root.named("declaration"); name != nil {
		r.name(name)
	}
	if nodes := root.named("nodes"); nodes != nil {
		r.thing("nodes", Nodes, nodes, nil)
	}
	space := root.named("space")
	if space == nil {
		r.inSpace(Named(setting.AWatch), Nodes, root)
		r.inSpace(Named(setting.AChore), Nodes, root)
		for _, k := range ofNoSpace {
			r.inSpace(k, k.Plural, root)
		}
		ofSpace := func(f field) bool {
			return slices.Contains(spaceKeys, f.name) || slices.Contains([]string{"topics", "queues", "endpoints"}, f.name)
		}
		if i := slices.IndexFunc(root.fields, ofSpace); i >= 0 {
			f := root.fields[i]
			r.issue(f.place, f.name+" needs a space", "", "say at the top which one it is of: space: NAME")
		}
		return
	}
	name, _ := space.scalar.(string)
	if err := address.CheckName(name); err != nil || space.kind != isScalar {
		r.issue(space.place, fmt.Sprintf("space is %s", shown(space)), "a name of 1 to 100 of a-z 0-9 . _ - that starts with a letter or a digit", "")
		return
	}
	for _, k := range ofNoSpace {
		if v := root.named(k.Plural); v != nil {
			r.issue(v.place, k.Plural+" are in no space", "", "put them into a file without one, such as "+NodesFile)
		}
	}
	own := value{place: space.place, kind: isMapping}
	for _, f := range root.fields {
		if slices.Contains(spaceKeys, f.name) {
			own.fields = append(own.fields, f)
		}
	}
	r.thing("space", name, &own, nil)
	r.channels("topic", name, root.named("topics"))
	r.channels("queue", name, root.named("queues"))
	for _, k := range ofSpaces {
		r.inSpace(k, name, root)
	}
}

// inSpace reads the things of a kind of a space, or of the nodes.
func (r *reading) inSpace(k *Kind, space string, root *value) {
	r.each(root.named(k.Plural), k.Plural, func(name string, f *field) {
		r.thing(k.Name, space+"/"+name, &f.value, []string{"use"})
	})
}

func (r *reading) name(v *value) {
	name, _ := v.scalar.(string)
	switch err := address.CheckName(name); {
	case err != nil:
		r.issue(v.place, fmt.Sprintf("declaration is %s", shown(v)), "a name of 1 to 100 of a-z 0-9 . _ - that starts with a letter or a digit", "")
	case r.out.Name != "" && r.out.Name != name:
		r.issue(v.place, fmt.Sprintf("the declaration is %s here and %s at %s", name, r.out.Name, r.named), "one name for all files of a directory", "")
	default:
		r.out.Name, r.named = name, v.place
	}
}

// each goes through the things of a section, whose names are checked.
func (r *reading) each(section *value, what string, do func(name string, f *field)) {
	r.eachNamed(section, what, address.CheckName, do)
}

func (r *reading) eachNamed(section *value, what string, check func(name string) error, do func(name string, f *field)) {
	if section == nil || section.kind == isScalar && section.scalar == nil {
		return
	}
	if section.kind != isMapping {
		r.issue(section.place, fmt.Sprintf("%s are %s", what, shown(section)), "a mapping of names to settings", "")
		return
	}
	for i := range section.fields {
		f := &section.fields[i]
		if err := check(f.name); err != nil {
			r.issue(f.place, err.Error(), "names of 1 to 100 of a-z 0-9 . _ - that start with a letter or a digit", "")
			continue
		}
		do(f.name, f)
	}
}

func (r *reading) channels(kind, space string, section *value) {
	r.each(section, kind+"s", func(name string, f *field) {
		at := space + "/" + name
		beside := []string{"use"}
		for _, k := range readersOf(kind) {
			beside = append(beside, k.Plural)
		}
		r.thing(kind, at, &f.value, beside)
		for _, k := range readersOf(kind) {
			r.eachNamed(f.value.named(k.Plural), k.Plural, address.CheckReader, func(reader string, g *field) {
				a := address.Channel(space, name)
				a.Group = reader
				r.thing(k.Name, a.String(), &g.value, []string{"use", "from"})
			})
		}
	})
}

// thing reads one thing: its blocks, its settings, and where a group starts.
func (r *reading) thing(kind, at string, v *value, beside []string) {
	if v.kind == isScalar && v.scalar == nil {
		v = &value{place: v.place, kind: isMapping}
	}
	if v.kind != isMapping {
		r.issue(v.place, fmt.Sprintf("%s is %s", at, shown(v)), "a mapping of settings", "")
		return
	}
	t := Thing{Kind: kind, Address: at, Settings: map[string]any{}, Place: v.place}
	key := t.key()
	switch kind {
	case "topic", "queue", "endpoint", setting.AWatch, setting.AChore:
		key = "channel " + at
	case "group", "route":
		key = "reader " + at
	}
	if known, twice := r.seen[key]; twice && kind != "space" {
		r.issue(v.place, fmt.Sprintf("%s is declared at %s too", at, known), "", "")
		return
	} else if twice {
		r.issue(v.place, fmt.Sprintf("space %s is declared at %s too", at, known), "one file for each space", "")
		return
	}
	r.seen[key] = v.place
	k := Named(kind)
	own, places := r.settingsOf(k, v, beside)
	for name, one := range own {
		normal, err := k.Normal(map[string]any{name: one.plain()})
		var p *problem.Problem
		switch {
		case errors.As(err, &p):
			r.issue(places[name], at+": "+p.Detail, p.Range, p.Then)
		case err != nil:
			r.issue(places[name], at+": "+err.Error(), "", "")
		default:
			t.Settings[name] = normal[name]
		}
	}
	if from := v.named("from"); from != nil && slices.Contains(beside, "from") {
		text, _ := from.scalar.(string)
		if _, err := address.ParsePosition(text); err != nil {
			var wrong *address.Error
			errors.As(err, &wrong)
			r.issue(from.place, fmt.Sprintf("from is %s", shown(from)), wrong.Allowed, "")
		}
		t.From = text
	}
	r.out.Things = append(r.out.Things, t)
}

// settingsOf returns the settings of a thing by their names: those of its blocks,
// in their order, and then its own. places are where each is said.
func (r *reading) settingsOf(k *Kind, v *value, beside []string) (own map[string]*value, places map[string]Place) {
	own, places = map[string]*value{}, map[string]Place{}
	if use := v.named("use"); use != nil && slices.Contains(beside, "use") {
		texts := use.texts()
		if len(texts) == 0 || len(texts) > maxUse {
			r.issue(use.place, fmt.Sprintf("use is %s", shown(use)), fmt.Sprintf("the name of a block, or a list of up to %d", maxUse), "")
		}
		for _, one := range texts {
			block := r.blocks[one.text]
			if block == nil {
				r.issue(one.place, fmt.Sprintf("there is no block %q", one.text), strings.Join(r.blockNames(), ", "), "")
				continue
			}
			for i := range block.value.fields {
				f := &block.value.fields[i]
				// Of a block a thing takes the settings that its kind has.
				if k.row(f.name) != nil {
					own[f.name], places[f.name] = &f.value, f.place
				}
			}
		}
	}
	for i := range v.fields {
		f := &v.fields[i]
		if slices.Contains(beside, f.name) {
			continue
		}
		if k.row(f.name) == nil {
			names := slices.Clone(beside)
			for _, row := range k.Rows {
				names = append(names, row.Name)
			}
			next := ""
			if near := address.Nearest(f.name, names); near != "" {
				next = "did you mean " + near + "?"
			}
			r.issue(f.place, fmt.Sprintf("a %s has no %s", k.Name, f.name), strings.Join(names, ", "), next)
			continue
		}
		own[f.name], places[f.name] = &f.value, f.value.place
	}
	return own, places
}

func (r *reading) blockNames() (names []string) {
	for name := range r.blocks {
		names = append(names, name)
	}
	slices.Sort(names)
	return names
}

// shown is a value for people.
func shown(v *value) string {
	switch {
	case v.kind == isList:
		return "a list"
	case v.kind == isMapping:
		return "a mapping"
	case v.scalar == nil:
		return "empty"
	}
	if text, ok := v.scalar.(string); ok {
		return fmt.Sprintf("%q", text)
	}
	return fmt.Sprint(v.scalar)
}
