package setting

import (
	"context"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/mask"
)

// Principal is how somebody who asks is set: a person or a machine.
type Principal struct {
	Kind        string   `json:"kind"`
	Teams       []string `json:"teams,omitempty"`
	Paused      bool     `json:"paused,omitempty"`
	Description string   `json:"description,omitempty"`

	Use

	// What is brought by signing in, and cannot be set otherwise.
	Identity string   `json:"identity,omitempty"` // PROVIDER SUBJECT; empty: it has not signed in yet
	Brought  []string `json:"brought,omitempty"`  // teams in which the provider says that it is
}

// Role is how a role is set.
type Role struct {
	Verbs       []string `json:"verbs"`
	Description string   `json:"description,omitempty"`
}

// Grant is how a role is given.
type Grant struct {
	To    string `json:"to"`
	Role  string `json:"role"`
	On    string `json:"on"`
	Until string `json:"until,omitempty"`
	Why   string `json:"why,omitempty"`
	Opens bool   `json:"opens,omitempty"`

	Second bool `json:"second,omitempty"`
}

// Mask is how fields of messages are hidden.
type Mask struct {
	On          string   `json:"on"`
	Fields      []string `json:"fields"`
	Show        string   `json:"show"`
	For         []string `json:"for"`
	Description string   `json:"description,omitempty"`

	Key []byte `json:"key"` // by which values are hashed; it is never told, and cannot be set
}

// Kinds of what decides who may do what, where things of several kinds are told.
const (
	APrincipal = "principal"
	ARole      = "role"
	AGrant     = "grant"
	AMask      = "mask"
)

// Kinds of principals.
const (
	Person  = "person"
	Machine = "machine"
)

// TeamPrefix is before the name of a team, where a principal may stand too.
const TeamPrefix = "team:"

const maxTeams = 100

// Principals is what can be set on principals.
var Principals = slices.Concat(Table[Principal]{
	row(Setting[Principal]{Name: "kind", Label: "Is a", Default: Machine, Form: Choice(Person, Machine), Help: "`KIND` of who asks: person or machine"}, func(p *Principal) *string { return &p.Kind }),
	row(Setting[Principal]{Name: "teams", Label: "Teams", Form: Names(maxTeams), Help: "`NAMES` of the teams that it is in, with commas: what is given to a team is given to it"}, func(p *Principal) *[]string { return &p.Teams }),
	row(Setting[Principal]{Name: "paused", Label: "Shut out", Form: Switch(), Help: "it may do nothing for now, whatever it was given"}, func(p *Principal) *bool { return &p.Paused }),
	row(Setting[Principal]{Name: "description", Label: "Description", Form: Sentence(MaxDescription), Help: "`TEXT` that says what it is for"}, func(p *Principal) *string { return &p.Description }),
}, OfPrincipals)

// Roles is what can be set on roles.
var Roles = Table[Role]{
	row(Setting[Role]{Name: "verbs", Label: "May", Form: Verbs(), Help: "`VERBS` that the role lets do, with commas"}, func(r *Role) *[]string { return &r.Verbs }),
	row(Setting[Role]{Name: "description", Label: "Description", Form: Sentence(MaxDescription), Help: "`TEXT` that says what it is for"}, func(r *Role) *string { return &r.Description }),
}

// Grants is what can be set on grants.
var Grants = Table[Grant]{
	row(Setting[Grant]{Name: "to", Label: "To", Form: Holder(), Help: "`NAME` of the principal that gets the role, or team:NAME"}, func(g *Grant) *string { return &g.To }),
	row(Setting[Grant]{Name: "role", Label: "Role", Form: Sentence(100), Help: "`ROLE` that is given"}, func(g *Grant) *string { return &g.Role }),
	row(Setting[Grant]{Name: "on", Label: "On", Form: Patterned(), Help: "`PATTERN` of what the role is given on, such as coldchain/inspections"}, func(g *Grant) *string { return &g.On }),
	row(Setting[Grant]{Name: "until", Label: "Until", Form: Moment(), Help: "`TIME` at which the grant ends by itself, such as 2026-12-01T18:00:00Z"}, func(g *Grant) *string { return &g.Until }),
	row(Setting[Grant]{Name: "why", Label: "Why", Form: Sentence(MaxDescription), Help: "`TEXT`, the reason that is recorded with the grant"}, func(g *Grant) *string { return &g.Why }),
	row(Setting[Grant]{Name: "opens", Label: "May break the glass", Form: Switch(), Help: "who gets it may have itself see what is in messages there for an hour, with a reason that is told"}, func(g *Grant) *bool { return &g.Opens }),
	row(Setting[Grant]{Name: "second", Label: "With a second person", Form: Switch(), Help: "what is dangerous of it (discard, remove, access, nodes) is done when somebody else who may do it has confirmed it"}, func(g *Grant) *bool { return &g.Second }),
}

// Bounds of a mask.
const (
	maxMasked   = 50
	maxMaskedBy = 50
)

// Masks is what can be set on masks.
var Masks = Table[Mask]{
	row(Setting[Mask]{Name: "on", Label: "On", Form: Patterned(), Help: "`PATTERN` of the channels whose messages have the fields, such as coldchain/*"}, func(m *Mask) *string { return &m.On }),
	row(Setting[Mask]{Name: "fields", Label: "Fields", Form: Fields(), Help: "`FIELDS` that are hidden, with commas: key, header.NAME, or a JSON Pointer into the body such as /box"}, func(m *Mask) *[]string { return &m.Fields }),
	row(Setting[Mask]{Name: "show", Label: "Shown as", Default: mask.Hidden, Form: Choice(mask.Shows...), Help: "`HOW` they are shown: hidden, shortened (how a value begins), or hashed (equal values look the same, and tell nothing)"}, func(m *Mask) *string { return &m.Show }),
	row(Setting[Mask]{Name: "for", AsFlag: "for-roles", Label: "For roles", Form: Names(maxMaskedBy), Help: "`ROLES`, with commas, which show messages without the fields; who has another role there that shows messages sees all"}, func(m *Mask) *[]string { return &m.For }),
	row(Setting[Mask]{Name: "description", Label: "Description", Form: Sentence(MaxDescription), Help: "`TEXT` that says what it is for"}, func(m *Mask) *string { return &m.Description }),
}

// Fields is fields of messages, with commas between them as text. Values are []string.
func Fields() Form {
	f := listed("fields", "fields", maxMasked, mask.CheckField)
	f.Allowed = "key, header.NAME, a JSON Pointer such as /box"
	return f
}

// Verbs is verbs that somebody may do, with commas between them as text. Values are []string.
func Verbs() Form {
	f := listed("verbs", "verbs", len(access.AllVerbs()), func(one string) error {
		_, err := access.ParseSet([]string{one})
		return err
	})
	f.Allowed = access.Everything.String() + "; all for every one"
	return f
}

var principalName = regexp.MustCompile(`^[a-z0-9][a-z0-9._@+-]{0,99}$`)

// Ferryd is who does what nodes do by themselves: no principal has the name.
const Ferryd = "ferryd"

// CheckPrincipal says what is wrong with the name of a principal.
func CheckPrincipal(name string) error {
	if name == Ferryd {
		return fmt.Errorf("%q is the service itself, which may do everything; choose another name", name)
	}
	if !principalName.MatchString(name) {
		return fmt.Errorf("%q is no name of a principal; allowed: 1 to 100 of a-z 0-9 . _ @ + -, a letter or a digit first", name)
	}
	return nil
}

type holder string

func (h holder) String() string { return string(h) }

// Holder is who holds a role: a principal, or a team. Values are string.
func Holder() Form {
	return placed("holder", "the name of a principal, or team:NAME", func(text string) (fmt.Stringer, error) {
		if team, ok := strings.CutPrefix(text, TeamPrefix); ok {
			return holder(text), address.CheckName(team)
		}
		return holder(text), CheckPrincipal(text)
	})
}

type moment time.Time

func (m moment) String() string { return time.Time(m).UTC().Format(time.RFC3339) }

// Moment is a time, or none. Values are string, as RFC 3339 has them.
func Moment() Form {
	return placed("time", "a time such as 2026-12-01T18:00:00Z", func(text string) (fmt.Stringer, error) {
		t, err := time.Parse(time.RFC3339, text)
		return moment(t), err
	})
}

// Check says why whoever asks may not make the change at an address, where settings are changed
// by a verb: to pause and to resume is a right of its own, and so is to bound.
func (c Change) Check(ctx context.Context, verb access.Verb, at string) error {
	rights, err := c.CheckBounds(ctx)
	if _, pauses := c["paused"]; pauses && err == nil {
		rights++
		err = access.Check(ctx, access.Pause, at)
	}
	if err != nil || rights == len(c) && rights > 0 {
		return err
	}
	return access.Check(ctx, verb, at)
}
