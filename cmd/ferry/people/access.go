// Package people is the verb that tells and changes who may do what.
package people

import (
	"flag"
	"fmt"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"steadyferry/client"
	"steadyferry/cmd/ferry/term"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/core/words"
)

// call is one run of a verb of this package.
type call struct{ *term.Call }

type verb = term.VerbOf[*call]

// Access is the verb.
var Access = accessVerb.With(func(c *term.Call) *call { return &call{c} })

// accessFlags are the flags of ferry access.
type accessFlags struct {
	label, expires string
	role, on       string
	until, why     string
	teams, verbs   string
	fields, show   string
	forRoles       string
	description    string
	yes, paused    bool
	opens, second  bool
	bounds         term.Given
	given          func(name string) bool
}

var accessVerb = verb{
	Name: "access", Args: "[WHAT] [NAME…]", Summary: "Who may do what: tokens and sessions, principals, roles, grants and masks",
	Details: `    ferry access                                   tokens, sessions and links in force
    ferry access link                              a link that signs in to the console once
    ferry access new token -label reports          another token for yourself
    ferry access new token build-42 -role publisher -on coldchain/readings
                                                   one for a machine, which is made if it is not there
    ferry access rotate ID                         another token in the place of one, which is refused from now on
    ferry access revoke ID                         refuse a token, a session or a link, at once and on every node
    ferry access end-sessions                      end every session but your own

    ferry access principals                        people and machines, and what they were given
    ferry access new person NAME -teams desk       somebody who asks, and may do nothing yet; or: new machine
    ferry access new account NAME                  invite a person to a password and codes here, where no provider vouches for them
    ferry access set NAME -paused                  shut somebody out at once; -paused=false lets it in again; also -teams, -description
    ferry access set NAME -publish-rate 5MB        bound what somebody uses: also -read-rate, -request-rate, -most-streams
    ferry access roles                             the roles, and the verbs that each lets do
    ferry access new role packer -verbs publish,lease
    ferry access set role packer -verbs publish    change what it lets do
    ferry access grants                            who was given which role on what
    ferry access new grant NAME -role help-desk -on coldchain/inspections
                                                   give a role to a principal, or to team:NAME
    ferry access new grant NAME -role operator -on coldchain -second
                                                   what is dangerous of it takes a second person
    ferry access waiting                           what waits for one, and what was decided in the last days
    ferry access confirm N                         what N would do now; with -yes be its second person; or: decline N
    ferry access break-glass ADDRESS -why TEXT     see what is in messages there for an hour; those who look after it are told
    ferry access masks                             fields of messages that are hidden, from which roles
    ferry access new mask boxes -on 'coldchain/*' -fields key,/box -show hashed -for-roles help-desk
                                                   hide fields: key, header.NAME, or a JSON Pointer into the body
    ferry access set mask boxes -fields key,/box,/at -on, -show and -for-roles too
    ferry access remove person|machine|account|role|grant|mask NAME
    ferry access may NAME VERB ADDRESS             whether somebody may do something there, and why
    ferry access who ADDRESS VERB                  who may do something there

A token is shown once, when it is created. Without -yes, confirm, rotate, revoke, end-sessions, new grant, new mask, set and
remove only show what they would do.`,
	Define: func(fs *flag.FlagSet) func(*call) error {
		var f accessFlags
		fs.StringVar(&f.label, "label", "", "`TEXT` that says what a new token is for")
		fs.StringVar(&f.expires, "expires", "", "`DURATION` after which a new token ends by itself, such as 30d; without it, never")
		fs.StringVar(&f.role, "role", "", "`ROLE` that is given, or that a new token is good for")
		fs.StringVar(&f.on, "on", "", "`PATTERN` of what the role is on, such as coldchain/inspections")
		fs.StringVar(&f.until, "until", "", "`TIME` at which a grant ends by itself, such as 2026-12-01T18:00:00Z")
		fs.StringVar(&f.why, "why", "", "`TEXT`, the reason that is recorded with a grant")
		fs.StringVar(&f.teams, "teams", "", "`NAMES` of the teams of a new person or machine, with commas")
		fs.StringVar(&f.verbs, "verbs", "", "`VERBS` of a new role, with commas; all for every one")
		fs.StringVar(&f.fields, "fields", "", "`FIELDS` that a mask hides, with commas: key, header.NAME, a JSON Pointer such as /box")
		fs.StringVar(&f.show, "show", "", "`HOW` a mask shows them: hidden (unless said), shortened, hashed")
		fs.StringVar(&f.forRoles, "for-roles", "", "`ROLES` that a mask is for, with commas")
		fs.StringVar(&f.description, "description", "", "`TEXT` that says what a person, a machine or a role is for")
		fs.BoolVar(&f.paused, "paused", false, "of set: whoever it is may do nothing for now")
		fs.BoolVar(&f.opens, "opens", false, "of new grant: who gets it may break the glass there")
		fs.BoolVar(&f.second, "second", false, "of new grant: discard, remove, access and nodes take somebody else who confirms them")
		fs.BoolVar(&f.yes, "yes", false, "do it")
		f.bounds = term.Given{}
		term.Define(fs, f.bounds, setting.OfPrincipals)
		f.given = func(name string) (given bool) {
			fs.Visit(func(one *flag.Flag) { given = given || one.Name == name })
			return given
		}
		return func(c *call) error { return c.access(&f) }
	},
}

// accessActs are what ferry access does, by its first word, with the arguments that come behind.
var accessActs = map[string]struct {
	args string
	most int
	do   func(c *call, f *accessFlags) error
}{
	"link":         {"nothing", 0, func(c *call, _ *accessFlags) error { return c.newLink() }},
	"rotate":       {"an id", 1, func(c *call, f *accessFlags) error { return c.endSecret("rotate", c.Args[0], f.yes) }},
	"revoke":       {"an id", 1, func(c *call, f *accessFlags) error { return c.endSecret("revoke", c.Args[0], f.yes) }},
	"end-sessions": {"nothing", 0, func(c *call, f *accessFlags) error { return c.endSessions(f.yes) }},
	"principals":   {"nothing", 0, func(c *call, _ *accessFlags) error { return listAccess(c, "/principals", principalTable) }},
	"roles":        {"nothing", 0, func(c *call, _ *accessFlags) error { return listAccess(c, "/roles", roleTable) }},
	"grants":       {"nothing", 0, func(c *call, _ *accessFlags) error { return listAccess(c, "/grants", grantTable) }},
	"masks":        {"nothing", 0, func(c *call, _ *accessFlags) error { return listAccess(c, "/masks", maskTable) }},
	"waiting":      {"nothing", 0, func(c *call, _ *accessFlags) error { return listAccess(c, "/seconds", secondTable) }},
	"confirm":      {"a number", 1, (*call).confirm},
	"decline":      {"a number", 1, (*call).decline},
	"break-glass":  {"an address", 1, (*call).breakGlass},
	"may":          {"a name, a verb and an address", 3, func(c *call, _ *accessFlags) error { return c.may() }},
	"who":          {"an address and a verb", 2, func(c *call, _ *accessFlags) error { return c.whoMay() }},
	"set":          {"a name, or role or mask and a name", 2, (*call).setAccess},
	"remove":       {"person, machine, account, role, grant or mask, and a name", 2, (*call).removeAccess},
}

func (c *call) access(f *accessFlags) error {
	if len(c.Args) == 0 {
		return c.listSecrets()
	}
	what := c.Args[0]
	c.Args = c.Args[1:]
	if what == "new" {
		return c.newAccess(f)
	}
	act, known := accessActs[what]
	if !known {
		return term.WrongUsage("%q is not something that ferry access does; allowed: new, %s", what, strings.Join(slices.Sorted(maps.Keys(accessActs)), ", "))
	}
	if len(c.Args) != act.most && !(what == "set" && len(c.Args) == 1) {
		return term.WrongUsage("ferry access %s takes %s after it", what, act.args)
	}
	return act.do(c, f)
}

func (c *call) secrets() ([]client.Secret, error) {
	p, err := term.Ask[client.Page[client.Secret]](c.Call, http.MethodGet, "/access", nil, nil)
	return p.Items, err
}

// secretTable is how tokens, links and sessions are listed.
var secretTable = term.TableOf[client.Secret]{Headings: []string{"id", "kind", "of", "for", "created", "used", "ends"}, Row: secretRow}

func (c *call) listSecrets() error {
	all, err := c.secrets()
	if err != nil {
		return err
	}
	_, err = term.List(c.Call, c.Out, all, secretTable)
	return err
}

func secretRow(s client.Secret) []string {
	ends, label := "never", s.Label
	if s.ExpiresAt != nil {
		ends = s.ExpiresAt.Local().Format(time.DateTime)
	}
	if s.Own {
		label += " (the one you use)"
	}
	if s.Role != "" {
		label = strings.TrimPrefix(label+": "+s.Role+" on "+s.On, ": ")
	}
	used := "–"
	if s.UsedAt != nil {
		used = term.Age(s.UsedAt, term.Now()) + " ago"
	}
	return []string{s.ID, s.Kind, s.Principal, label, s.CreatedAt.Local().Format(time.DateTime), used, ends}
}

func (c *call) newLink() error {
	l, err := term.Ask[client.Link](c.Call, http.MethodPost, "/links", nil, nil)
	if err != nil {
		return err
	}
	if c.JSON {
		return c.PrintJSON(l)
	}
	fmt.Fprintf(c.Out, "%s%s\nit works once, until %s\n", c.API.Server(), l.Path, l.ExpiresAt.Local().Format("15:04:05"))
	return nil
}

// printToken makes a token and shows it.
func (c *call) printToken(path string, body any) error {
	t, err := term.Ask[client.Token](c.Call, http.MethodPost, path, nil, body)
	if err != nil {
		return err
	}
	if c.JSON {
		return c.PrintJSON(t)
	}
	fmt.Fprintf(c.Out, "%s\nthis is the only time that it is shown; ferry access revoke %s ends it\n", t.Token, t.ID)
	return nil
}

// endSecret revokes a secret, or has another token take its place.
func (c *call) endSecret(what, id string, yes bool) error {
	all, err := c.secrets()
	if err != nil {
		return err
	}
	for _, s := range all {
		if s.ID != id {
			continue
		}
		if !yes {
			c.Table(c.Out, []string{"id", "kind", "of", "for", "created", "used", "ends"}, [][]string{secretRow(s)})
			fmt.Fprintf(c.Out, "nothing is changed yet: add -yes to %s it\n", what)
			return nil
		}
		if what == "rotate" {
			return c.printToken("/access/"+url.PathEscape(id)+"/rotate", nil)
		}
		ctx, cancel := c.Short()
		defer cancel()
		if err := c.API.Call(ctx, http.MethodDelete, "/access/"+url.PathEscape(id), nil, nil, nil); err != nil {
			return err
		}
		fmt.Fprintf(c.Out, "revoked the %s %s; it is refused from now on\n", s.Kind, id)
		return nil
	}
	return fmt.Errorf("nothing in force has the id %q; ferry access lists what is", id)
}

func (c *call) endSessions(yes bool) error {
	if !yes {
		all, err := c.secrets()
		if err != nil {
			return err
		}
		n := 0
		for _, s := range all {
			if s.Kind == "session" && !s.Own {
				n++
			}
		}
		fmt.Fprintf(c.Out, "it would end %s\nnothing is changed yet: add -yes to do it\n", words.Many(n, "session"))
		return nil
	}
	out, err := term.Ask[client.Revoked](c.Call, http.MethodDelete, "/access", url.Values{"kind": {"session"}}, nil)
	if err != nil {
		return err
	}
	fmt.Fprintf(c.Out, "ended %s\n", words.Many(out.Revoked, "session"))
	return nil
}
