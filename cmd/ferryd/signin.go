package main

import (
	"fmt"
	"net/url"
	"os"
	"strings"

	"steadyferry/internal/core/signin"
)

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
	return all, nil
}
