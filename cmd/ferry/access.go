package main

import (
	"flag"
	"fmt"
	"net/http"
	"net/url"
	"time"

	"steadyferry/client"
	"steadyferry/cmd/ferry/term"
	"steadyferry/internal/core/words"
)

// accessFlags are the flags of ferry access.
type accessFlags struct {
	label, expires string
	yes            bool
}

var accessVerb = verb{
	Name: "access", Args: "[link|new|rotate|revoke|end-sessions] [ID]", Summary: "List, make, rotate and revoke tokens, and end sessions",
	Details: `    ferry access                                   tokens, sessions and links in force
    ferry access link                              a link that signs in to the console once
    ferry access new -label reports -expires 30d   another token
    ferry access rotate ID                         another token in the place of one, which is refused from now on
    ferry access revoke ID                         refuse a token, a session or a link, at once and on every node
    ferry access end-sessions                      end every session but your own

A token is shown once, when it is created. Without -yes, rotate, revoke and end-sessions only show what they would do.`,
	Define: func(fs *flag.FlagSet) func(*call) error {
		var f accessFlags
		fs.StringVar(&f.label, "label", "", "`TEXT` that says what a new token is for")
		fs.StringVar(&f.expires, "expires", "", "`DURATION` after which a new token ends by itself, such as 30d; without it, never")
		fs.BoolVar(&f.yes, "yes", false, "do it")
		return func(c *call) error { return c.access(&f) }
	},
}

func (c *call) access(f *accessFlags) error {
	if len(c.Args) == 0 {
		return c.listSecrets()
	}
	what := c.Args[0]
	c.Args = c.Args[1:]
	takesID := what == "rotate" || what == "revoke"
	if takesID != (len(c.Args) == 1) {
		return term.WrongUsage("ferry access %s takes %s after it", what, map[bool]string{true: "an id", false: "nothing"}[takesID])
	}
	switch what {
	case "link":
		return c.newLink()
	case "new":
		return c.newToken(f)
	case "rotate", "revoke":
		return c.endSecret(what, c.Args[0], f.yes)
	case "end-sessions":
		return c.endSessions(f.yes)
	}
	return term.WrongUsage("%q is not something that ferry access does; allowed: link, new, rotate, revoke, end-sessions", what)
}

func (c *call) secrets() ([]client.Secret, error) {
	p, err := term.Ask[client.Page[client.Secret]](c.Call, http.MethodGet, "/access", nil, nil)
	return p.Items, err
}

// secretTable is how tokens, links and sessions are listed.
var secretTable = term.TableOf[client.Secret]{Headings: []string{"id", "kind", "of", "for", "created", "ends"}, Row: secretRow}

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
	return []string{s.ID, s.Kind, s.Principal, label, s.CreatedAt.Local().Format(time.DateTime), ends}
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

func (c *call) newToken(f *accessFlags) error {
	if f.label == "" {
		return term.WrongUsage("-label is missing: what the token is for")
	}
	return c.printToken("/access/tokens", client.NewToken{Label: f.label, Expires: f.expires})
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
			c.Table(c.Out, []string{"id", "kind", "of", "for", "created", "ends"}, [][]string{secretRow(s)})
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
