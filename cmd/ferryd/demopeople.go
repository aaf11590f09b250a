package main

import (
	"context"
	"fmt"
	"maps"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"slices"

	"steadyferry/client"
	"steadyferry/internal/engine/outside/gatehouse"
)

// The stand-in that vouches for the people of the demo, beside the hook.
const (
	gatePath   = "people"
	gateClient = "steady-ferry"
)

// demoPeople are those that can be chosen at the gatehouse.
var demoPeople = []gatehouse.Person{
	{Name: "night-operator", Says: "runs the service: may do everything but give roles", Groups: []string{"operations"}},
	{Name: "coldchain-lead", Says: "looks after the space coldchain, and gives roles on it", Groups: []string{"coldchain-leads"}},
	{Name: "help-desk-1", Says: "an outside help desk: returns and discards what failed in inspections, without seeing what is in it", Groups: []string{"outside-desk"}},
	{Name: "on-call-viewer", Says: "is on call, and looks: sees what is in messages, but not which box it is about", Groups: []string{"on-call"}},
}

// demoGrants are what their teams were given.
var demoGrants = []client.Grant{
	{To: "team:operators", Role: "operator", On: "*", Why: "Operations run the service"},
	{To: "team:leads", Role: "team-owner", On: "coldchain", Why: "The space is theirs"},
	{To: "team:desk", Role: "help-desk", On: "coldchain/inspections", Why: "The desk returns and discards what failed", Opens: true},
	{To: "team:on-call", Role: "viewer", On: "*", Why: "Whoever is on call sees how all is"},
	{To: "team:on-call", Role: "on-call", On: "coldchain", Why: "Whoever is on call sees what failed, but not whose it is"},
}

// demoRights are roles that are not built in, and the mask that is for some.
var demoRights = []step{
	{"/roles", map[string]any{"name": "on-call", "verbs": []string{"see-counts", "see-causes", "see-metadata", "see-content"}, "description": "looks, and sees what is in messages"}},
	{"/masks", map[string]any{"name": "boxes", "on": "coldchain/*", "fields": []string{"key", "/box"}, "show": "hashed", "for": []string{"on-call", "help-desk", "break-glass"}, "description": "Which box it is tells which clinic"}},
}

const demoSignIn = `# How people of the demo sign in: at a stand-in that runs beside it.
providers:
  - name: northlight
    label: Northlight Cold Chain
    issuer: %s
    client: %s
    teams:
`

// listenOutside takes the address of the places outside, and writes how people sign in there.
func (c *config) listenOutside() (net.Listener, error) {
	listener, err := net.Listen("tcp", hookAddress)
	if err != nil { // another demo has it
		if listener, err = net.Listen("tcp", "127.0.0.1:0"); err != nil {
			return nil, err
		}
	}
	if c.signIn != "" {
		return listener, nil
	}
	c.signIn = filepath.Join(c.dir, "sign-in.yaml")
	rules := fmt.Sprintf(demoSignIn, gateIssuer(listener), gateClient)
	for _, group := range slices.Sorted(maps.Keys(demoTeams)) {
		rules += fmt.Sprintf("      - {claim: groups, holds: %s, team: %s}\n", group, demoTeams[group])
	}
	return listener, os.WriteFile(c.signIn, []byte(rules), 0o600)
}

func gateIssuer(listener net.Listener) string {
	return "http://" + listener.Addr().String() + "/" + gatePath
}

// demoTeams are the teams of people by their groups. The rules say so when they sign in; they are
// in them before, so that what they may can be looked at.
var demoTeams = map[string]string{"operations": "operators", "coldchain-leads": "leads", "outside-desk": "desk", "on-call": "on-call"}

// people makes the people of the demo, and gives their teams their roles.
func (d *depot) people(ctx context.Context) error {
	all := slices.Clone(demoRights)
	for _, p := range demoPeople {
		all = append(all, step{"/principals", map[string]any{"name": p.Name, "kind": "person", "teams": []string{demoTeams[p.Groups[0]]}, "description": p.Says}})
	}
	if _, err := d.make(ctx, all); err != nil {
		return err
	}
	var have client.Page[client.Grant]
	if err := d.api.Call(ctx, http.MethodGet, "/grants", nil, nil, &have); err != nil {
		return err
	}
	for _, g := range demoGrants {
		if slices.ContainsFunc(have.Items, func(h client.Grant) bool { return h.To == g.To && h.Role == g.Role && h.On == g.On }) {
			continue
		}
		if err := d.api.Call(ctx, http.MethodPost, "/grants", nil, map[string]any{"to": g.To, "role": g.Role, "on": g.On, "why": g.Why, "opens": g.Opens}, nil); err != nil {
			return err
		}
	}
	return nil
}
