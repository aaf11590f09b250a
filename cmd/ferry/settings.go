package main

import (
	"flag"
	"maps"
	"strings"

	"steadyferry/internal/core/setting"
)

// givenSettings are the settings that flags have given, by their names, as JSON
// has them.
type givenSettings map[string]any

// settingFlags makes a flag of each thing that can be set on channels, groups
// and spaces; whether it fits what it is set on, the service tells.
func settingFlags(fs *flag.FlagSet) givenSettings {
	given := givenSettings{}
	define(fs, given, setting.Channels)
	define(fs, given, setting.Groups)
	define(fs, given, setting.Spaces)
	define(fs, given, setting.Endpoints)
	define(fs, given, setting.Watches)
	return given
}

func define[T any](fs *flag.FlagSet, given givenSettings, table setting.Table[T]) {
	for _, s := range table {
		help := s.Help
		if s.Form.Name != "switch" && s.Form.Name != "labels" && s.Form.Name != "edits" && s.Form.Name != "headers" {
			help += " (" + s.Form.Allowed
			if s.Default != "" {
				help += "; new: " + s.Default
			}
			help += ")"
		}
		if f := fs.Lookup(s.Flag()); f != nil { // of another table, with the same form
			if strings.HasPrefix(help, "of a") {
				f.Usage += "; " + strings.ReplaceAll(help, "`", "")
			}
			continue
		}
		fs.Var(&settingFlag{name: s.Name, form: s.Form, given: given}, s.Flag(), help)
	}
}

// with is the settings and something beside them.
func (g givenSettings) with(name string, value any) givenSettings {
	out := givenSettings{name: value}
	maps.Copy(out, g)
	return out
}

// settingFlag is the flag of one setting.
type settingFlag struct {
	name  string
	form  setting.Form
	given givenSettings
}

func (f *settingFlag) String() string { return "" }

func (f *settingFlag) IsBoolFlag() bool { return f.form.Name == "switch" }

func (f *settingFlag) Set(text string) error {
	value, err := f.form.Parse(f.name, text)
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
	f.given[f.name] = f.form.Show(value)
	return nil
}
