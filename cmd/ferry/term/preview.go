package term

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"steadyferry/client"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/core/words"
)

// Previewed prints what a change would do or has done, or returns why it does not.
func (c *Call) Previewed(p client.Preview, err error) error {
	if err != nil {
		return err
	}
	return c.PrintPreview(p)
}

// PrintPreview prints what a change would do or has done.
func (c *Call) PrintPreview(p client.Preview) error {
	if c.JSON {
		return c.PrintJSON(p)
	}
	var changes [][2]string
	for _, name := range slices.Sorted(maps.Keys(p.After)) {
		changes = append(changes, [2]string{name, settingOf(name, p.Before[name]) + " -> " + settingOf(name, p.After[name])})
	}
	c.Pairs(changes)
	for _, e := range p.Effects {
		fmt.Fprintln(c.Out, "-", e)
	}
	if p.Done && p.Job > 0 {
		fmt.Fprintf(c.Out, "job %d has begun; ferry nodes jobs -every 1s shows how far it is, ferry nodes cancel %d ends it\n", p.Job, p.Job)
	} else if p.Done {
		fmt.Fprintln(c.Out, "done")
	} else {
		fmt.Fprintln(c.Out, "nothing is changed yet: add -yes to do it")
	}
	return nil
}

// settingOf prints the value of a setting.
func settingOf(name string, v any) string {
	if bytes, is := v.(float64); is && setting.InBytes(name) {
		return Size(int64(bytes))
	}
	return SettingText(v)
}

// SettingText prints a value as JSON has it, with whole numbers in full.
func SettingText(v any) string {
	switch v := v.(type) {
	case float64:
		return Count(int64(v))
	case []any:
		all := make([]string, len(v))
		for i, one := range v {
			all[i] = fmt.Sprint(one)
		}
		return First(strings.Join(all, "; "), "none")
	case map[string]any:
		all := make([]string, 0, len(v))
		for _, name := range slices.Sorted(maps.Keys(v)) {
			all = append(all, fmt.Sprintf("%s=%v", name, v[name]))
		}
		return First(strings.Join(all, "; "), "none")
	}
	return fmt.Sprint(v)
}

// ReplicaState says how a replica is.
func ReplicaState(r client.Replica) string {
	text := words.Of(r.State)
	if r.BehindMessages != nil && *r.BehindMessages > 0 {
		text += fmt.Sprintf(" (%s, %s, %s behind)", words.Many(*r.BehindMessages, "message"), Size(r.BehindBytes), address.FormatDuration(time.Duration(r.BehindSeconds*float64(time.Second)).Round(time.Second)))
	}
	return text
}
