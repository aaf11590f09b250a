package access_test

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/access/accesstest"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/engine/catalog"
)

// Nobody gives what it does not have, to itself or to others, in whatever way.
func TestNobodyGivesMoreThanItHas(t *testing.T) {
	n := desk(t)
	lead := access.As(t.Context(), come(t, n, catalog.Secret{Principal: "lead"}))
	help := access.As(t.Context(), come(t, n, catalog.Secret{Principal: "desk-1"}))
	box := access.As(t.Context(), come(t, n, catalog.Secret{Principal: "build-42", Role: "publisher", Pattern: "coldchain/readings"}))
	give := func(ctx context.Context, to, role, on string) error {
		_, err := n.Access.NewGrant(ctx, "x", setting.Change{"to": to, "role": role, "on": on}, false)
		return err
	}
	token := func(ctx context.Context, s catalog.Secret) error {
		_, err := n.Access.NewToken(ctx, "x", s, 0)
		return err
	}
	// Somebody who looks after people, and may do nothing else.
	_, err := n.Access.NewToken(accesstest.Owner(t), "owner", catalog.Secret{Principal: "clerk", Role: "clerk", Pattern: "principals"}, 0)
	require.ErrorContains(t, err, "there is no role clerk")
	require.NoError(t, n.Access.NewRole(accesstest.Owner(t), "owner", "clerk", setting.Change{"verbs": []string{"access"}}))
	_, err = n.Access.NewToken(accesstest.Owner(t), "owner", catalog.Secret{Principal: "clerk", Role: "clerk", Pattern: "principals"}, 0)
	require.NoError(t, err)
	clerk := access.As(t.Context(), come(t, n, catalog.Secret{Principal: "clerk"}))
	join := func(who string) error {
		_, err := n.Access.SetPrincipal(clerk, "clerk", who, setting.Change{"teams": []string{"desk"}}, false)
		return err
	}
	for name, c := range map[string]struct {
		err  error
		says string
	}{
		"a clerk who makes a person":            {n.Access.NewPrincipal(clerk, "clerk", "mika", setting.Change{"kind": "person"}), ""},
		"a clerk who makes one of a team":       {n.Access.NewPrincipal(clerk, "clerk", "noor", setting.Change{"teams": []string{"desk"}}), "clerk may not access coldchain/inspections"},
		"a clerk who joins a team":              {join("clerk"), "clerk may not access coldchain/inspections"},
		"a clerk who has another one join it":   {join("build-42"), "clerk may not access coldchain/inspections"},
		"a clerk with a token of a team owner":  {token(clerk, catalog.Secret{Principal: "lead"}), "clerk may not access coldchain"},
		"a clerk with a token of the owner":     {token(clerk, catalog.Secret{Principal: "owner"}), "clerk may not access *"},
		"a team owner on its space":             {give(lead, "desk-1", "viewer", "coldchain/*"), ""},
		"a team owner elsewhere":                {give(lead, "desk-1", "viewer", "other"), "lead may not access other"},
		"a team owner everywhere":               {give(lead, "lead", "team-owner", "*"), "lead may not access *"},
		"more than it may itself":               {give(lead, "desk-1", "owner", "coldchain"), "lets do what lead may not do there itself (nodes)"},
		"a wider pattern":                       {give(lead, "desk-1", "viewer", "cold*"), "lead may not access cold*"},
		"a help desk to itself":                 {give(help, "desk-1", "team-owner", "coldchain/inspections"), "desk-1 may not access coldchain/inspections"},
		"to nobody that is there":               {give(lead, "nobody", "viewer", "coldchain"), "there is no principal nobody"},
		"a role that is not there":              {give(lead, "desk-1", "veiwer", "coldchain"), "did you mean viewer?"},
		"a token for a new machine":             {token(lead, catalog.Secret{Principal: "box-1", Role: "publisher", Pattern: "coldchain/readings"}), ""},
		"a token for a new machine elsewhere":   {token(lead, catalog.Secret{Principal: "box-2", Role: "publisher", Pattern: "*"}), "lead may not access *"},
		"a token of a machine of one's own":     {token(lead, catalog.Secret{Principal: "box-1", Role: "publisher", Pattern: "coldchain/readings"}), ""},
		"a token for all that a machine may be": {token(lead, catalog.Secret{Principal: "box-1"}), "lead may not access principals/box-1"},
		"a token of a person":                   {token(lead, catalog.Secret{Principal: "desk-1", Role: "viewer", Pattern: "coldchain"}), "lead may not access principals/desk-1"},
		"a token of the owner":                  {token(lead, catalog.Secret{Principal: "owner", Role: "viewer", Pattern: "coldchain"}), "lead may not access principals/owner"},
		"a token for more than its principal":   {token(help, catalog.Secret{Principal: "desk-1", Role: "team-owner", Pattern: "coldchain"}), "a token is never good for more than its principal"},
		"a token of one's own":                  {token(help, catalog.Secret{Principal: "desk-1"}), ""},
		"a machine that is called as nodes are": {token(accesstest.Owner(t), catalog.Secret{Principal: "ferryd", Role: "publisher", Pattern: "coldchain/readings"}), "is the service itself"},
		"a person that is called as nodes are":  {n.Access.NewPrincipal(accesstest.Owner(t), "owner", "ferryd", nil), "is the service itself"},
		"a new person":                          {n.Access.NewPrincipal(lead, "x", "ines", nil), "lead may not access principals/*"},
		"a new role":                            {n.Access.NewRole(lead, "x", "digger", setting.Change{"verbs": []string{"all"}}), "lead may not access roles/*"},
	} {
		if c.says == "" {
			assert.NoError(t, c.err, name)
			continue
		}
		assert.ErrorContains(t, c.err, c.says, name)
	}

	// What is made with a token that is good for less is good for no more.
	require.NoError(t, token(box, catalog.Secret{Principal: "build-42", Label: "again"}))
	all, err := n.Access.Secrets(box)
	require.NoError(t, err)
	for _, s := range all {
		assert.Equal(t, "publisher", s.Role)
	}
	assert.Error(t, token(box, catalog.Secret{Principal: "build-42", Role: "packer", Pattern: "coldchain/*"}))
}

func TestAChangeOfGrantsTellsWhoGainsAndLosesWhat(t *testing.T) {
	n := desk(t)
	ctx := accesstest.Owner(t)
	p, err := n.Access.NewGrant(ctx, "owner", setting.Change{"to": "team:desk", "role": "viewer", "on": "coldchain"}, true)
	require.NoError(t, err)
	assert.Equal(t, []string{"desk-1 gains see-counts, see-causes, see-metadata, logbook on coldchain"}, p.Effects)
	before := len(n.Catalog.View().Grants)
	_, err = n.Access.NewGrant(ctx, "owner", setting.Change{"to": "desk-1", "role": "help-desk", "on": "coldchain/inspections"}, false)
	require.NoError(t, err)
	assert.Len(t, n.Catalog.View().Grants, before+1)
	for _, g := range n.Access.Grants(ctx) {
		p, err := n.Access.RemoveGrant(ctx, "owner", g.Name, true)
		require.NoError(t, err)
		want := map[string]string{
			"lead": "lead loses " + roleVerbs("team-owner") + " on coldchain", "team:desk": "nobody loses anything by it now", "desk-1": "nobody loses anything by it now",
			"build-42": "build-42 loses publish, lease on coldchain/*",
		}[g.To]
		if g.Role == "gone" {
			want = "nobody loses anything by it now"
		}
		assert.Equal(t, []string{want}, p.Effects, "%+v", g)
	}
	_, err = n.Access.RemoveGrant(access.As(t.Context(), come(t, n, catalog.Secret{Principal: "desk-1"})), "desk-1", n.Access.Grants(ctx)[0].Name, false)
	assert.ErrorContains(t, err, "there is no grant", "of what is not its own it is not told")
	assert.ErrorContains(t, n.Access.RemoveRole(ctx, "owner", "packer"), "is given to somebody")
	assert.ErrorContains(t, n.Access.RemoveRole(ctx, "owner", "viewer"), "built in")
	_, err = n.Access.RemovePrincipal(ctx, "owner", "owner", false)
	assert.ErrorContains(t, err, "there is no principal owner that can be removed")
}

func roleVerbs(name string) string {
	for _, r := range access.BuiltIn {
		if r.Name == name {
			return r.Verbs.String()
		}
	}
	return ""
}

func TestWhetherSomebodyMay(t *testing.T) {
	n := desk(t)
	ctx := accesstest.Owner(t)
	m, err := n.Access.May(ctx, "desk-1", access.Return, "coldchain/inspections")
	require.NoError(t, err)
	assert.True(t, m.May)
	assert.Equal(t, "desk-1 may return coldchain/inspections: help-desk on coldchain/inspections was given to team:desk", m.Says)
	m, err = n.Access.May(access.As(t.Context(), come(t, n, catalog.Secret{Principal: "desk-1"})), "desk-1", access.Seek, "coldchain/readings")
	require.NoError(t, err, "of oneself one may ask")
	assert.False(t, m.May)
	_, err = n.Access.May(access.As(t.Context(), come(t, n, catalog.Secret{Principal: "desk-1"})), "lead", access.Seek, "coldchain/readings")
	var refused *problem.Problem
	require.ErrorAs(t, err, &refused)
	assert.Equal(t, problem.Refused, refused.Kind)
	names, err := n.Access.WhoMay(ctx, access.Return, "coldchain/inspections")
	require.NoError(t, err)
	assert.Equal(t, []string{"desk-1", "lead", "owner"}, names)
}
