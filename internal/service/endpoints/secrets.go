package endpoints

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"

	"steadyferry/internal/core/endpoint"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/seal"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/outside"
)

// secrets are those of an endpoint, by their names. They are shown never.
type secrets outside.Secrets

// secretsOf are the secrets that endpoints of a kind have.
var secretsOf = map[string][]string{
	setting.HTTP:    {outside.Signing, outside.OldSigning, outside.Bearer, outside.Certificate, outside.Authority},
	setting.InTable: {outside.Password, outside.Certificate, outside.Authority},
	setting.Ferry:   {outside.Token, outside.Certificate, outside.Authority},
	setting.Mail:    {outside.Password, outside.Certificate, outside.Authority},
}

const maxSecret = 32 << 10

// with returns the secrets after a change: an empty one is taken away, and of a new
// secret by which deliveries are signed, the one before stays as the old one.
func (s secrets) with(change map[string]string, kind, address string) (secrets, error) {
	changed := maps.Clone(s)
	if changed == nil {
		changed = secrets{}
	}
	for _, name := range slices.Sorted(maps.Keys(change)) {
		text := strings.TrimSpace(change[name])
		if !slices.Contains(secretsOf[kind], name) {
			return nil, problem.New(problem.Invalid, "%s is a %s endpoint, which has no secret %q", address, kind, name).Field("secrets").Allowed(strings.Join(secretsOf[kind], ", "))
		}
		if text == "" {
			delete(changed, name)
			continue
		}
		if err := checkSecret(name, text); err != nil {
			return nil, err
		}
		if was := changed[name]; name == outside.Signing && was != "" && was != text {
			changed[outside.OldSigning] = was
		}
		changed[name] = text
	}
	return changed, nil
}

func checkSecret(name, text string) error {
	wrong := func(allowed, format string, args ...any) error {
		return problem.New(problem.Invalid, format, args...).Field("secrets").Allowed(allowed)
	}
	if len(text) > maxSecret {
		return wrong(fmt.Sprintf("up to %d", maxSecret), "the secret %s has %d bytes", name, len(text))
	}
	switch name {
	case outside.Signing, outside.OldSigning:
		if _, err := endpoint.Key(text); err != nil {
			return wrong(endpoint.KeyForms, "the secret %s: %v", name, err)
		}
	case outside.Certificate:
		if _, err := tls.X509KeyPair([]byte(text), []byte(text)); err != nil {
			return wrong("a certificate and its key as PEM, one after the other", "the certificate: %v", err)
		}
	case outside.Authority:
		if !x509.NewCertPool().AppendCertsFromPEM([]byte(text)) {
			return wrong("certificates as PEM", "the authority has no certificate in it")
		}
	default:
		if strings.ContainsAny(text, "\r\n\x00") {
			return wrong("one line", "the secret %s has several lines", name)
		}
	}
	return nil
}

// names lists which secrets there are.
func (s secrets) names() []string {
	if len(s) == 0 {
		return []string{}
	}
	return slices.Sorted(maps.Keys(s))
}

// sealedFor is where the secrets of an endpoint are kept: they open nowhere else.
func sealedFor(id int64) string { return fmt.Sprintf("endpoints/%d/secrets", id) }

// seal makes the secrets what the records keep.
func (es *Endpoints) seal(id int64, s secrets) ([]byte, error) {
	if len(s) == 0 {
		return nil, nil
	}
	if len(es.config.Keys) == 0 {
		return nil, problem.New(problem.Unavailable, "this node has no key by which it can keep secrets").Next("start each node with ferryd's -seal-keys FILE, the same for all; ferryd new-seal-key makes a line of it")
	}
	b, err := json.Marshal(s)
	if err != nil {
		return nil, err
	}
	return es.config.Keys.Seal(sealedFor(id), b), nil
}

// open returns the secrets of an endpoint.
func (es *Endpoints) open(record *catalog.Endpoint) (s secrets, err error) {
	if len(record.Secrets) == 0 {
		return nil, nil
	}
	b, err := es.config.Keys.Open(sealedFor(record.ID), record.Secrets)
	if err != nil {
		return nil, err
	}
	return s, json.Unmarshal(b, &s)
}

// Rekey seals the secrets of all endpoints anew that are not sealed with the ring's first
// key, and returns how many those are, of how many with secrets.
func Rekey(ctx context.Context, records *catalog.Catalog, ring seal.Ring) (anew, all int, err error) {
	for _, e := range records.View().Endpoints {
		if len(e.Secrets) == 0 {
			continue
		}
		if all++; ring.Newest(e.Secrets) {
			continue
		}
		secret, err := ring.Open(sealedFor(e.ID), e.Secrets)
		if err != nil {
			return anew, all, fmt.Errorf("%s: %w", e.Address(), err)
		}
		changed := *e
		changed.Secrets = ring.Seal(sealedFor(e.ID), secret)
		if err := records.SetEndpoint(ctx, &changed, &catalog.Entry{Who: "ferryd", Action: "rekey endpoint", Address: e.Address()}); err != nil {
			return anew, all, fmt.Errorf("%s: %w", e.Address(), err)
		}
		anew++
	}
	return anew, all, nil
}
