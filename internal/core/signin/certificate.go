package signin

import (
	"crypto/x509"
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"

	"steadyferry/internal/core/setting"
)

// Certificates is for whom certificates of clients stand, that an authority has signed.
type Certificates struct {
	Authorities string            `yaml:"authorities"` // file, PEM, of those that sign them
	Revoked     string            `yaml:"revoked"`     // file with lists of what they have revoked; empty: there is none
	Trust       func() *Trust     `yaml:"-"`           // what is in these files now
	Rules       []CertificateRule `yaml:"rules"`       // the first that fits counts
}

// CertificateRule has certificates stand for a principal by something that is in them.
type CertificateRule struct {
	Of        string `yaml:"of"`        // name (of the subject), dns, email or uri (names besides)
	Fits      string `yaml:"fits"`      // with * for any characters but /
	Principal string `yaml:"principal"` // without it what fits is the name of the principal
}

// holdings are what certificates have, by what a rule is of.
var holdings = map[string]func(c *x509.Certificate) []string{
	"name":  func(c *x509.Certificate) []string { return []string{c.Subject.CommonName} },
	"dns":   func(c *x509.Certificate) []string { return c.DNSNames },
	"email": func(c *x509.Certificate) []string { return c.EmailAddresses },
	"uri": func(c *x509.Certificate) (all []string) {
		for _, u := range c.URIs {
			all = append(all, u.String())
		}
		return all
	},
}

func (c *Certificates) check() error {
	switch {
	case c.Authorities == "":
		return errors.New("authorities: it is missing: the file, in PEM, with those that sign certificates of clients")
	case len(c.Rules) == 0 || len(c.Rules) > maxRules:
		return fmt.Errorf("rules: there are %d; allowed: 1 to %d", len(c.Rules), maxRules)
	}
	for i, r := range c.Rules {
		if holdings[r.Of] == nil {
			return fmt.Errorf("rules[%d]: of: %q; allowed: name, dns, email, uri", i, r.Of)
		}
		if _, err := path.Match(r.Fits, ""); err != nil || r.Fits == "" {
			return fmt.Errorf("rules[%d]: fits: %q is no pattern; allowed: a text with * for any characters but /", i, r.Fits)
		}
		if r.Principal == "" {
			continue
		}
		if err := setting.CheckPrincipal(r.Principal); err != nil {
			return fmt.Errorf("rules[%d]: principal: %w", i, err)
		}
	}
	return nil
}

// Principal is for whom a certificate stands that an authority has signed; ok is false when no rule
// fits.
func (c *Certificates) Principal(of *x509.Certificate) (name string, ok bool) {
	for _, r := range c.Rules {
		at := slices.IndexFunc(holdings[r.Of](of), func(held string) bool {
			fits, _ := path.Match(strings.ToLower(r.Fits), strings.ToLower(held))
			return fits && held != ""
		})
		if at < 0 {
			continue
		}
		if name = r.Principal; name == "" {
			name = strings.ToLower(holdings[r.Of](of)[at])
		}
		return name, setting.CheckPrincipal(name) == nil
	}
	return "", false
}
