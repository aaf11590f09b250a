package main

import (
	"flag"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"slices"
	"time"

	"steadyferry/client"
	"steadyferry/cmd/ferry/term"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/words"
)

var lagVerb = verb{
	Name: "lag", Args: "[ADDRESS]", Summary: "Show how far behind groups are, the worst first, and what that will come to",
	Details: "Of all groups, or those of a space, a topic or one group. Lag is counted in messages, and in the age of the oldest unread one. With -json a line for each group and partition. With -fail-above or -fail-above-age the status is 1 when any group is beyond it, for scripts:\n\n    ferry lag -every 1s\n    ferry lag coldchain/readings@compliance -fail-above 10000 -fail-above-age 5m",
	Define: func(fs *flag.FlagSet) func(*call) error {
		every := term.EveryFlag(fs)
		above := fs.Int64("fail-above", 0, "fail when a group lags by more than `N` messages in all; without it, never")
		aboveAge := new(time.Duration)
		fs.Var(term.DurationValue{D: aboveAge}, "fail-above-age", "fail when a group's oldest unread message is older than `DURATION`, such as 5m")
		each := fs.Bool("partitions", false, "show every partition of every group, also of many")
		return func(c *call) error {
			var a address.Address
			if len(c.Args) > 0 {
				var err error
				if a, err = c.OneAddress(); err != nil {
					return err
				}
			}
			v := &lagView{call: c, address: a, each: *each, lately: map[string][]float64{}}
			if err := c.Repeat(*every, v.draw); err != nil {
				return err
			}
			for _, g := range v.groups {
				if c.Set["fail-above"] && g.Lag > *above {
					return fmt.Errorf("%s lags by %s; allowed: %s", g.Address, words.Many(g.Lag, "message"), term.Count(*above))
				}
				if *aboveAge > 0 && g.LagSeconds > aboveAge.Seconds() {
					return fmt.Errorf("the oldest unread message of %s is %s old; allowed: %s", g.Address, shortAge(g.LagSeconds), address.FormatDuration(*aboveAge))
				}
			}
			return nil
		}
	},
}

// lagView draws the lag again and again, and remembers it for small charts.
type lagView struct {
	*call
	address address.Address
	each    bool
	groups  []client.Group
	lately  map[string][]float64 // by group, and by group and partition
}

// Sizes of the view.
const (
	sparkWidth    = 10
	wholeWidth    = 164 // characters of a terminal that shows all columns
	mostRows      = 36  // partitions are shown one by one up to so many rows
	mostHistories = 20
)

func (v *lagView) draw(out io.Writer) error {
	ctx, cancel := v.Short()
	defer cancel()
	first := v.groups == nil
	var err error
	if v.groups, err = v.API.Lag(ctx, v.address); err != nil {
		return err
	}
	if v.JSON {
		for _, g := range v.groups {
			for _, p := range g.Partitions {
				if err := v.PrintJSON(p); err != nil {
					return err
				}
			}
		}
		return nil
	}
	if len(v.groups) == 0 {
		fmt.Fprintln(out, "there are no groups yet; reading creates one: ferry read SPACE/TOPIC@GROUP -from first")
		return nil
	}
	rows := len(v.groups)
	for i, g := range v.groups {
		rows += len(g.Partitions)
		if first && i < mostHistories {
			v.before(g)
		}
	}
	var lines [][]string
	for _, g := range v.groups {
		var last *time.Time
		for _, p := range g.Partitions {
			if at := p.CommittedAt; at != nil && (last == nil || at.After(*last)) {
				last = at
			}
		}
		lines = append(lines, []string{g.Address, term.Count(g.Lag), shortAge(g.LagSeconds), v.MarkAs(g.State, g.Verdict), readersText(g), "", "", sinceCommit(last),
			v.spark(g.Address, float64(g.Lag)), term.PerSecond(g.ArrivalRate), term.PerSecond(g.CommitRate)})
		for _, p := range g.Partitions {
			spark := v.spark(fmt.Sprintf("%s#%d", g.Address, p.Partition), float64(p.Lag))
			if !v.each && rows > mostRows {
				continue
			}
			line := append(v.lagRow(p), spark, term.PerSecond(p.ArrivalRate), term.PerSecond(p.CommitRate))
			line[0] = "  " + line[0]
			lines = append(lines, line)
		}
	}
	headings := append(slices.Clone(lagHeadings), "lately", "arrivals", "commits")
	if width, ok := v.Terminal(); ok && width < wholeWidth {
		headings = headings[:len(headings)-2] // the rates do not fit
		for i := range lines {
			lines[i] = lines[i][:len(headings)]
		}
	}
	v.Table(out, headings, lines, append(slices.Clone(lagFigures), "arrivals", "commits")...)
	return nil
}

// before takes what the small charts begin with from the recorded history.
func (v *lagView) before(g client.Group) {
	a, err := address.Parse(g.Address)
	if err != nil {
		return
	}
	ctx, cancel := v.Short()
	defer cancel()
	var p client.Page[client.LagSample]
	if v.API.Call(ctx, http.MethodGet, client.GroupPath(a)+"/history", url.Values{"span": {"10m"}}, nil, &p) != nil {
		return // the charts begin now
	}
	for _, s := range p.Items {
		v.note(g.Address, float64(s.Lag))
		for i, lag := range s.Partitions {
			v.note(fmt.Sprintf("%s#%d", g.Address, i), float64(lag))
		}
	}
}

func (v *lagView) note(key string, value float64) {
	list := append(v.lately[key], value)
	v.lately[key] = list[max(len(list)-sparkWidth, 0):]
}

// spark notes a value and draws the latest ones.
func (v *lagView) spark(key string, value float64) string {
	v.note(key, value)
	return term.Spark(v.lately[key])
}

// lagHeadings are of the columns that tell how a group is on a partition, wherever
// that is shown; lagFigures are those of them that are numbers.
var (
	lagHeadings = []string{"partition", "lag", "oldest unread", "verdict", "read by", "committed", "end", "last commit"}
	lagFigures  = []string{"lag", "oldest unread", "committed", "end", "last commit"}
)

func (c *call) lagRow(p client.PartitionLag) []string {
	return []string{fmt.Sprintf("#%d", p.Partition), term.Count(p.Lag), shortAge(p.LagSeconds), c.MarkAs(p.State, p.Verdict), memberText(p.MemberID, p.Member), term.Count(p.Committed), term.Count(p.End), sinceCommit(p.CommittedAt)}
}

// sinceCommit tells how long ago a commit was.
func sinceCommit(at *time.Time) string {
	if at == nil {
		return "–"
	}
	return term.Age(at, term.Now()) + " ago"
}

// readersText tells who reads as a group.
func readersText(g client.Group) string {
	if g.Kind == "route" {
		return "the service"
	}
	return words.Many(g.Members, "member")
}

func memberText(id, name string) string {
	switch {
	case id == "":
		return "nobody"
	case name != "":
		return term.OneLine(name, 24)
	}
	return id[:min(len(id), 8)]
}

// shortAge prints seconds to their two largest units.
func shortAge(seconds float64) string {
	if seconds == 0 {
		return "–"
	}
	at := term.Now().Add(-time.Duration(seconds * float64(time.Second)))
	if seconds < 10 {
		return fmt.Sprintf("%.1fs", seconds)
	}
	return term.Age(&at, term.Now())
}
