package signin

import (
	"crypto/x509"
	"crypto/x509/pkix"
	"net/url"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestForWhomCertificatesStand(t *testing.T) {
	c, err := Parse([]byte(`
certificates:
  authorities: clients.pem
  rules:
    - {of: uri, fits: "spiffe://northlight.example/box/*", principal: boxes}
    - {of: dns, fits: "*.builds.example"}
    - {of: email, fits: "*@northlight.example"}
    - {of: name, fits: "relay-*"}
`))
	require.NoError(t, err)
	box, err := url.Parse("spiffe://northlight.example/box/7")
	require.NoError(t, err)
	deep, err := url.Parse("spiffe://northlight.example/box/7/8")
	require.NoError(t, err)
	for _, one := range []struct {
		of   x509.Certificate
		want string
	}{
		{x509.Certificate{URIs: []*url.URL{box}, DNSNames: []string{"a.builds.example"}}, "boxes"},
		{x509.Certificate{URIs: []*url.URL{deep}, DNSNames: []string{"other.example", "A.builds.example"}}, "a.builds.example"},
		{x509.Certificate{EmailAddresses: []string{"Ines@Northlight.example"}}, "ines@northlight.example"},
		{x509.Certificate{Subject: pkix.Name{CommonName: "relay-3"}}, "relay-3"},
		{x509.Certificate{Subject: pkix.Name{CommonName: "relay-3 of many"}}, ""}, // it is no name of a principal
		{x509.Certificate{Subject: pkix.Name{CommonName: "owner"}}, ""},
		{x509.Certificate{URIs: []*url.URL{deep}}, ""},
		{x509.Certificate{}, ""},
	} {
		name, ok := c.Certificates.Principal(&one.of)
		assert.Equal(t, one.want != "", ok, one.want)
		if ok {
			assert.Equal(t, one.want, name)
		}
	}
}

func TestRulesOfCertificatesAreRead(t *testing.T) {
	for text, wrong := range map[string]string{
		"certificates: {rules: [{of: dns, fits: x}]}":                                       "authorities: it is missing",
		"certificates: {authorities: a.pem}":                                                "rules: there are 0",
		"certificates: {authorities: a.pem, rules: [{of: ip, fits: x}]}":                    `of: "ip"; allowed: name, dns, email, uri`,
		"certificates: {authorities: a.pem, rules: [{of: dns}]}":                            "is no pattern",
		"certificates: {authorities: a.pem, rules: [{of: dns, fits: '[x'}]}":                "is no pattern",
		"certificates: {authorities: a.pem, rules: [{of: dns, fits: x, principal: 'A B'}]}": "principal: ",
		"certificates: {authorities: a.pem, rules: [{of: dns, fits: x, role: owner}]}":      "unknown field",
	} {
		_, err := Parse([]byte(text))
		assert.ErrorContains(t, err, wrong, text)
	}
}
