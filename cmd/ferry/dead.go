package main

import (
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/pmezard/go-difflib/difflib"

	"steadyferry/client"
	"steadyferry/cmd/ferry/term"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/edit"
	"steadyferry/internal/core/words"
)

// editsValue gathers -edit flags.
type editsValue []client.Edit

func (e *editsValue) String() string { return "" }
func (e *editsValue) Set(text string) error {
	parsed, err := edit.Parse(text)
	if err == nil {
		*e = append(*e, parsed)
	}
	return err
}

const editHelp = "change the message: 'set /celsius=4.5', 'compute /celsius=(double(body.celsius.replace(\" F\", \"\")) - 32.0) / 1.8', 'remove /x', 'rename /a=/b'; header.NAME and key too; may be repeated; an `EDIT`"

type deadFlags struct {
	cause, where, why                        string
	list, discarded, doReturn, discard, undo bool
	yes                                      bool
	after                                    time.Duration
	limit                                    int
	rate                                     float64
	edits                                    editsValue
}

var deadVerb = verb{
	Name: "dead", Args: "[QUEUE|GROUP[#PARTITION:OFFSET]]", Summary: "Show why messages became dead letters, and return, mend or discard them",
	Details: "Without an address it lists where there are any; with one it groups them by their causes. -list shows them one by one, the address of one shows it whole. -return, -edit, -discard and -undo say what they would do; -yes does it.\n\n" +
		"    ferry dead coldchain/inspections\n    ferry dead coldchain/inspections -cause 5f1c02aa -list\n    ferry dead coldchain/inspections -cause 5f1c02aa -edit 'rename /temp=/celsius' -return -rate 50/s -yes\n    ferry dead coldchain/inspections -where 'body.box == \"box-7\"' -discard -why 'drill' -yes\n    ferry dead coldchain/inspections -undo -yes",
	Define: func(fs *flag.FlagSet) func(*call) error {
		var f deadFlags
		fs.StringVar(&f.cause, "cause", "", "only those of the cause with this `ID`")
		fs.StringVar(&f.where, "where", "", "only those that fulfil this `CONDITION`")
		fs.BoolVar(&f.list, "list", false, "show them one by one")
		fs.BoolVar(&f.discarded, "discarded", false, "show what was discarded, and can be brought back with -undo")
		fs.IntVar(&f.limit, "limit", 0, "at most `N` messages; without it, all")
		fs.BoolVar(&f.doReturn, "return", false, "let them wait in the queue again")
		fs.Var(&f.edits, "edit", editHelp)
		fs.BoolVar(&f.discard, "discard", false, "take them away, with -why; -undo brings them back for a while")
		fs.BoolVar(&f.undo, "undo", false, "bring back what was discarded")
		fs.StringVar(&f.why, "why", "", "`TEXT` that says why")
		fs.Var(term.DurationValue{D: &f.after}, "after", "of -return: let them wait after this `DURATION`")
		fs.Var(term.RateValue{PerSecond: &f.rate}, "rate", "of -return: `RATE` at which they return, as a replay that can be watched and cancelled")
		fs.BoolVar(&f.yes, "yes", false, "do it")
		every := term.EveryFlag(fs)
		return func(c *call) error {
			if len(c.Args) == 0 {
				return c.Repeat(*every, c.deadPlaces)
			}
			a, err := c.OneQueue()
			if err != nil {
				return err
			}
			switch {
			case f.doReturn || len(f.edits) > 0 || f.discard || f.undo:
				return c.actOnDead(a, &f)
			case a.Offset >= 0:
				return c.Repeat(*every, func(out io.Writer) error { return c.showItem(out, a) })
			case f.list || f.discarded || f.where != "":
				state := "dead"
				if f.discarded {
					state = "discarded"
				}
				return c.listItems(c.Out, a, state, f.cause, f.where, max(f.limit, 0))
			}
			return c.Repeat(*every, func(out io.Writer) error { return c.causes(out, a, f.cause) })
		}
	},
}

var discardVerb = verb{
	Name: "discard", Args: "QUEUE", Summary: "Discard waiting messages of a queue; for a while they can be brought back",
	Details: "It says what it would do; -yes does it. ferry dead QUEUE -discarded shows what was discarded, and ferry dead QUEUE -undo brings it back. Dead letters are discarded with ferry dead QUEUE -discard.\n\n    ferry discard coldchain/recalls -where 'body.drill == true' -why 'drill of Monday' -yes",
	Define: func(fs *flag.FlagSet) func(*call) error {
		f := deadFlags{discard: true}
		fs.StringVar(&f.where, "where", "", "only those that fulfil this `CONDITION`")
		fs.IntVar(&f.limit, "limit", 0, "at most `N` messages; without it, all")
		fs.StringVar(&f.why, "why", "", "`TEXT` that says why")
		fs.BoolVar(&f.yes, "yes", false, "do it")
		return func(c *call) error {
			a, err := c.OneQueue()
			if err != nil {
				return err
			}
			action := f.action(a)
			action.State = "waiting"
			return c.act(a, action, f.yes)
		}
	},
}

// deadCounts returns the queues and groups with dead letters.
func (c *call) deadCounts() ([]client.DeadCount, error) {
	live, err := term.Ask[client.Live](c.Call, http.MethodGet, "/status", nil, nil)
	return live.Dead, err
}

// deadPlaces lists the queues and groups with dead letters.
func (c *call) deadPlaces(out io.Writer) error {
	all, err := c.deadCounts()
	if err != nil {
		return err
	}
	shown, err := term.List(c.Call, out, all, term.TableOf[client.DeadCount]{None: "there are no dead letters: nothing has failed",
		Headings: []string{"dead letters of", "dead", "discarded"}, Right: []string{"dead", "discarded"},
		Row: func(d client.DeadCount) []string {
			return []string{d.Address, term.Count(d.Dead), term.Count(d.Discarded)}
		}})
	if shown {
		fmt.Fprintf(out, "\nwhy: ferry dead %s\n", strings.TrimSuffix(all[0].Address, "/dead"))
	}
	return err
}

// causes prints the dead letters by their causes.
func (c *call) causes(out io.Writer, a address.Address, only string) error {
	d, err := term.Ask[client.DeadLetters](c.Call, http.MethodGet, client.QueuePath(a)+"/dead", nil, nil)
	if err != nil {
		return err
	}
	if only != "" {
		d.Causes = slices.DeleteFunc(d.Causes, func(x client.DeadCause) bool { return x.Cause != only })
		if len(d.Causes) == 0 {
			return &client.Problem{Detail: fmt.Sprintf("%s has no cause %s now", d.Address, only), Next: "ferry dead " + a.QueuePart().String() + " lists them"}
		}
	}
	now := term.Now()
	if !c.JSON && len(d.Causes) > 0 {
		fmt.Fprintf(out, "%s: %s, %s\n\n", d.Address, words.Many(d.Total, "dead letter"), words.Many(len(d.Causes), "cause"))
	}
	sampleOf := func(x client.DeadCause) string {
		if x.Sample == nil {
			return ""
		}
		return x.Sample.Address
	}
	shown, err := term.List(c.Call, out, d.Causes, term.TableOf[client.DeadCause]{None: d.Address + " has no dead letters: every message is done, under way or waiting",
		Headings: []string{"cause", "reason", "count", "share", "first", "last", "detail", "a sample"}, Right: []string{"count", "share", "first", "last"},
		Row: func(x client.DeadCause) []string {
			return []string{x.Cause, x.Reason, term.Count(x.Count), fmt.Sprintf("%.0f%%", 100*x.Share), term.Age(&x.FirstSeen, now) + " ago", term.Age(&x.LastSeen, now) + " ago", term.OneLine(x.Pattern, 60), sampleOf(x)}
		}})
	if shown && only == "" {
		fmt.Fprintf(out, "\none of them whole: ferry dead %s\nall of a cause:    ferry dead %s -cause %s -list\n", sampleOf(d.Causes[0]), a.QueuePart(), d.Causes[0].Cause)
	}
	return err
}

// listItems prints messages of a queue one by one; limit 0 is 100 on tables
// and all as JSON.
func (c *call) listItems(out io.Writer, a address.Address, state, cause, where string, limit int) error {
	query := url.Values{"state": {state}}
	for name, value := range map[string]string{"cause": cause, "where": where} {
		if value != "" {
			query.Set(name, value)
		}
	}
	if limit == 0 && !c.JSON {
		limit = 100
	}
	if limit > 0 {
		query.Set("limit", fmt.Sprint(min(limit, 1000)))
	}
	var rows [][]string
	now := term.Now()
	for {
		ctx, cancel := c.Short()
		var p client.Page[client.QueueMessage]
		err := c.API.Call(ctx, http.MethodGet, client.QueuePath(a)+"/items", query, nil, &p)
		cancel()
		if err != nil {
			return err
		}
		for _, m := range p.Items {
			if limit > 0 && len(rows) == limit {
				break
			}
			if c.JSON {
				if err := c.PrintJSON(m); err != nil {
					return err
				}
				rows = append(rows, nil)
				continue
			}
			since := m.Time
			if m.DeadAt != nil {
				since = *m.DeadAt
			}
			why := m.Reason
			if m.Detail != "" {
				why += ": " + m.Detail
			}
			rows = append(rows, []string{m.Address, m.State, term.Age(&since, now), fmt.Sprint(m.Attempts), fmt.Sprint(m.Returns), m.Key, term.OneLine(why, 60), term.OneLine(string(m.Bytes()), 60)})
		}
		if p.Next == "" || limit > 0 && len(rows) >= limit {
			break
		}
		query.Set("cursor", p.Next)
	}
	if c.JSON {
		return nil
	}
	if len(rows) == 0 {
		fmt.Fprintf(out, "no message of %s is %s\n", a.QueuePart(), strings.ReplaceAll(state, ",", " or "))
		return nil
	}
	c.Table(out, []string{"address", "state", "since", "attempts", "returns", "key", "why", "body"}, rows, "since", "attempts", "returns")
	return nil
}

// showItem prints one message of a queue whole.
func (c *call) showItem(out io.Writer, a address.Address) error {
	m, err := term.Ask[client.QueueMessage](c.Call, http.MethodGet, fmt.Sprintf("%s/items/%d/%d", client.QueuePath(a.QueuePart()), a.Partition, a.Offset), nil, nil)
	if err != nil {
		return err
	}
	if c.JSON {
		return c.PrintJSON(m)
	}
	to := own(c.To(out))
	state := m.State
	switch {
	case m.Member != "" && m.Deadline != nil:
		state += fmt.Sprintf(" by %s until %s", m.Member, m.Deadline.Local().Format("15:04:05"))
	case m.Deadline != nil:
		state += " until " + m.Deadline.Local().Format(time.DateTime)
	}
	to.Pairs([][2]string{{"address", m.Address}, {"state", state}, {"reason", m.Reason}, {"cause", m.Cause}, {"field", m.Field}, {"read at", m.From}, {"attempts", fmt.Sprint(m.Attempts)}, {"returns", fmt.Sprint(m.Returns)}})
	if m.Detail != "" {
		fmt.Fprintf(out, "\n%s\n", m.Detail)
	}
	fmt.Fprintln(out)
	to.story(m)
	if m.Gone {
		fmt.Fprintln(out, "\nits content is no longer kept")
		return nil
	}
	fmt.Fprintln(out)
	to.printMessage(m.Message)
	if m.Original != nil {
		fmt.Fprintln(out, "\nbefore it was edited:")
		to.printMessage(*m.Original)
	}
	return nil
}

// story prints what happened to a message.
func (c *call) story(m client.QueueMessage) {
	rows := [][]string{{m.Time.Local().Format("01-02 15:04:05.000"), "published", "", "", ""}}
	if m.Gone {
		rows = nil
	}
	for _, e := range m.History {
		took := ""
		if e.Began != nil {
			took = e.At.Sub(*e.Began).Round(time.Millisecond).String()
		}
		why := e.Reason
		if e.Detail != "" {
			why = strings.TrimPrefix(why+": "+e.Detail, ": ")
		}
		rows = append(rows, []string{e.At.Local().Format("01-02 15:04:05.000"), words.Of(e.Event), e.Who, took, term.OneLine(why, 70)})
	}
	c.Table(c.Out, []string{"when", "event", "who", "after", "why"}, rows, "after")
}

func (f *deadFlags) action(a address.Address) client.QueueAction {
	act := client.QueueAction{Choice: client.Choice{Cause: f.cause, Where: f.where, Limit: int64(f.limit)}, Why: f.why, Edits: f.edits, Return: f.doReturn && len(f.edits) > 0}
	if f.after > 0 {
		act.After = address.FormatDuration(f.after)
	}
	if a.Offset >= 0 {
		act.Messages = []string{a.QueuePart().At(a.Partition, a.Offset).String()}
	}
	switch {
	case len(f.edits) > 0:
		act.Action = "edit"
	case f.doReturn:
		act.Action = "return"
	case f.discard:
		act.Action = "discard"
	case f.undo:
		act.Action = "undo"
	}
	return act
}

func (c *call) actOnDead(a address.Address, f *deadFlags) error {
	chosen := 0
	for _, on := range []bool{f.doReturn || len(f.edits) > 0, f.discard, f.undo} {
		if on {
			chosen++
		}
	}
	if chosen != 1 {
		return term.WrongUsage("-return and -edit, -discard and -undo do not go together")
	}
	if f.rate > 0 && !f.doReturn {
		return term.WrongUsage("-rate goes with -return")
	}
	if f.rate > 0 {
		from := a.QueuePart()
		from.Dead = true
		r := client.NewReplay{From: from.String(), To: a.QueuePart().String(), Choice: f.action(a).Choice, Rate: f.rate, Edits: f.edits}
		return c.beginReplay(r, f.yes)
	}
	return c.act(a, f.action(a), f.yes)
}

// act previews an action, and does it with yes.
func (c *call) act(a address.Address, action client.QueueAction, yes bool) error {
	path := client.QueuePath(a.QueuePart()) + "/actions"
	const most = 10 * time.Minute
	r, err := term.AskWithin[client.QueueActionResult](c.Call, most, http.MethodPost, path, term.Preview(true), action)
	if err != nil {
		return err
	}
	if yes && r.Messages > 0 {
		done, err := term.AskWithin[client.QueueActionResult](c.Call, most, http.MethodPost, path, nil, action)
		if err != nil {
			return err
		}
		r.Messages, r.Done = done.Messages, true
	}
	if c.JSON {
		return c.PrintJSON(r)
	}
	if r.Messages == 0 {
		fmt.Fprintln(c.Out, "nothing matches")
		return nil
	}
	for _, e := range r.Effects {
		fmt.Fprintln(c.Out, "-", e)
	}
	c.samples(r.Samples)
	switch {
	case r.Done && action.Action == "discard":
		fmt.Fprintf(c.Out, "done: %s; ferry dead %s -undo -yes brings them back\n", words.Many(r.Messages, "message"), a.QueuePart())
	case r.Done:
		fmt.Fprintf(c.Out, "done: %s\n", words.Many(r.Messages, "message"))
	default:
		fmt.Fprintln(c.Out, "nothing is changed yet: add -yes to do it")
	}
	return nil
}

// samples prints messages, and what edits make of them as a difference.
func (c *call) samples(samples []client.ActionSample) {
	for i, s := range samples {
		if s.After == nil && i >= 3 {
			break
		}
		if i == 0 {
			fmt.Fprintln(c.Out)
		}
		if slices.Contains(s.Masked, "body") {
			fmt.Fprintf(c.Out, "  %s  (what is in it takes see-content)\n", s.Address)
			continue
		}
		if s.After == nil {
			fmt.Fprintf(c.Out, "  %s  %s\n", s.Address, term.OneLine(string(s.Body), 100))
			continue
		}
		fmt.Fprintf(c.Out, "%s\n%s\n", s.Address, difference(editable(s.Key, s.Headers, s.Body), editable(s.After.Key, s.After.Headers, s.After.Body)))
	}
	if len(samples) > 0 {
		fmt.Fprintln(c.Out)
	}
}

// difference shows what differs between two texts, line by line.
func difference(before, after string) string {
	diff, err := difflib.GetUnifiedDiffString(difflib.UnifiedDiff{A: difflib.SplitLines(before), B: difflib.SplitLines(after), Context: 1})
	if err != nil {
		return after
	}
	return strings.TrimSpace(diff)
}

// editable is what edits can change, a line for each thing.
func editable(key string, headers map[string]string, body json.RawMessage) string {
	var b strings.Builder
	fmt.Fprintf(&b, "key: %s\n", key)
	for _, name := range term.PairsValue(headers).Names() {
		fmt.Fprintf(&b, "header %s: %s\n", name, headers[name])
	}
	indented, err := json.MarshalIndent(body, "", "  ")
	if err != nil {
		indented = body
	}
	return b.String() + string(indented) + "\n"
}
