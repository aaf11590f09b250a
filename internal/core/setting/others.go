package setting

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"steadyferry/internal/core/address"
)

// The kinds of readers of a channel.
const (
	Consumer = "group"
	Route    = "route"
)

// Group is how a consumer group, or a route, is set.
type Group struct {
	Description string `db:"description"`
	Paused      bool   `db:"paused"`
	ExpireMS    int64  `db:"expire_ms"` // without members; 0: never
	Routing     `db:"-"`
}

// Routing is what a route does: what it is set beyond a group.
type Routing struct {
	To    string   `json:"to"`              // address of the channel that it leads to
	Where string   `json:"where,omitempty"` // what it sends
	Edits []string `json:"edits,omitempty"` // of what it sends
}

var (
	ofGroups = []string{Consumer}
	ofRoutes = []string{Route}
)

// Groups is what can be set on consumer groups and routes.
var Groups = Table[Group]{
	row(Setting[Group]{Name: "to", Kinds: ofRoutes, Label: "Leads to", Fixed: true, Form: Target(), Help: "of a route: the `ADDRESS` that it sends to"}, func(g *Group) *string { return &g.To }),
	row(Setting[Group]{Name: "where", Kinds: ofRoutes, Label: "Sends what fulfils", Form: Condition(), Help: "of a route: it sends only messages with this `CONDITION`",
		Effects: func(_, _ *Group) []string {
			return []string{"it holds for messages that come from now on; what waits is decided by the condition it came under"}
		}}, func(g *Group) *string { return &g.Where }),
	row(Setting[Group]{Name: "edits", AsFlag: "edit", Kinds: ofRoutes, Label: "Edits", Form: Edits(), Help: "of a route: `EDIT` of what it sends; may be given several times",
		Effects: editsEffects}, func(g *Group) *[]string { return &g.Edits }),
	timed(Setting[Group]{Name: "expire", Kinds: ofGroups, Label: "Remove it without members after", Form: Duration(time.Minute, 3650*day, "never"),
		Help:    "of a group: remove it after this `DURATION` without members",
		Effects: expireGroupEffects, Careful: func(was, is *Group) bool {
			return is.ExpireMS > 0 && (was.ExpireMS == 0 || is.ExpireMS < was.ExpireMS)
		}}, time.Millisecond, func(g *Group) *int64 { return &g.ExpireMS }),
	row(Setting[Group]{Name: "paused", Label: "Paused", Form: Switch(), Help: "members get nothing; a route sends nothing"}, func(g *Group) *bool { return &g.Paused }),
	row(Setting[Group]{Name: "description", Label: "Description", Form: Sentence(MaxDescription), Help: "`TEXT` that says what it is for"}, func(g *Group) *string { return &g.Description }),
}

func editsEffects(_, is *Group) []string {
	effects := []string{"they hold for messages that come from now on"}
	if slices.ContainsFunc(is.Edits, func(e string) bool {
		op, at, _ := strings.Cut(e, " ")
		name, _, _ := strings.Cut(at, "=")
		return op != "" && strings.TrimSpace(name) == "key"
	}) {
		effects = append(effects, "the key is edited: messages are in order by their new key only as far as those of the old one were in one partition")
	}
	return effects
}

func expireGroupEffects(_, is *Group) []string {
	if is.ExpireMS == 0 {
		return nil
	}
	return []string{fmt.Sprintf("after %s without members the group goes, with its offsets", address.FormatDuration(millis(is.ExpireMS)))}
}

// Cluster is how all nodes together are set.
type Cluster struct {
	SpreadLeaders bool
	LogbookTo     string // a topic that gets each entry of the logbook
}

// Clusters is what can be set on all nodes together.
var Clusters = Table[Cluster]{
	row(Setting[Cluster]{Name: "spreadLeaders", Label: "Spread leaders", Default: "true", Form: Switch(), Help: "give leaders back to the nodes that should lead, when those have come back",
		Effects: spreadEffects, Careful: func(was, is *Cluster) bool { return is.SpreadLeaders != was.SpreadLeaders }}, func(c *Cluster) *bool { return &c.SpreadLeaders }),
	row(Setting[Cluster]{Name: "logbookTo", Label: "Logbook goes to", Form: Address("topic"), Help: "`ADDRESS` of a topic that gets each entry of the logbook from then on, as a message",
		Effects: logbookEffects}, func(c *Cluster) *string { return &c.LogbookTo }),
}

func logbookEffects(was, is *Cluster) (effects []string) {
	if was.LogbookTo != "" && was.LogbookTo != is.LogbookTo {
		effects = append(effects, "no entry goes to "+was.LogbookTo+" any more; what is there stays")
	}
	if is.LogbookTo != "" {
		effects = append(effects, "each entry from now on is a message of "+is.LogbookTo+", in partition 0: who may read that reads who did what")
	}
	return effects
}

func spreadEffects(_, is *Cluster) []string {
	if is.SpreadLeaders {
		return []string{"partitions that another node than the first of theirs leads get another leader, a few at a time; writing to one waits for that moment"}
	}
	return []string{"leaders stay where they are, also when a node comes back: what leads may lie on few nodes"}
}

// Space is how a space is set.
type Space struct {
	Description string            `json:"description,omitempty"`
	Labels      map[string]string `json:"labels,omitempty"`
	Room
	Use
}

// Spaces is what can be set on spaces.
var Spaces = slices.Concat(Table[Space]{
	row(Setting[Space]{Name: "description", Label: "Description", Form: Sentence(MaxDescription), Help: "`TEXT` that says what it is for"}, func(s *Space) *string { return &s.Description }),
	{Name: "labels", AsFlag: "label", Label: "Labels", Form: Labels(), Help: "`NAME=VALUE` to find it by",
		Get: func(s *Space) any { return s.Labels },
		Put: func(s *Space, value any) { s.Labels = Merge(s.Labels, value.(map[string]string)) }},
}, roomy, usable(func(s *Space) *Use { return &s.Use }))

// DeadLetters is what is read, where that is no topic and no queue.
const DeadLetters = "dead letters"

// StartOf is where a reader, a group or a route, of a topic, a queue or DeadLetters starts
// unless that is said: a position.
func StartOf(reader, read string) string {
	if reader == Route && read != Queue {
		return "end"
	}
	return "first"
}
