package people

import (
	"fmt"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"steadyferry/client"
	"steadyferry/cmd/ferry/term"
	"steadyferry/internal/core/access"
)

// How principals, roles and grants are listed.
var (
	principalTable = term.TableOf[client.Principal]{Headings: []string{"name", "kind", "teams", "signs in at", "may", "uses", "description"}, Row: func(p client.Principal) []string {
		roles := strings.Join(p.Roles, ", ")
		if p.Paused {
			roles = "shut out"
		}
		teams := slices.Compact(slices.Sorted(slices.Values(slices.Concat(p.Teams, p.Brought))))
		return []string{p.Name, p.Kind, strings.Join(teams, ", "), term.First(strings.Join(signsIn(p), ", "), "–"), term.First(roles, "nothing"), term.First(strings.Join(term.Uses(p.Uses), ", "), "–"), p.Description}
	}}
	roleTable = term.TableOf[client.Role]{Headings: []string{"role", "lets do", "for"}, Row: func(r client.Role) []string {
		return []string{r.Name, verbsText(r.Verbs), r.Description}
	}}
	maskTable = term.TableOf[client.Mask]{Headings: []string{"mask", "on", "fields", "shown as", "for roles", "description"}, Row: func(m client.Mask) []string {
		return []string{m.Name, m.On, strings.Join(m.Fields, " "), m.Show, strings.Join(m.For, " "), m.Description}
	}}
	grantTable = term.TableOf[client.Grant]{Headings: []string{"grant", "to", "role", "on", "until", "why"}, Row: func(g client.Grant) []string {
		if g.Opens {
			g.Role += ", may break the glass"
		}
		if g.Second {
			g.Role += ", with a second person"
		}
		return []string{g.Name, g.To, g.Role, g.On, term.First(g.Until, "-"), g.Why}
	}}
)

// signsIn are the places at which a person signs in.
func signsIn(p client.Principal) (places []string) {
	if p.Provider != "" {
		places = append(places, p.Provider)
	}
	switch p.Account {
	case "open":
		places = append(places, "here")
	case "invited":
		places = append(places, "here (invited)")
	case "over":
		places = append(places, "here (invitation is over)")
	}
	return places
}

// verbsText lists verbs, or those that are missing where that is shorter.
func verbsText(names []string) string {
	verbs, err := access.ParseSet(names)
	rest := access.Everything.Without(verbs).Names()
	switch {
	case err != nil || len(rest) > 3:
		return strings.Join(names, " ")
	case len(rest) == 0:
		return "all"
	}
	return "all but " + strings.Join(rest, " ")
}

func listAccess[T any](c *call, path string, t term.TableOf[T]) error {
	p, err := term.Ask[client.Page[T]](c.Call, http.MethodGet, path, nil, nil)
	if err != nil {
		return err
	}
	_, err = term.List(c.Call, c.Out, p.Items, t)
	return err
}

// listOf splits what a flag lists with commas.
func listOf(text string) []string {
	if text == "" {
		return nil
	}
	return strings.Split(text, ",")
}

// newAccess makes a token, a person, a machine, a role, a grant or a mask.
func (c *call) newAccess(f *accessFlags) error {
	what, name := "token", ""
	if len(c.Args) > 0 {
		what = c.Args[0]
	}
	if len(c.Args) > 1 {
		name = c.Args[1]
	}
	if len(c.Args) > 2 || name == "" && what != "token" {
		return term.WrongUsage("ferry access new %s takes a name after it", what)
	}
	switch what {
	case "token":
		label := term.First(f.label, f.role)
		if label == "" {
			return term.WrongUsage("-label is missing: what the token is for")
		}
		return c.printToken("/access/tokens", client.NewToken{Principal: name, Label: label, Role: f.role, On: f.on, Expires: f.expires})
	case "person", "machine":
		return c.made(what, name, "/principals", map[string]any{"name": name, "kind": what, "teams": listOf(f.teams), "description": f.description},
			fmt.Sprintf("ferry access new grant %s -role ROLE -on PATTERN", name))
	case "account":
		return c.invite(name)
	case "role":
		return c.made(what, name, "/roles", map[string]any{"name": name, "verbs": listOf(f.verbs), "description": f.description}, "ferry access new grant NAME -role "+name+" -on PATTERN")
	case "grant":
		return c.Previewed(term.Ask[client.Preview](c.Call, http.MethodPost, "/grants", term.Preview(!f.yes), map[string]any{"to": name, "role": f.role, "on": f.on, "until": f.until, "why": f.why, "opens": f.opens, "second": f.second}))
	case "mask":
		return c.Previewed(term.Ask[client.Preview](c.Call, http.MethodPost, "/masks", term.Preview(!f.yes), sent(map[string]any{"name": name, "on": f.on, "fields": listOf(f.fields), "show": f.show, "for": listOf(f.forRoles), "description": f.description})))
	}
	return term.WrongUsage("%q is not something that ferry access makes; allowed: token, person, machine, account, role, grant, mask", what)
}

// sent is a body without what was left out.
func sent(body map[string]any) map[string]any {
	for key, value := range body {
		if list, is := value.([]string); is && list == nil || value == "" {
			delete(body, key)
		}
	}
	return body
}

// made makes something, and says what comes next.
func (c *call) made(what, name, path string, body map[string]any, next string) error {
	ctx, cancel := c.Short()
	defer cancel()
	if err := c.API.Call(ctx, http.MethodPost, path, nil, sent(body), nil); err != nil {
		return err
	}
	fmt.Fprintf(c.Out, "created %s %s\nnext: %s\n", what, name, next)
	return nil
}

// invite begins the account of a person, and shows the address that lets in once.
func (c *call) invite(name string) error {
	i, err := term.Ask[client.Invitation](c.Call, http.MethodPost, "/accounts", nil, client.NewAccount{Principal: name})
	if err != nil {
		return err
	}
	if c.JSON {
		return c.PrintJSON(i)
	}
	fmt.Fprintf(c.Out, "%s%s\nnext: hand it to %s, and to nobody else: it works once, until %s, and this is the only time that it is shown\n", c.API.Server(), i.Path, name, i.ExpiresAt.Local().Format("2006-01-02 15:04"))
	return nil
}

// settable are the settings that ferry access sets, by what they are of: the place of the API, and
// each setting with the flag that gives it.
var settable = map[string]struct {
	place string
	of    map[string]string
}{
	"principal": {"/principals/", map[string]string{"paused": "paused", "teams": "teams", "description": "description"}},
	"role":      {"/roles/", map[string]string{"verbs": "verbs", "description": "description"}},
	"mask":      {"/masks/", map[string]string{"on": "on", "fields": "fields", "show": "show", "for": "for-roles", "description": "description"}},
}

// setAccess changes what flags name, of a principal, a role or a mask.
func (c *call) setAccess(f *accessFlags) error {
	kind := "principal"
	if len(c.Args) == 2 {
		kind = c.Args[0]
	}
	set, known := settable[kind]
	if !known {
		return term.WrongUsage("%q is not something that ferry access sets; allowed: role, mask, or the name of a person or a machine alone", kind)
	}
	values := map[string]any{"paused": f.paused, "teams": listOf(f.teams), "description": f.description, "verbs": listOf(f.verbs), "on": f.on, "fields": listOf(f.fields), "show": f.show, "for": listOf(f.forRoles)}
	body, flags := map[string]any{}, []string{}
	for name, flag := range set.of {
		flags = append(flags, "-"+flag)
		if list, is := values[name].([]string); is && list == nil {
			values[name] = []string{}
		}
		if f.given(flag) {
			body[name] = values[name]
		}
	}
	if kind == "principal" {
		maps.Copy(body, f.bounds)
		flags = append(flags, "a bound")
	}
	if len(body) == 0 {
		slices.Sort(flags)
		return term.WrongUsage("nothing is set: what says what of a %s is %s", kind, strings.Join(flags, ", "))
	}
	return c.Previewed(term.Ask[client.Preview](c.Call, http.MethodPatch, set.place+url.PathEscape(c.Args[len(c.Args)-1]), term.Preview(!f.yes), body))
}

// removeAccess removes a person, a machine, a role, a grant or a mask.
func (c *call) removeAccess(f *accessFlags) error {
	what, name := c.Args[0], url.PathEscape(c.Args[1])
	switch what {
	case "person", "machine":
		return c.Previewed(term.Ask[client.Preview](c.Call, http.MethodDelete, "/principals/"+name, term.Preview(!f.yes), nil))
	case "mask":
		return c.Previewed(term.Ask[client.Preview](c.Call, http.MethodDelete, "/masks/"+name, term.Preview(!f.yes), nil))
	case "grant":
		return c.Previewed(term.Ask[client.Preview](c.Call, http.MethodDelete, "/grants/"+name, term.Preview(!f.yes), nil))
	case "role":
		return c.removed(f, "/roles/"+name, "remove the role "+c.Args[1]+", if nobody has it", "removed the role "+c.Args[1])
	case "account":
		return c.removed(f, "/accounts/"+name, "end the account of "+c.Args[1]+" and its sessions; tokens and a provider stay", "ended the account of "+c.Args[1])
	}
	return term.WrongUsage("%q is not something that ferry access removes; allowed: person, machine, account, role, grant, mask", what)
}

// removed removes what has no preview, or says first what it would do.
func (c *call) removed(f *accessFlags, path, would, done string) error {
	if !f.yes {
		fmt.Fprintf(c.Out, "it would %s\nnothing is changed yet: add -yes to do it\n", would)
		return nil
	}
	ctx, cancel := c.Short()
	defer cancel()
	if err := c.API.Call(ctx, http.MethodDelete, path, nil, nil, nil); err != nil {
		return err
	}
	fmt.Fprintln(c.Out, done)
	return nil
}

// breakGlass has whoever asks see contents for a while.
func (c *call) breakGlass(f *accessFlags) error {
	return c.Previewed(term.Ask[client.Preview](c.Call, http.MethodPost, "/break-glass", term.Preview(!f.yes), client.BreakGlass{On: c.Args[0], Why: f.why}))
}

// may says whether somebody may do something, with exit status 1 when not.
func (c *call) may() error {
	m, err := term.Ask[client.May](c.Call, http.MethodGet, "/may", url.Values{"principal": {c.Args[0]}, "verb": {c.Args[1]}, "address": {c.Args[2]}}, nil)
	if err != nil {
		return err
	}
	if c.JSON {
		err = c.PrintJSON(m)
	} else {
		fmt.Fprintln(c.Out, m.Says)
	}
	if err == nil && !m.May {
		return term.ExitWith(1)
	}
	return err
}

func (c *call) whoMay() error {
	p, err := term.Ask[client.Page[string]](c.Call, http.MethodGet, "/may/who", url.Values{"address": {c.Args[0]}, "verb": {c.Args[1]}}, nil)
	if err != nil {
		return err
	}
	_, err = term.List(c.Call, c.Out, p.Items, term.TableOf[string]{Headings: []string{"name"}, Row: func(name string) []string { return []string{name} }})
	return err
}
