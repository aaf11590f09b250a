package main

import (
	"crypto/tls"
	"fmt"
	"log/slog"
	"net"
	"os"
	"sync"
	"time"

	"steadyferry/internal/core/endpoint"
)

// lookEvery is how often the files of a certificate are looked at, at most.
const lookEvery = 5 * time.Second

// certificate is a pair of files, read anew when they change. It may be used by many at once.
type certificate struct {
	cert, key string

	mu      sync.Mutex // guards all below
	pair    *tls.Certificate
	written [2]time.Time // the files that the pair is of, or that could not be read
	looked  time.Time
}

func readCertificate(cert, key string) (*certificate, error) {
	c := &certificate{cert: cert, key: key, looked: time.Now()}
	c.written = c.times()
	pair, err := tls.LoadX509KeyPair(cert, key)
	c.pair = &pair
	return c, err
}

func (c *certificate) times() (at [2]time.Time) {
	for i, path := range []string{c.cert, c.key} {
		if info, err := os.Stat(path); err == nil {
			at[i] = info.ModTime()
		}
	}
	return at
}

// get returns the pair as its files are now. While they do not fit each other, the old one stays.
func (c *certificate) get(*tls.ClientHelloInfo) (*tls.Certificate, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if time.Since(c.looked) < lookEvery {
		return c.pair, nil
	}
	c.looked = time.Now()
	now := c.times()
	if now == c.written {
		return c.pair, nil
	}
	pair, err := tls.LoadX509KeyPair(c.cert, c.key)
	c.written = now
	if err != nil {
		slog.Warn("the certificate was changed and cannot be read; the one of before goes on", "tls-cert", c.cert, "tls-key", c.key, "error", err)
		return c.pair, nil
	}
	c.pair = &pair
	slog.Info("the certificate was read anew", "tls-cert", c.cert, "until", pair.Leaf.NotAfter.UTC())
	return c.pair, nil
}

// tls returns how the API is served: nil for plain HTTP, which takes loopback or the word for it.
func (c *config) tls() (*tls.Config, error) {
	if (c.tlsCert == "") != (c.tlsKey == "") {
		return nil, &usageError{fmt.Errorf("-tls-cert %q and -tls-key %q: both are needed, or neither", c.tlsCert, c.tlsKey)}
	}
	if c.tlsCert == "" {
		host, _, _ := net.SplitHostPort(c.listen)
		if !c.plain && !endpoint.OnLoopback(host) {
			return nil, &usageError{fmt.Errorf("-listen %s is not on loopback: give -tls-cert and -tls-key (ferryd certs makes such), or -plain if what stands before this node speaks TLS", c.listen)}
		}
		return nil, nil
	}
	pair, err := readCertificate(c.tlsCert, c.tlsKey)
	if err != nil {
		return nil, fmt.Errorf("-tls-cert %s, -tls-key %s: %w", c.tlsCert, c.tlsKey, err)
	}
	return &tls.Config{GetCertificate: pair.get, MinVersion: tls.VersionTLS12, NextProtos: []string{"h2", "http/1.1"}}, nil
}

// scheme is that of the URLs of this node.
func (c *config) scheme() string {
	if c.tlsCert != "" {
		return "https://"
	}
	return "http://"
}
