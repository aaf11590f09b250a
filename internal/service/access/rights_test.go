package access_test

import (
	"context"
	"crypto/rand"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/access/accesstest"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/node/nodetest"
	rights "steadyferry/internal/service/access"
)

func owned(name string) catalog.Owned { return catalog.Owned{ID: catalog.NewOwnedID(), Name: name} }

func grant(to, role, on string) *catalog.Grant {
	return &catalog.Grant{Owned: owned(to[:1] + role[:1] + time.Now().Format("150405.000000000")), Grant: setting.Grant{To: to, Role: role, On: on}}
}

// desk is records with people of the depot.
func desk(t *testing.T) *nodetest.Node {
	n := nodetest.Open(t)
	people := []*catalog.Principal{
		{Owned: owned("lead"), Principal: setting.Principal{Kind: setting.Person}},
		{Owned: owned("desk-1"), Principal: setting.Principal{Kind: setting.Person, Teams: []string{"desk"}}},
		{Owned: owned("build-42"), Principal: setting.Principal{Kind: setting.Machine}},
	}
	roles := []*catalog.Role{{Owned: owned("packer"), Role: setting.Role{Verbs: []string{"publish", "lease"}}}}
	grants := []*catalog.Grant{grant("lead", "team-owner", "coldchain"), grant("team:desk", "help-desk", "coldchain/inspections"), grant("build-42", "packer", "coldchain/*"), grant("build-42", "gone", "*")}
	require.NoError(t, n.Catalog.NewRights(t.Context(), nil, catalog.Rights{Principals: people, Roles: roles, Grants: grants}))
	return n
}

// come is who comes with a new token of a principal.
func come(t *testing.T, n *nodetest.Node, s catalog.Secret) access.Asker {
	s.Kind = catalog.Token
	text, err := n.Catalog.NewSecret(t.Context(), s, 0, nil)
	require.NoError(t, err)
	a, ok := n.Catalog.Known(catalog.Token, text)
	require.True(t, ok)
	return n.Access.Asker(a, rights.Coming{})
}

func TestRightsAreWhatPrincipalsAndTheirTeamsWereGiven(t *testing.T) {
	n := desk(t)
	for _, c := range []struct {
		who  string
		verb access.Verb
		at   string
		may  bool
	}{
		{"owner", access.Nodes, "nodes/node-a", true},
		{"lead", access.Access, "coldchain/readings", true},
		{"lead", access.Nodes, "coldchain", false},
		{"lead", access.SeeCounts, "other", false},
		{"desk-1", access.Return, "coldchain/inspections", true},
		{"desk-1", access.SeeContent, "coldchain/inspections", false},
		{"desk-1", access.Return, "coldchain/recalls", false},
		{"build-42", access.Publish, "coldchain/readings", true},
		{"build-42", access.Lease, "coldchain", false},
		{"nobody", access.SeeCounts, "coldchain", false},
	} {
		assert.Equal(t, c.may, n.Access.Of(c.who).May(c.verb, c.at), "%s %s %s", c.who, c.verb, c.at)
	}
}

func TestRightsFollowTheRecords(t *testing.T) {
	n := desk(t)
	who := come(t, n, catalog.Secret{Principal: "desk-1"})
	ctx := access.As(t.Context(), who)
	require.NoError(t, access.Check(ctx, access.Return, "coldchain/inspections"))

	shut := func(paused bool) {
		_, err := n.Access.SetPrincipal(accesstest.Owner(t), "owner", "desk-1", setting.Change{"paused": paused}, false)
		require.NoError(t, err)
	}
	shut(true)
	assert.EqualError(t, access.Check(ctx, access.Return, "coldchain/inspections"), "desk-1 may not return coldchain/inspections; desk-1 is shut out; owner can let it in")
	shut(false)
	require.NoError(t, access.Check(ctx, access.Return, "coldchain/inspections"))

	soon := grant("desk-1", "packer", "coldchain/recalls")
	soon.Until = time.Now().Add(1500 * time.Millisecond).Format(time.RFC3339Nano)
	require.NoError(t, n.Catalog.NewRights(t.Context(), nil, catalog.Rights{Grants: []*catalog.Grant{soon}}))
	assert.True(t, access.May(ctx, access.Lease, "coldchain/recalls"))
	require.Eventually(t, func() bool { return !access.May(ctx, access.Lease, "coldchain/recalls") }, 20*time.Second, 10*time.Millisecond, "it ends by itself")

	require.NoError(t, n.Catalog.RemovePrincipal(t.Context(), n.Catalog.View().Principal("desk-1"), nil))
	assert.Error(t, access.Check(ctx, access.Return, "coldchain/inspections"))
	_, ok := n.Catalog.Known(catalog.Token, "t-x")
	assert.False(t, ok)
	secrets, err := n.Catalog.Secrets(t.Context())
	require.NoError(t, err)
	assert.Empty(t, secrets, "its tokens have ended with it")
	assert.Len(t, n.Catalog.View().Grants, 4, "and what it was given itself, not what its team was")
}

func TestARefusalSaysWhoCanAllowIt(t *testing.T) {
	n := desk(t)
	ctx := access.As(t.Context(), come(t, n, catalog.Secret{Principal: "desk-1"}))
	err := access.Check(ctx, access.SeeContent, "coldchain/inspections")
	assert.EqualError(t, err, "desk-1 may not see-content coldchain/inspections; role operator, role team-owner or role owner lets do that (see of messages their keys, headers, bodies and details of failures); lead or owner can give it: ferry access new grant desk-1 -role ROLE -on coldchain/inspections")
	assert.ErrorContains(t, access.Check(t.Context(), access.SeeCounts, "coldchain"), "nobody asks for see-counts of coldchain")
	assert.NoError(t, access.Check(access.As(context.Background(), access.Node("node-a")), access.Nodes, "nodes"))
}

func TestATokenIsGoodForItsScopeAlone(t *testing.T) {
	n := desk(t)
	ctx := access.As(t.Context(), come(t, n, catalog.Secret{Principal: "build-42", Role: "publisher", Pattern: "coldchain/readings"}))
	assert.NoError(t, access.Check(ctx, access.Publish, "coldchain/readings"))
	assert.EqualError(t, access.Check(ctx, access.Publish, "coldchain/journeys"), "build-42 may not publish coldchain/journeys; this token is for the role publisher on coldchain/readings alone; use another one of build-42")
	assert.False(t, access.May(ctx, access.SeeCounts, "coldchain/readings"), "a scope gives nothing")
	ctx = access.As(t.Context(), come(t, n, catalog.Secret{Principal: "build-42", Role: "none such", Pattern: "*"}))
	assert.False(t, access.May(ctx, access.Publish, "coldchain/readings"))
	ctx = access.As(t.Context(), come(t, n, catalog.Secret{Principal: "owner", Role: "viewer", Pattern: "coldchain"}))
	assert.True(t, access.May(ctx, access.SeeCauses, "coldchain/readings"))
	assert.False(t, access.May(ctx, access.Publish, "coldchain/readings"))
}

// What it costs to ask whether somebody who has come with a token may do something.
func BenchmarkCheck(b *testing.B) {
	n := nodetest.Open(b)
	machine := &catalog.Principal{Owned: owned("box"), Principal: setting.Principal{Kind: setting.Machine}}
	grants := []*catalog.Grant{grant("box", "publisher", "coldchain/readings")}
	for range 1000 {
		grants = append(grants, &catalog.Grant{Owned: catalog.Owned{ID: catalog.NewOwnedID(), Name: rand.Text()}, Grant: setting.Grant{To: "box", Role: "viewer", On: "space-" + strings.ToLower(rand.Text()[:8]) + "/in*"}})
	}
	require.NoError(b, n.Catalog.NewRights(b.Context(), nil, catalog.Rights{Principals: []*catalog.Principal{machine}, Grants: grants}))
	text, err := n.Catalog.NewSecret(b.Context(), catalog.Secret{Principal: "box", Kind: catalog.Token}, 0, nil)
	require.NoError(b, err)
	come, ok := n.Catalog.Known(catalog.Token, text)
	require.True(b, ok)
	b.ReportAllocs()
	for b.Loop() {
		n.Access.Used(b.Context(), come, true)
		if access.Check(access.As(b.Context(), n.Access.Asker(come, rights.Coming{From: "127.0.0.1:1"})), access.Publish, "coldchain/readings") != nil {
			b.Fatal("it is refused")
		}
	}
}
