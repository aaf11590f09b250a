package main

import (
	"net"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/signin"
)

// What is said of providers is read with their secrets, or it is said what is wrong with it.
func TestHowPeopleSignInIsRead(t *testing.T) {
	dir := t.TempDir()
	write := func(name, text string) string {
		path := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
		return path
	}
	secret := write("secret", "  of the client\n")
	good := "providers: [{name: northlight, issuer: 'https://id.northlight.example', client: ferry, secret-file: " + secret + "}]"
	c := &config{signIn: write("good.yaml", good), publicURL: "https://ferry.example/"}
	all, err := c.people()
	require.NoError(t, err)
	require.Len(t, all.Providers, 1)
	assert.Equal(t, "of the client", all.Providers[0].Secret)
	assert.Equal(t, "https://ferry.example", c.publicURL)
	none, err := new(config).people()
	require.NoError(t, err)
	assert.Empty(t, none.Providers, "without a file with tokens alone")
	for path, says := range map[string]string{
		filepath.Join(dir, "missing"):                  "no such file",
		write("broken.yaml", "providers: [{name: x}]"): "issuer",
		write("secretless.yaml", "providers: [{name: x, issuer: 'https://x.example', client: y, secret-file: "+filepath.Join(dir, "missing")+"}]"): "provider x: secret-file",
	} {
		_, err := (&config{signIn: path}).people()
		var usage *usageError
		require.ErrorAs(t, err, &usage, path)
		assert.ErrorContains(t, err, says, path)
	}
}

// The people of the demo are in the teams that they are in before, when they have signed in.
func TestTheDemosPeopleAreInTheirTeams(t *testing.T) {
	places := func(c *config) *signin.Config {
		listener, err := c.listenOutside()
		require.NoError(t, err)
		defer listener.Close()
		all, err := c.people()
		require.NoError(t, err)
		assert.Equal(t, gateIssuer(listener), all.Providers[0].Issuer)
		return all
	}
	c := &config{dir: t.TempDir()}
	other, err := net.Listen("tcp", hookAddress) // another demo has the address, as it may
	if err == nil {
		defer other.Close()
	}
	p := places(c).Providers[0]
	assert.Equal(t, gateClient, p.Client)
	for _, one := range demoPeople {
		groups := make([]any, len(one.Groups))
		for i, g := range one.Groups {
			groups[i] = g
		}
		person, err := p.Person(map[string]any{"sub": "1", "preferred_username": one.Name, "groups": groups})
		require.NoError(t, err)
		assert.Equal(t, []string{demoTeams[one.Groups[0]]}, person.Teams, one.Name)
		given := false
		for _, g := range demoGrants {
			given = given || g.To == "team:"+person.Teams[0]
		}
		assert.True(t, given, "%s is given something", one.Name)
	}
}
