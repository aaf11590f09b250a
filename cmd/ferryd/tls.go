package main

import (
	"crypto/tls"
	"fmt"
	"net"

	"steadyferry/internal/core/endpoint"
	"steadyferry/internal/core/signin"
)

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
	pair, err := newReread("the certificate", []string{c.tlsCert, c.tlsKey}, func() (*tls.Certificate, error) {
		pair, err := tls.LoadX509KeyPair(c.tlsCert, c.tlsKey)
		return &pair, err
	})
	if err != nil {
		return nil, fmt.Errorf("-tls-cert %s, -tls-key %s: %w", c.tlsCert, c.tlsKey, err)
	}
	get := func(*tls.ClientHelloInfo) (*tls.Certificate, error) { return pair.now(), nil }
	return &tls.Config{GetCertificate: get, MinVersion: tls.VersionTLS12, NextProtos: []string{"h2", "http/1.1"}}, nil
}

// scheme is that of the URLs of this node.
func (c *config) scheme() string {
	if c.tlsCert != "" {
		return "https://"
	}
	return "http://"
}

// asking is how the API is served where clients may come with certificates: by the authorities of the
// moment of each connection.
func asking(secure *tls.Config, clients *signin.Certificates) *tls.Config {
	secure.ClientAuth = tls.VerifyClientCertIfGiven
	each := secure.Clone()
	each.GetConfigForClient = func(*tls.ClientHelloInfo) (*tls.Config, error) {
		now := secure.Clone()
		now.ClientCAs = clients.Trust().Pool
		return now, nil
	}
	return each
}
