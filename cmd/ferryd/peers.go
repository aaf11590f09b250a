package main

import (
	"cmp"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"os"
	"path/filepath"

	"steadyferry/internal/core/address"
	"steadyferry/internal/core/endpoint"
	"steadyferry/internal/node"
)

// peers fills in how other nodes, and clients, reach this one.
func (c *config) peers(listen net.Addr, to *node.Config) error {
	if err := address.CheckName(c.node); err != nil {
		return &usageError{fmt.Errorf("-node: %w", err)}
	}
	to.Advertise = c.scheme() + c.reachable(listen.String())
	if c.peerListen == "" {
		return nil
	}
	host, _, err := net.SplitHostPort(c.peerListen)
	if err != nil {
		return &usageError{fmt.Errorf("-peer-listen %s: %w", c.peerListen, err)}
	}
	if c.tlsDir != "" {
		if to.PeerTLS, err = peerTLS(c.tlsDir, c.node); err != nil {
			return fmt.Errorf("-tls-dir %s: %w; ferryd certs -tls-dir %s -nodes %s makes what is needed", c.tlsDir, err, c.tlsDir, c.node)
		}
	} else if !endpoint.OnLoopback(host) {
		return &usageError{fmt.Errorf("-peer-listen %s is not on loopback: nodes talk over mutual TLS there; give -tls-dir (ferryd certs makes one)", c.peerListen)}
	} else {
		slog.Info("this node talks to others without TLS, on loopback only", "peer-listen", c.peerListen)
	}
	if to.PeerListener, err = net.Listen("tcp", c.peerListen); err != nil {
		return fmt.Errorf("-peer-listen %s: %w", c.peerListen, err)
	}
	to.PeerAdvertise = c.reachable(to.PeerListener.Addr().String())
	return nil
}

// reachable puts the host under which this node is reached before the port.
func (c *config) reachable(listen string) string {
	host, port, err := net.SplitHostPort(listen)
	if err != nil {
		return listen
	}
	if ip := net.ParseIP(host); c.advertise == "" && ip != nil && ip.IsUnspecified() {
		if host, err = os.Hostname(); err != nil {
			host = "localhost"
		}
	}
	return net.JoinHostPort(cmp.Or(c.advertise, host), port)
}

// peerTLS reads the certificates of a node and of the authority that all nodes
// trust.
func peerTLS(dir, node string) (*tls.Config, error) {
	pair, err := tls.LoadX509KeyPair(filepath.Join(dir, node+".pem"), filepath.Join(dir, node+"-key.pem"))
	if err != nil {
		return nil, err
	}
	ca, err := os.ReadFile(filepath.Join(dir, "ca.pem"))
	if err != nil {
		return nil, err
	}
	pool := x509.NewCertPool()
	if !pool.AppendCertsFromPEM(ca) {
		return nil, errors.New("ca.pem holds no certificate")
	}
	return &tls.Config{Certificates: []tls.Certificate{pair}, RootCAs: pool, ClientCAs: pool, ClientAuth: tls.RequireAndVerifyClientCert, MinVersion: tls.VersionTLS13}, nil
}
