package main

import (
	"flag"
	"fmt"
	"net/http"
	"net/url"
	"time"

	"steadyferry/client"
	"steadyferry/internal/core/words"
)

// accessFlags are the flags of ferry access.
type accessFlags struct {
	label, expires string
	yes            bool
}

var accessVerb = verb{
	name: "access", args: "[link|new|rotate|revoke|end-sessions] [ID]", summary: "List, make, rotate and revoke tokens, and end sessions",
	details: `    ferry access                                   tokens, sessions and links in force
    ferry access link                              a link that signs in to the console once
    ferry access new -label reports -expires 30d   another token
    ferry access rotate ID                         another token in the place of one, which is refused from now on
    ferry access revoke ID                         refuse a token, a session or a link, at once and on every node
    ferry access end-sessions                      end every session but your own

A token is shown once, when it is made. Without -yes, rotate, revoke and end-sessions only show what they would do.`,
	define: func(fs *flag.FlagSet) func(*call) error {
		var f accessFlags
		fs.StringVar(&f.label, "label", "", "what a new token is for, in a few `words`")
		fs.StringVar(&f.expires, "expires", "", "when a new token ends by itself, such as 30d (default: never)")
		fs.BoolVar(&f.yes, "yes", false, "do it")
		return func(c *call) error { return c.access(&f) }
	},
}

func (c *call) access(f *accessFlags) error {
	if len(c.args) == 0 {
		return c.listSecrets()
	}
	what := c.args[0]
	c.args = c.args[1:]
	takesID := what == "rotate" || what == "revoke"
	if takesID != (len(c.args) == 1) {
		return wrongUsage("ferry access %s takes %s after it", what, map[bool]string{true: "an id", false: "nothing"}[takesID])
	}
	switch what {
	case "link":
		return c.newLink()
	case "new":
		return c.newToken(f)
	case "rotate", "revoke":
		return c.endSecret(what, c.args[0], f.yes)
	case "end-sessions":
		return c.endSessions(f.yes)
	}
	return wrongUsage("%q is not something that ferry access does; allowed: link, new, rotate, revoke, end-sessions", what)
}

func (c *call) secrets() ([]client.Secret, error) {
	p, err := ask[client.Page[client.Secret]](c, http.MethodGet, "/access", nil, nil)
	return p.Items, err
}

// secretTable is how tokens, links and sessions are listed.
var secretTable = tableOf[client.Secret]{headings: []string{"id", "kind", "of", "for", "made", "ends"}, row: secretRow}

func (c *call) listSecrets() error {
	all, err := c.secrets()
	if err != nil {
		return err
	}
	_, err = list(c, c.out, all, secretTable)
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
	return []string{s.ID, s.Kind, s.Principal, label, s.MadeAt.Local().Format(time.DateTime), ends}
}

func (c *call) newLink() error {
	l, err := ask[client.Link](c, http.MethodPost, "/links", nil, nil)
	if err != nil {
		return err
	}
	if c.json {
		return c.printJSON(l)
	}
	fmt.Fprintf(c.out, "%s%s\nit works once, until %s\n", c.api.Server(), l.Path, l.ExpiresAt.Local().Format("15:04:05"))
	return nil
}

func (c *call) newToken(f *accessFlags) error {
	if f.label == "" {
		return wrongUsage("-label is missing: what the token is for")
	}
	return c.printToken("/access/tokens", client.NewToken{Label: f.label, Expires: f.expires})
}

// printToken makes a token and shows it.
func (c *call) printToken(path string, body any) error {
	t, err := ask[client.Token](c, http.MethodPost, path, nil, body)
	if err != nil {
		return err
	}
	if c.json {
		return c.printJSON(t)
	}
	fmt.Fprintf(c.out, "%s\nthis is the only time that it is shown; ferry access revoke %s ends it\n", t.Token, t.ID)
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
			c.table(c.out, []string{"id", "kind", "of", "for", "made", "ends"}, [][]string{secretRow(s)})
			fmt.Fprintf(c.out, "nothing is changed yet: add -yes to %s it\n", what)
			return nil
		}
		if what == "rotate" {
			return c.printToken("/access/"+url.PathEscape(id)+"/rotate", nil)
		}
		ctx, cancel := c.withTimeout()
		defer cancel()
		if err := c.api.Call(ctx, http.MethodDelete, "/access/"+url.PathEscape(id), nil, nil, nil); err != nil {
			return err
		}
		fmt.Fprintf(c.out, "revoked the %s %s; it is refused from now on\n", s.Kind, id)
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
		fmt.Fprintf(c.out, "it would end %s\nnothing is changed yet: add -yes to do it\n", words.Many(n, "session"))
		return nil
	}
	out, err := ask[client.Revoked](c, http.MethodDelete, "/access", url.Values{"kind": {"session"}}, nil)
	if err != nil {
		return err
	}
	fmt.Fprintf(c.out, "ended %s\n", words.Many(out.Revoked, "session"))
	return nil
}
