package main

import (
	"fmt"
	"log/slog"
	"net/url"
	"os"
	"strings"
	"time"

	"steadyferry/internal/core/signin"
)

// clients reads the authorities that sign certificates of clients.
func (c *config) clients(all *signin.Certificates) error {
	if all == nil {
		return nil
	}
	if c.tlsCert == "" {
		return &usageError{fmt.Errorf("-sign-in %s: certificates of clients come over TLS alone: give -tls-cert and -tls-key", c.signIn)}
	}
	files := []string{all.Authorities}
	if all.Revoked != "" {
		files = append(files, all.Revoked)
	}
	trust, err := newReread("which certificates of clients count", files, func() (*signin.Trust, error) { return readTrust(all) })
	if err != nil {
		return &usageError{fmt.Errorf("-sign-in %s: certificates: %w", c.signIn, err)}
	}
	all.Trust = trust.now
	return nil
}

func readTrust(of *signin.Certificates) (*signin.Trust, error) {
	authorities, err := os.ReadFile(of.Authorities)
	if err != nil {
		return nil, fmt.Errorf("authorities: %w", err)
	}
	var lists []byte
	if of.Revoked != "" {
		if lists, err = os.ReadFile(of.Revoked); err != nil {
			return nil, fmt.Errorf("revoked: %w", err)
		}
	}
	trust, err := signin.ParseTrust(authorities, lists)
	if err != nil {
		return nil, err
	}
	if !trust.Ends.IsZero() && time.Now().After(trust.Ends) {
		slog.Warn("a list of revoked certificates should have been followed by a newer one", "file", of.Revoked, "since", trust.Ends)
	}
	return trust, nil
}

// people reads by which providers people sign in, and by which URL browsers come.
func (c *config) people() (*signin.Config, error) {
	if u, err := url.Parse(c.publicURL); err != nil || c.publicURL != "" && (u.Host == "" || u.Scheme != "http" && u.Scheme != "https" || strings.Trim(u.Path, "/") != "" || u.RawQuery != "" || u.User != nil) {
		return nil, &usageError{fmt.Errorf("-public-url %q: allowed: http or https, a name, and a port, such as https://ferry.example", c.publicURL)}
	}
	c.publicURL = strings.TrimSuffix(c.publicURL, "/")
	if c.signIn == "" {
		return &signin.Config{}, nil
	}
	text, err := os.ReadFile(c.signIn)
	if err != nil {
		return nil, &usageError{fmt.Errorf("-sign-in: %w", err)}
	}
	all, err := signin.Parse(text)
	if err != nil {
		return nil, &usageError{fmt.Errorf("-sign-in %s: %w", c.signIn, err)}
	}
	for _, p := range all.Providers {
		if p.SecretFile == "" {
			continue
		}
		b, err := os.ReadFile(p.SecretFile)
		if err != nil {
			return nil, &usageError{fmt.Errorf("-sign-in %s: provider %s: secret-file: %w", c.signIn, p.Name, err)}
		}
		p.Secret = strings.TrimSpace(string(b))
	}
	return all, c.clients(all.Certificates)
}
