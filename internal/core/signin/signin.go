// Package signin decides who somebody is for whom another place vouches, and in which teams: by
// the rules of the file of -sign-in. It only computes.
package signin

import (
	"fmt"
	"net/url"
	"path"
	"slices"
	"strings"

	"github.com/goccy/go-yaml"

	"steadyferry/internal/core/address"
	"steadyferry/internal/core/endpoint"
	"steadyferry/internal/core/setting"
)

// Config is how people sign in, as the file of -sign-in says it.
type Config struct {
	Providers    []*Provider   `yaml:"providers"`
	Certificates *Certificates `yaml:"certificates"` // nil: none is asked for
	Accounts     *bool         `yaml:"accounts"`     // whether people have accounts here; nil: they may
	Tokens       *bool         `yaml:"tokens"`       // whether one signs in to the console with a token; nil: yes
}

// Provider is a place that vouches for people by OpenID Connect.
type Provider struct {
	Name       string `yaml:"name"`        // by which it is known here
	Label      string `yaml:"label"`       // on the page on which people sign in; the name without it
	Issuer     string `yaml:"issuer"`      // its address
	Client     string `yaml:"client"`      // as which it knows this service
	SecretFile string `yaml:"secret-file"` // with the secret of the client; without one it has none
	Secret     string `yaml:"-"`           // what is in it
	NameClaim  string `yaml:"name-claim"`  // the claim that names the principal
	Names      string `yaml:"names"`       // what names must fit, such as *@northlight.example
	Teams      []Rule `yaml:"teams"`
}

// Rule puts people into a team of whom a claim holds a value: as a text, or among others in a list.
type Rule struct {
	Claim string `yaml:"claim"`
	Holds string `yaml:"holds"`
	Team  string `yaml:"team"`
}

// Person is somebody as a provider knows them.
type Person struct {
	Name     string   // of the principal
	Identity string   // the provider and its own name for them, which never goes to somebody else
	Teams    []string // that the rules put them in, in order
}

// On reports whether something is not switched off.
func On(said *bool) bool { return said == nil || *said }

const (
	defaultNameClaim = "preferred_username"
	maxProviders     = 20
	maxRules         = 1000
	maxIdentity      = 300
)

// Parse reads the file of -sign-in. The error says which part of it is wrong, and what is allowed.
func Parse(text []byte) (*Config, error) {
	c := &Config{}
	if err := yaml.UnmarshalWithOptions(text, c, yaml.Strict()); err != nil {
		return nil, err
	}
	if len(c.Providers) > maxProviders {
		return nil, fmt.Errorf("providers: there are %d; allowed: up to %d", len(c.Providers), maxProviders)
	}
	names := map[string]bool{}
	for i, p := range c.Providers {
		if p == nil {
			return nil, fmt.Errorf("providers[%d]: it is empty", i)
		}
		if err := p.check(); err != nil {
			return nil, fmt.Errorf("providers[%d] %s: %w", i, p.Name, err)
		}
		if names[p.Name] {
			return nil, fmt.Errorf("providers[%d]: there is another one with the name %s", i, p.Name)
		}
		names[p.Name] = true
	}
	if c.Certificates != nil {
		if err := c.Certificates.check(); err != nil {
			return nil, fmt.Errorf("certificates: %w", err)
		}
	}
	return c, nil
}

func (p *Provider) check() error {
	if err := address.CheckName(p.Name); err != nil {
		return fmt.Errorf("name: %w", err)
	}
	u, err := url.Parse(p.Issuer)
	switch {
	case err != nil || u.Host == "" || u.Scheme != "https" && (u.Scheme != "http" || !endpoint.OnLoopback(u.Hostname())):
		return fmt.Errorf("issuer: %q; allowed: an https address, or http on loopback", p.Issuer)
	case p.Client == "":
		return fmt.Errorf("client: it is missing: the name by which the provider knows this service")
	case len(p.Teams) > maxRules:
		return fmt.Errorf("teams: there are %d rules; allowed: up to %d", len(p.Teams), maxRules)
	}
	if _, err := path.Match(p.Names, ""); err != nil {
		return fmt.Errorf("names: %q is no pattern; allowed: a text with * for any characters", p.Names)
	}
	if p.Label == "" {
		p.Label = p.Name
	}
	if p.NameClaim == "" {
		p.NameClaim = defaultNameClaim
	}
	for i, r := range p.Teams {
		if r.Claim == "" || r.Holds == "" {
			return fmt.Errorf("teams[%d]: a claim and what it holds are expected", i)
		}
		if err := address.CheckName(r.Team); err != nil {
			return fmt.Errorf("teams[%d]: team: %w", i, err)
		}
	}
	return nil
}

// Person is who somebody is with claims that the provider has signed. The error says why it can be
// nobody here.
func (p *Provider) Person(claims map[string]any) (*Person, error) {
	subject, _ := claims["sub"].(string)
	if subject == "" || len(p.Name)+len(subject) > maxIdentity {
		return nil, fmt.Errorf("the provider does not say which of its people that is")
	}
	text, _ := claims[p.NameClaim].(string)
	name := strings.ToLower(strings.TrimSpace(text))
	if name == "" {
		return nil, fmt.Errorf("the provider does not tell the claim %s, which names people here", p.NameClaim)
	}
	if err := setting.CheckPrincipal(name); err != nil {
		return nil, err
	}
	if fits, _ := path.Match(p.Names, name); p.Names != "" && !fits {
		return nil, fmt.Errorf("%s does not fit %s: the provider may not vouch for it", name, p.Names)
	}
	person := &Person{Name: name, Identity: p.Name + " " + subject, Teams: []string{}}
	for _, r := range p.Teams {
		if holds(claims[r.Claim], r.Holds) && !slices.Contains(person.Teams, r.Team) {
			person.Teams = append(person.Teams, r.Team)
		}
	}
	slices.Sort(person.Teams)
	return person, nil
}

// holds reports whether a claim is a value, or has it among others.
func holds(claim any, value string) bool {
	if list, ok := claim.([]any); ok {
		return slices.ContainsFunc(list, func(one any) bool { return one == value })
	}
	return claim == value
}
