package term

import (
	"flag"
	"maps"
	"strings"

	"steadyferry/internal/core/setting"
)

// Given are the settings that flags have given, by their names, as JSON
// has them.
type Given map[string]any

// Define makes a flag of each setting of a table that there is no flag for yet.
func Define[T any](fs *flag.FlagSet, given Given, table setting.Table[T]) {
	for _, s := range table {
		help := s.Help
		if s.Form.Name != "switch" && s.Form.Name != "labels" && s.Form.Name != "edits" && s.Form.Name != "headers" {
			help += " (" + s.Form.Allowed
			if s.Default != "" {
				help += "; new: " + s.Default
			}
			help += ")"
		}
		if f := fs.Lookup(s.Flag()); f != nil { // of another table, under the same name
			if strings.HasPrefix(help, "of a") {
				f.Usage += "; " + strings.ReplaceAll(help, "`", "")
			}
			if known := f.Value.(*settingFlag); known.form.Allowed != s.Form.Allowed {
				known.others = append(known.others, s.Form)
			}
			continue
		}
		fs.Var(&settingFlag{name: s.Name, form: s.Form, given: given}, s.Flag(), help)
	}
}

// With is the settings and something beside them.
func (g Given) With(name string, value any) Given {
	out := Given{name: value}
	maps.Copy(out, g)
	return out
}

// settingFlag is the flag of one setting.
type settingFlag struct {
	name string
	form setting.Form
	// others are what it can be of other kinds of things; the service tells whether it fits.
	others []setting.Form
	given  Given
}

func (f *settingFlag) String() string { return "" }

func (f *settingFlag) IsBoolFlag() bool { return f.form.Name == "switch" }

func (f *settingFlag) Set(text string) error {
	form := f.form
	value, err := form.Parse(f.name, text)
	for _, other := range f.others {
		if also, wrong := other.Parse(f.name, text); err != nil && wrong == nil {
			form, value, err = other, also, nil
		}
	}
	if err != nil {
		return err
	}
	// Labels, headers, columns and edits may be given one by one.
	if labels, ok := value.(map[string]string); ok {
		if have, ok := f.given[f.name].(map[string]string); ok {
			maps.Copy(have, labels)
			return nil
		}
	}
	if edits, ok := value.([]string); ok && f.form.Name == "edits" {
		if have, ok := f.given[f.name].([]string); ok {
			value = append(have, edits...)
		}
	}
	f.given[f.name] = form.Show(value)
	return nil
}
