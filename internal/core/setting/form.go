package setting

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"steadyferry/internal/core/address"
	"steadyferry/internal/core/edit"
	"steadyferry/internal/core/expr"
	"steadyferry/internal/core/problem"
)

// Form is a sort of values: how they are written, and which are allowed.
type Form struct {
	Name    string   // as Row tells
	Allowed string   // in words
	Choices []string // of a choice

	// Read takes a value as JSON has it, Parse one as a flag has it; both check
	// it. Show returns it as JSON has it. name is that of the setting.
	Read  func(name string, value any) (any, error)
	Parse func(name, text string) (any, error)
	Show  func(value any) any
}

func wrong(name, allowed, format string, args ...any) error {
	return problem.New(problem.Invalid, format, args...).Field(name).Allowed(allowed)
}

// unreadable says that a text is no value at all: in one sentence both how values
// are written and which are allowed.
func unreadable(name, allowed string, err error) error {
	var bad *address.Error
	if !errors.As(err, &bad) {
		return wrong(name, allowed, "%s: %v", name, err)
	}
	return wrong(name, fmt.Sprintf("%s; written as %s", allowed, bad.Allowed), "%s is %q: %s", name, bad.Text, bad.Problem)
}

func same(value any) any { return value }

// Number is whole numbers from least to most; more says what else is worth
// knowing. Values are int.
func Number(least, most int, more string) Form {
	f := Form{Name: "number", Allowed: fmt.Sprintf("%d to %d%s", least, most, more), Show: same}
	check := func(name string, n float64) (any, error) {
		if n != float64(int(n)) || int(n) < least || int(n) > most {
			return nil, wrong(name, f.Allowed, "%s is %s", name, strconv.FormatFloat(n, 'f', -1, 64))
		}
		return int(n), nil
	}
	f.Read = func(name string, value any) (any, error) {
		n, ok := value.(float64)
		if !ok {
			return nil, wrong(name, f.Allowed, "%s is %s", name, shown(value))
		}
		return check(name, n)
	}
	f.Parse = func(name, text string) (any, error) {
		n, err := strconv.ParseFloat(text, 64)
		if err != nil {
			return nil, wrong(name, f.Allowed, "%s is %q", name, text)
		}
		return check(name, n)
	}
	return f
}

// Size is bytes from least to most: a number in JSON, 10GiB as text. Values are
// int64.
func Size(least, most int64) Form {
	f := Form{Name: "size", Allowed: address.FormatSize(least) + " to " + address.FormatSize(most), Show: same}
	check := func(name string, n int64) (any, error) {
		if n < least || n > most {
			return nil, wrong(name, f.Allowed, "%s is %s", name, address.FormatSize(n))
		}
		return n, nil
	}
	f.Read = func(name string, value any) (any, error) {
		switch v := value.(type) {
		case float64:
			if v == float64(int64(v)) {
				return check(name, int64(v))
			}
		case string:
			return f.Parse(name, v)
		}
		return nil, wrong(name, f.Allowed, "%s is %s", name, shown(value))
	}
	f.Parse = func(name, text string) (any, error) {
		n, err := address.ParseSize(text)
		if err != nil {
			return nil, unreadable(name, f.Allowed, err)
		}
		return check(name, n)
	}
	return f
}

// Duration is times from least to most; zero, if it is not empty, says what 0s
// means, which is allowed then. Values are time.Duration.
func Duration(least, most time.Duration, zero string) Form {
	f := Form{Name: "duration", Allowed: address.FormatDuration(least) + " to " + address.FormatDuration(most)}
	switch {
	case zero != "" && least == 0:
		f.Allowed = fmt.Sprintf("0s (%s) to %s", zero, address.FormatDuration(most))
	case zero != "":
		f.Allowed = fmt.Sprintf("0s (%s), %s", zero, f.Allowed)
	}
	f.Parse = func(name, text string) (any, error) {
		d, err := address.ParseDuration(text)
		if err != nil {
			return nil, unreadable(name, f.Allowed, err)
		}
		if (d < least || d > most) && (zero == "" || d != 0) {
			return nil, wrong(name, f.Allowed, "%s is %s", name, address.FormatDuration(d))
		}
		return d, nil
	}
	f.Read = fromText(&f)
	f.Show = func(value any) any { return address.FormatDuration(value.(time.Duration)) }
	return f
}

// fromText reads what is text in JSON too.
func fromText(f *Form) func(name string, value any) (any, error) {
	parse, allowed := f.Parse, f.Allowed
	return func(name string, value any) (any, error) {
		text, ok := value.(string)
		if !ok {
			return nil, wrong(name, allowed, "%s is %s", name, shown(value))
		}
		return parse(name, text)
	}
}

// Span is the shortest and the longest of several times.
type Span struct{ Least, Most time.Duration }

// Durations is spans between two times, as SHORTEST..LONGEST; one time alone is
// both. Values are Span.
func Durations(least, most time.Duration) Form {
	f := Form{Name: "durations", Allowed: fmt.Sprintf("%s to %s, as SHORTEST..LONGEST", address.FormatDuration(least), address.FormatDuration(most))}
	one := Duration(least, most, "")
	f.Parse = func(name, text string) (any, error) {
		from, to, both := strings.Cut(text, "..")
		if !both {
			to = from
		}
		a, err := one.Parse(name, from)
		if err != nil {
			return nil, err
		}
		b, err := one.Parse(name, to)
		if err != nil {
			return nil, err
		}
		span := Span{a.(time.Duration), b.(time.Duration)}
		if span.Least > span.Most {
			return nil, wrong(name, "the shortest first", "%s is %s", name, text)
		}
		return span, nil
	}
	f.Read = fromText(&f)
	f.Show = func(value any) any {
		s := value.(Span)
		return address.FormatDuration(s.Least) + ".." + address.FormatDuration(s.Most)
	}
	return f
}

// Switch is on or off. Values are bool.
func Switch() Form {
	f := Form{Name: "switch", Allowed: "true, false", Show: same}
	f.Read = func(name string, value any) (any, error) {
		if on, ok := value.(bool); ok {
			return on, nil
		}
		return nil, wrong(name, f.Allowed, "%s is %s", name, shown(value))
	}
	f.Parse = func(name, text string) (any, error) {
		on, err := strconv.ParseBool(text)
		if err != nil {
			return nil, wrong(name, f.Allowed, "%s is %q", name, text)
		}
		return on, nil
	}
	return f
}

// Choice is one of several words. Values are string.
func Choice(of ...string) Form {
	f := Form{Name: "choice", Allowed: strings.Join(of, ", "), Choices: of, Show: same}
	f.Parse = func(name, text string) (any, error) {
		if !slices.Contains(of, text) {
			return nil, wrong(name, f.Allowed, "%s is %q", name, text)
		}
		return text, nil
	}
	f.Read = fromText(&f)
	return f
}

// Sentence is text of up to so many bytes. Values are string.
func Sentence(most int) Form {
	f := Form{Name: "sentence", Allowed: fmt.Sprintf("up to %d characters", most), Show: same}
	f.Parse = func(name, text string) (any, error) {
		if strings.ContainsRune(text, 0) {
			return nil, wrong(name, "text without it", "the %s has the character U+0000", name)
		}
		if len(text) > most {
			return nil, wrong(name, f.Allowed, "the %s has %d characters", name, len(text))
		}
		return text, nil
	}
	f.Read = fromText(&f)
	return f
}

// Names is up to so many names, with commas between them as text; none is no
// name. Values are []string.
func Names(most int) Form { return listed("names", "names", most, address.CheckName) }

// listed is up to so many of what check lets through.
func listed(form, what string, most int, check func(one string) error) Form {
	f := Form{Name: form, Allowed: fmt.Sprintf("up to %d %s", most, what), Show: showTexts}
	checkAll := func(name string, all []string) (any, error) {
		if len(all) > most {
			return nil, wrong(name, f.Allowed, "%s has %d of them", name, len(all))
		}
		for _, one := range all {
			if err := check(one); err != nil {
				return nil, unreadable(name, f.Allowed, err)
			}
		}
		return all, nil
	}
	f.Read = func(name string, value any) (any, error) {
		all, ok := textsOf(value)
		if !ok {
			return nil, wrong(name, f.Allowed, "%s is %s", name, shown(value))
		}
		return checkAll(name, all)
	}
	f.Parse = func(name, text string) (any, error) { return checkAll(name, splitNames(text)) }
	return f
}

// splitNames reads names with commas between them; none is no name.
func splitNames(text string) []string {
	all := []string{}
	for one := range strings.SplitSeq(text, ",") {
		if one = strings.TrimSpace(one); one != "" && one != "none" {
			all = append(all, one)
		}
	}
	return all
}

// textsOf reads a list of texts as JSON has it, or as Show has.
func textsOf(value any) ([]string, bool) {
	if texts, ok := value.([]string); ok {
		return slices.Clone(texts), true
	}
	list, ok := value.([]any)
	all := make([]string, len(list))
	for i, one := range list {
		if all[i], ok = one.(string); !ok {
			break
		}
	}
	return all, ok
}

func showTexts(value any) any {
	if all, _ := value.([]string); len(all) > 0 {
		return all
	}
	return []string{}
}

// Condition is a condition on messages, as CEL; empty is none. Values are string.
func Condition() Form {
	f := Form{Name: "condition", Allowed: "CEL over a message", Show: same}
	f.Parse = func(name, text string) (any, error) {
		if text == "" {
			return "", nil
		}
		_, err := expr.Compile(text)
		return text, err
	}
	f.Read = fromText(&f)
	return f
}

// Edits is changes of messages, one a line as text. Values are []string, as
// edit.Edit prints them.
func Edits() Form {
	f := Form{Name: "edits", Allowed: fmt.Sprintf("up to %d of set AT=VALUE, compute AT=EXPRESSION, remove AT, rename AT=TO", edit.MaxEdits)}
	check := func(name string, texts []string) (any, error) {
		edits := make([]edit.Edit, len(texts))
		for i, text := range texts {
			var err error
			if edits[i], err = edit.Parse(text); err != nil {
				return nil, wrong(name, f.Allowed, "%v", err)
			}
			texts[i] = edits[i].String()
		}
		if _, err := edit.NewEditor(edits); err != nil {
			return nil, wrong(name, "", "%v", err)
		}
		return texts, nil
	}
	f.Read = func(name string, value any) (any, error) {
		texts, ok := textsOf(value)
		if !ok {
			return nil, wrong(name, f.Allowed, "%s is %s", name, shown(value))
		}
		return check(name, texts)
	}
	f.Parse = func(name, text string) (any, error) {
		texts := []string{}
		for line := range strings.Lines(text) {
			if line = strings.TrimSpace(line); line != "" && line != "none" {
				texts = append(texts, line)
			}
		}
		return check(name, texts)
	}
	f.Show = showTexts
	return f
}

// Target is the address of what a route leads to. Values are string.
func Target() Form {
	f := Form{Name: "address", Allowed: "the address of a topic, a queue or an endpoint", Show: same}
	f.Parse = func(name, text string) (any, error) {
		a, err := address.ParseChannel(text)
		if err != nil {
			return nil, unreadable(name, f.Allowed, err)
		}
		return a.String(), nil
	}
	f.Read = fromText(&f)
	return f
}

// Labels is names with values; a change says only what changes, and an empty
// value takes a label away. Values are map[string]string.
func Labels() Form {
	f := Form{Name: "labels", Allowed: fmt.Sprintf("up to %d of name=value", maxLabels)}
	check := func(labels map[string]string) (any, error) { return labels, CheckLabels(labels) }
	f.Read = func(name string, value any) (any, error) {
		given, ok := value.(map[string]any)
		labels := make(map[string]string, len(given))
		for key, one := range given {
			if labels[key], ok = one.(string); !ok {
				break
			}
		}
		if !ok {
			return nil, wrong(name, f.Allowed, "%s is %s", name, shown(value))
		}
		return check(labels)
	}
	f.Parse = func(name, text string) (any, error) {
		labels := map[string]string{}
		for one := range strings.SplitSeq(text, ",") {
			key, value, ok := strings.Cut(one, "=")
			if !ok {
				return nil, wrong(name, "name=value", "label %q", one)
			}
			labels[strings.TrimSpace(key)] = strings.TrimSpace(value)
		}
		return check(labels)
	}
	f.Show = func(value any) any {
		labels, _ := value.(map[string]string)
		if labels == nil {
			return map[string]string{}
		}
		return labels
	}
	return f
}

// Merge applies a change of labels.
func Merge(have, change map[string]string) map[string]string {
	merged := map[string]string{}
	maps.Copy(merged, have)
	for name, value := range change {
		if value == "" {
			delete(merged, name)
		} else {
			merged[name] = value
		}
	}
	return merged
}

// shown is a value of JSON that has the wrong form.
func shown(value any) string {
	switch v := value.(type) {
	case nil:
		return "null"
	case string:
		return strconv.Quote(v)
	}
	return fmt.Sprint(value)
}
