package signin

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const file = `
providers:
  - name: northlight
    issuer: https://id.northlight.example
    client: steady-ferry
    names: "*@northlight.example"
    name-claim: email
    teams:
      - {claim: groups, holds: cold-desk, team: desk}
      - {claim: groups, holds: cold-night, team: desk}
      - {claim: department, holds: operations, team: operators}
`

func TestTheFileOfSignIn(t *testing.T) {
	c, err := Parse([]byte(file))
	require.NoError(t, err)
	require.Len(t, c.Providers, 1)
	p := c.Providers[0]
	assert.Equal(t, "northlight", p.Name)
	assert.Equal(t, "northlight", p.Label)
	empty, err := Parse(nil)
	require.NoError(t, err)
	assert.Empty(t, empty.Providers)

	for change, says := range map[string]string{
		"name: northlight=name: North Light":                    "name:",
		"issuer: https=issuer: http":                            "an https address, or http on loopback",
		"client: steady-ferry=client: ''":                       "client: it is missing",
		"team: operators=team: Night Shift":                     "teams[2]: team",
		"claim: department, =":                                  "teams[2]: a claim",
		"name-claim: email=nameclaim: email":                    "nameclaim",
		`names: "*@northlight.example"=names: "[a"`:             "is no pattern",
		"providers:\n=providers:\n  - name: a\n    issuer: x\n": "providers[0] a: issuer",
		"providers:\n=providers:\n  -\n":                        "providers[0]",
	} {
		old, fresh, _ := strings.Cut(change, "=")
		text := strings.Replace(file, old, fresh, 1)
		require.NotEqual(t, file, text, change)
		_, err := Parse([]byte(text))
		assert.ErrorContains(t, err, says, change)
	}
	_, err = Parse([]byte(file + strings.TrimPrefix(file, "\nproviders:\n")))
	assert.ErrorContains(t, err, "there is another one with the name northlight")
}

func TestWhoSomebodyIs(t *testing.T) {
	c, err := Parse([]byte(file))
	require.NoError(t, err)
	p := c.Providers[0]
	claims := func(changes map[string]any) map[string]any {
		all := map[string]any{"sub": "7f3", "email": "Desk-1@northlight.example", "groups": []any{"cold-night", "cold-desk", 7}, "department": "operations"}
		for name, value := range changes {
			all[name] = value
		}
		return all
	}
	person, err := p.Person(claims(nil))
	require.NoError(t, err)
	assert.Equal(t, &Person{Name: "desk-1@northlight.example", Identity: "northlight 7f3", Teams: []string{"desk", "operators"}}, person)
	person, err = p.Person(claims(map[string]any{"groups": "cold-desk", "department": []any{}}))
	require.NoError(t, err)
	assert.Equal(t, []string{"desk"}, person.Teams)

	for name, wrong := range map[string]map[string]any{
		"no subject":               {"sub": nil},
		"a subject without an end": {"sub": strings.Repeat("x", 400)},
		"no name":                  {"email": nil},
		"a list as a name":         {"email": []any{"desk-1@northlight.example"}},
		"another house":            {"email": "desk-1@elsewhere.example"},
		"what only ends so":        {"email": "x/@northlight.example"},
		"the service itself":       {"email": "ferryd"},
	} {
		_, err := p.Person(claims(wrong))
		assert.Error(t, err, name)
	}
}

// Whatever a file says, it is read or refused, and what is read can be used.
func FuzzParse(f *testing.F) {
	f.Add([]byte(file))
	f.Add([]byte("providers: [{}]"))
	f.Add([]byte("providers: {a: 1}"))
	f.Fuzz(func(t *testing.T, text []byte) {
		c, err := Parse(text)
		if err != nil {
			return
		}
		for _, p := range c.Providers {
			if person, err := p.Person(map[string]any{"sub": "1", p.NameClaim: "desk-1", "groups": []any{"a"}}); err == nil {
				assert.Equal(t, "desk-1", person.Name)
			}
		}
	})
}
