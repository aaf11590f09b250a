package signin_test

import (
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/access/accesstest"
	"steadyferry/internal/core/setting"
	rules "steadyferry/internal/core/signin"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/outside/gatehouse"
	"steadyferry/internal/engine/postgres/testdb"
	"steadyferry/internal/node/nodetest"
	"steadyferry/internal/service/signin"
)

func TestMain(m *testing.M) { testdb.Main(m) }

const back = "http://127.0.0.1:9/api/v1/sign-in/northlight/done"

// gate is a provider with two of its people, and the service that people come to from there.
type gate struct {
	*signin.SignIn
	n     *nodetest.Node
	house *gatehouse.House
	t     *testing.T
}

func open(t *testing.T) *gate {
	g := &gate{n: nodetest.Open(t), t: t}
	var handler http.Handler
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { handler.ServeHTTP(w, r) }))
	t.Cleanup(server.Close)
	issuer := server.URL + "/people"
	g.house = gatehouse.New(issuer, "steady-ferry", []gatehouse.Person{{Name: "help-desk-1", Groups: []string{"outside-desk"}}, {Name: "owner"}, {Name: "build-42"}})
	handler = g.house.Handler()
	config, err := rules.Parse([]byte("providers: [{name: northlight, issuer: '" + issuer + "', client: steady-ferry, teams: [{claim: groups, holds: outside-desk, team: desk}]}]"))
	require.NoError(t, err)
	g.SignIn = signin.New(g.n.Catalog, config, "")
	require.NoError(t, g.n.Catalog.NewRights(t.Context(), nil, catalog.Rights{Grants: []*catalog.Grant{{Owned: catalog.Owned{ID: catalog.NewOwnedID(), Name: "g"}, Grant: setting.Grant{To: "team:desk", Role: "help-desk", On: "coldchain/inspections"}}}}))
	return g
}

// choose is a browser in which somebody chooses whom to be: it returns what it comes back with.
func (g *gate) choose(to, person string) url.Values {
	g.t.Helper()
	browser := &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	r, err := browser.PostForm(to, url.Values{"person": {person}})
	require.NoError(g.t, err)
	r.Body.Close()
	require.Equal(g.t, http.StatusSeeOther, r.StatusCode)
	require.True(g.t, strings.HasPrefix(r.Header.Get("Location"), back+"?"))
	u, err := url.Parse(r.Header.Get("Location"))
	require.NoError(g.t, err)
	return u.Query()
}

// come signs somebody in.
func (g *gate) come(person string) (string, error) {
	g.t.Helper()
	to, flow, err := g.Begin(g.t.Context(), "northlight", back, "/now", false)
	if err != nil {
		return "", err
	}
	q := g.choose(to, person)
	return g.Finish(g.t.Context(), flow, "northlight", back, q.Get("state"), q.Get("code"))
}

func why(t *testing.T, err error) string {
	t.Helper()
	var failed *signin.Failed
	require.ErrorAs(t, err, &failed)
	return failed.Why
}

// Who comes for the first time is a principal from then on, in the teams that the provider says;
// what it says later counts later.
func TestWhoComesIsInTheTeamsThatTheProviderSays(t *testing.T) {
	g := open(t)
	may := func() bool {
		return g.n.Access.Named("help-desk-1").Rights().May(access.Return, "coldchain/inspections")
	}
	name, err := g.come("help-desk-1")
	require.NoError(t, err)
	assert.Equal(t, "help-desk-1", name)
	assert.True(t, may())
	revision := g.n.Catalog.View().Principal(name).Revision
	_, err = g.come("help-desk-1")
	require.NoError(t, err)
	assert.Equal(t, revision, g.n.Catalog.View().Principal(name).Revision, "who comes as before changes nothing")

	// What an administrator sets beside it stays.
	_, err = g.n.Access.SetPrincipal(accesstest.Owner(t), "owner", name, setting.Change{"teams": []string{"helpers"}}, false)
	require.NoError(t, err)
	g.house.Twist(func(claims map[string]any) { claims["groups"] = []string{} })
	_, err = g.come("help-desk-1")
	require.NoError(t, err)
	assert.False(t, may(), "it is in the team no more")
	assert.Equal(t, []string{"helpers"}, g.n.Catalog.View().Principal(name).Teams)
	g.house.Twist(nil)
	_, err = g.come("help-desk-1")
	require.NoError(t, err)
	for _, p := range g.n.Access.Principals(accesstest.Owner(t)) {
		if p.Name == name {
			assert.Equal(t, []any{[]string{"helpers"}, []string{"desk"}, "northlight"}, []any{p.Teams, p.Brought, p.Provider})
		}
	}
}

// A person that was made before waits for who comes with the name; nobody else gets it then.
func TestANameBelongsToOnePersonOfOneProvider(t *testing.T) {
	g := open(t)
	require.NoError(t, g.n.Access.NewPrincipal(accesstest.Owner(t), "owner", "help-desk-1", setting.Change{"kind": "person"}))
	require.NoError(t, g.n.Access.NewPrincipal(accesstest.Owner(t), "owner", "build-42", setting.Change{"kind": "machine"}))
	_, err := g.come("help-desk-1")
	require.NoError(t, err)
	g.house.Twist(func(claims map[string]any) { claims["sub"] = "somebody-else" })
	_, err = g.come("help-desk-1")
	assert.ErrorContains(t, err, "help-desk-1 is somebody else here")
	g.house.Twist(nil)
	for _, nobody := range []string{"owner", "build-42"} {
		_, err := g.come(nobody)
		assert.ErrorContains(t, err, nobody+" is no person here")
	}
	_, err = g.n.Access.SetPrincipal(accesstest.Owner(t), "owner", "help-desk-1", setting.Change{"paused": true}, false)
	require.NoError(t, err)
	_, err = g.come("help-desk-1")
	assert.ErrorContains(t, err, "is shut out")
}

// What is not for this sign-in, not for this service, not of this time or not signed by the
// provider lets nobody in.
func TestWhatAProviderSaysIsProved(t *testing.T) {
	g := open(t)
	for name, twist := range map[string]func(map[string]any){
		"the nonce of another": func(c map[string]any) { c["nonce"] = "x" },
		"no nonce":             func(c map[string]any) { delete(c, "nonce") },
		"for another service":  func(c map[string]any) { c["aud"] = "other" },
		"for several":          func(c map[string]any) { c["aud"] = []string{"other", "steady-ferry"} },
		"made for another":     func(c map[string]any) { c["azp"] = "other" },
		"by another":           func(c map[string]any) { c["iss"] = "http://127.0.0.1:1/people" },
		"over":                 func(c map[string]any) { c["exp"] = time.Now().Add(-time.Hour).Unix() },
		"a leaving":            func(c map[string]any) { c["events"] = map[string]any{"x": map[string]any{}} },
		"nobody":               func(c map[string]any) { delete(c, "sub") },
		"without a name":       func(c map[string]any) { delete(c, "preferred_username") },
		"with a strange name":  func(c map[string]any) { c["preferred_username"] = "a\tb" },
	} {
		g.house.Twist(twist)
		_, err := g.come("help-desk-1")
		assert.Equal(t, signin.Refused, why(t, err), name)
	}
	g.house.Twist(nil)
	assert.Nil(t, g.n.Catalog.View().Principal("help-desk-1"), "nothing has come of it")

	ctx := t.Context()
	to, flow, err := g.Begin(ctx, "northlight", back, "/now", true)
	require.NoError(t, err)
	assert.Contains(t, to, "max_age=0")
	assert.NotContains(t, to, flow.Verifier)
	q := g.choose(to, "help-desk-1")
	_, other, err := g.Begin(ctx, "northlight", back, "/now", false)
	require.NoError(t, err)
	late := *flow
	late.Until = time.Now().Add(-time.Second)
	for name, f := range map[string]*signin.Flow{"another browser": other, "nothing": {}, "too late": &late} {
		_, err := g.Finish(ctx, f, "northlight", back, q.Get("state"), q.Get("code"))
		assert.Equal(t, signin.Late, why(t, err), name)
	}
	stolen := *other
	stolen.State = flow.State
	_, err = g.Finish(ctx, &stolen, "northlight", back, q.Get("state"), q.Get("code"))
	assert.Equal(t, signin.Refused, why(t, err), "a code is of no use without its verifier")
	_, err = g.Finish(ctx, flow, "northlight", back, q.Get("state"), q.Get("code"))
	assert.Equal(t, signin.Refused, why(t, err), "and not twice")
	_, err = g.Finish(ctx, flow, "elsewhere", back, q.Get("state"), q.Get("code"))
	assert.Equal(t, signin.Refused, why(t, err))
}

// A provider may be away, come back, and sign with another key.
func TestAProviderIsAwayAndChangesItsKey(t *testing.T) {
	g := open(t)
	g.house.Away(true)
	_, err := g.come("help-desk-1")
	assert.Equal(t, signin.Away, why(t, err))
	g.house.Away(false)
	to, flow, err := g.Begin(t.Context(), "northlight", back, "/now", false)
	require.NoError(t, err)
	q := g.choose(to, "help-desk-1")
	g.house.Away(true)
	_, err = g.Finish(t.Context(), flow, "northlight", back, q.Get("state"), q.Get("code"))
	assert.Equal(t, signin.Away, why(t, err))
	g.house.Away(false)
	for range 3 {
		_, err = g.come("help-desk-1")
		require.NoError(t, err)
		g.house.Rotate()
	}
}

// Who leaves at the provider has no session here any more; a word of that counts once, and soon.
func TestWhoLeavesThereHasLeftHere(t *testing.T) {
	g := open(t)
	ctx := t.Context()
	name, err := g.come("help-desk-1")
	require.NoError(t, err)
	session, err := g.n.Access.NewSession(ctx, catalog.Secret{Principal: name}, "northlight", "127.0.0.1")
	require.NoError(t, err)
	in := func() bool {
		_, ok, err := g.n.Catalog.LookUp(ctx, catalog.Session, session)
		require.NoError(t, err)
		return ok
	}
	require.True(t, in())
	for what, twist := range map[string]func(map[string]any){
		"old":                       func(c map[string]any) { c["iat"] = time.Now().Add(-time.Hour).Unix() },
		"for another":               func(c map[string]any) { c["aud"] = "other" },
		"not a leaving":             func(c map[string]any) { delete(c, "events") },
		"without a name of its own": func(c map[string]any) { delete(c, "jti") },
	} {
		g.house.Twist(twist)
		text, err := g.house.Leave(name)
		require.NoError(t, err)
		_, err = g.Left(ctx, "northlight", text)
		assert.Error(t, err, what)
	}
	g.house.Twist(nil)
	_, err = g.Left(ctx, "northlight", "x")
	assert.Error(t, err)
	assert.True(t, in())
	text, err := g.house.Leave(name)
	require.NoError(t, err)
	gone, err := g.Left(ctx, "northlight", text)
	require.NoError(t, err)
	assert.Equal(t, name, gone)
	assert.False(t, in())
	_, err = g.Left(ctx, "northlight", text)
	assert.Error(t, err, "it came before")
	text, err = g.house.Leave("owner")
	require.NoError(t, err)
	gone, err = g.Left(ctx, "northlight", text)
	assert.NoError(t, err)
	assert.Empty(t, gone, "who never came needs not to leave")
}
