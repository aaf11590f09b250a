package main

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"flag"
	"fmt"
	"io"
	"math/big"
	"net"
	"os"
	"path/filepath"
	"strings"
	"time"

	"steadyferry/internal/core/address"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/core/words"
)

// How long what certs makes is valid.
const (
	authorityYears = 10
	nodeYears      = 2
)

// certs makes an authority for development, unless there is one, and a
// certificate for each node.
func certs(args []string) error {
	fs := flag.NewFlagSet("ferryd certs", flag.ContinueOnError)
	dir := fs.String("tls-dir", "ferry-tls", "`DIRECTORY` for the files, created if it is missing")
	nodes := fs.String("nodes", "node-a,node-b,node-c", "`NAMES` of the nodes, separated by commas")
	hosts := fs.String("hosts", "", "`HOSTS`, names and IP addresses separated by commas, under which clients reach the nodes, if the certificates are for -tls-cert too")
	clients := fs.String("clients", "", "`NAMES`, separated by commas, of clients that get in with a certificate: each gets NAME.pem, with its key in it. Use a directory of its own for them, and -nodes \"\": what lets nodes in shall let in nodes alone")
	revoke := fs.String("revoke", "", "`NAMES`, separated by commas, of clients in -tls-dir whose certificates are good for nothing from now on: revoked.pem lists all that are")
	fs.SetOutput(io.Discard)
	if err := fs.Parse(args); err != nil {
		if errors.Is(err, flag.ErrHelp) {
			fs.SetOutput(os.Stdout)
			fmt.Print("ferryd certs [flags]\n\nMakes an authority and a certificate for each node, for TLS between them, and with -hosts for their clients. Keep ca-key.pem away from the nodes.\n\n")
			fs.PrintDefaults()
			return err
		}
		return &usageError{err}
	}
	if err := os.MkdirAll(*dir, 0o700); err != nil {
		return err
	}
	ca, key, err := authority(*dir)
	if err != nil {
		return err
	}
	for _, name := range named(*clients) {
		if err := setting.CheckPrincipal(name); err != nil {
			return &usageError{fmt.Errorf("-clients: %w", err)}
		}
		if err := clientCertificate(*dir, name, ca, key); err != nil {
			return err
		}
		fmt.Printf("%s: valid for %d years\n", filepath.Join(*dir, name+".pem"), nodeYears)
	}
	if *revoke != "" {
		path := filepath.Join(*dir, "revoked.pem")
		n, err := revokeIn(path, named(*revoke), ca, key)
		if err != nil {
			return err
		}
		fmt.Printf("%s: %s revoked\n", path, words.Many(n, "certificate"))
		return nil
	}
	for _, name := range named(*nodes) {
		if err := address.CheckName(name); err != nil {
			return &usageError{fmt.Errorf("-nodes: %w", err)}
		}
		if err := nodeCertificate(*dir, name, *hosts, ca, key); err != nil {
			return err
		}
		fmt.Printf("%s: valid for %d years\n", filepath.Join(*dir, name+".pem"), nodeYears)
	}
	if *nodes == "" {
		return nil
	}
	fmt.Printf("\neach node needs ca.pem, its own NODE.pem and NODE-key.pem: ferryd serve -node NAME -tls-dir %s ...\n", *dir)
	return nil
}

// named are names with commas between them, none of an empty text.
func named(list string) []string {
	return strings.FieldsFunc(list, func(r rune) bool { return r == ',' })
}

func serial() *big.Int {
	n, err := rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 120))
	if err != nil {
		panic(err) // there is no randomness
	}
	return n
}

// authority reads the authority in the directory, or makes one.
func authority(dir string) (*x509.Certificate, *ecdsa.PrivateKey, error) {
	certPath, keyPath := filepath.Join(dir, "ca.pem"), filepath.Join(dir, "ca-key.pem")
	certPEM, err := os.ReadFile(certPath)
	if err == nil {
		keyPEM, err := os.ReadFile(keyPath)
		if err != nil {
			return nil, nil, err
		}
		certBlock, _ := pem.Decode(certPEM)
		keyBlock, _ := pem.Decode(keyPEM)
		if certBlock == nil || keyBlock == nil {
			return nil, nil, fmt.Errorf("%s or %s is not PEM", certPath, keyPath)
		}
		ca, err := x509.ParseCertificate(certBlock.Bytes)
		if err != nil {
			return nil, nil, err
		}
		key, err := x509.ParseECPrivateKey(keyBlock.Bytes)
		return ca, key, err
	}
	if !os.IsNotExist(err) {
		return nil, nil, err
	}
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, nil, err
	}
	now := time.Now()
	ca := &x509.Certificate{SerialNumber: serial(), Subject: pkix.Name{CommonName: "Steady Ferry development authority"}, NotBefore: now.Add(-time.Hour), NotAfter: now.AddDate(authorityYears, 0, 0),
		IsCA: true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign | x509.KeyUsageCRLSign}
	if err := writePair(certPath, keyPath, ca, ca, key, key); err != nil {
		return nil, nil, err
	}
	return ca, key, nil
}

func nodeCertificate(dir, name, hosts string, ca *x509.Certificate, caKey *ecdsa.PrivateKey) error {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return err
	}
	now := time.Now()
	c := &x509.Certificate{SerialNumber: serial(), Subject: pkix.Name{CommonName: name}, DNSNames: []string{name}, NotBefore: now.Add(-time.Hour), NotAfter: now.AddDate(nodeYears, 0, 0),
		KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth, x509.ExtKeyUsageClientAuth}}
	for host := range strings.SplitSeq(hosts, ",") {
		if ip := net.ParseIP(host); ip != nil {
			c.IPAddresses = append(c.IPAddresses, ip)
		} else if host != "" && host != name {
			c.DNSNames = append(c.DNSNames, host)
		}
	}
	return writePair(filepath.Join(dir, name+".pem"), filepath.Join(dir, name+"-key.pem"), c, ca, key, caKey)
}

// clientCertificate writes the certificate of a client, and its key, to one file.
func clientCertificate(dir, name string, ca *x509.Certificate, caKey *ecdsa.PrivateKey) error {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return err
	}
	now := time.Now()
	c := &x509.Certificate{SerialNumber: serial(), Subject: pkix.Name{CommonName: name}, NotBefore: now.Add(-time.Hour), NotAfter: now.AddDate(nodeYears, 0, 0),
		KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageClientAuth}}
	cert, private, err := signed(c, ca, key, caKey)
	if err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(dir, name+".pem"), append(cert, private...), 0o600)
}

// listDays is how long a list of what is revoked is good before a newer one should follow.
const listDays = 90

// revokeIn adds the certificates of clients to the list of an authority, and returns how many it has.
func revokeIn(path string, names []string, ca *x509.Certificate, key *ecdsa.PrivateKey) (int, error) {
	list := &x509.RevocationList{Number: big.NewInt(1)}
	if b, err := os.ReadFile(path); err == nil {
		block, _ := pem.Decode(b)
		if block == nil {
			return 0, fmt.Errorf("%s is no list as PEM", path)
		}
		was, err := x509.ParseRevocationList(block.Bytes)
		if err != nil {
			return 0, fmt.Errorf("%s: %w", path, err)
		}
		list.RevokedCertificateEntries = was.RevokedCertificateEntries
		list.Number = new(big.Int).Add(was.Number, big.NewInt(1))
	} else if !os.IsNotExist(err) {
		return 0, err
	}
	list.ThisUpdate = time.Now()
	list.NextUpdate = list.ThisUpdate.AddDate(0, 0, listDays)
	for _, name := range names {
		b, err := os.ReadFile(filepath.Join(filepath.Dir(path), name+".pem"))
		if err != nil {
			return 0, err
		}
		block, _ := pem.Decode(b)
		if block == nil {
			return 0, fmt.Errorf("%s.pem is not PEM", name)
		}
		c, err := x509.ParseCertificate(block.Bytes)
		if err != nil {
			return 0, fmt.Errorf("%s.pem: %w", name, err)
		}
		list.RevokedCertificateEntries = append(list.RevokedCertificateEntries, x509.RevocationListEntry{SerialNumber: c.SerialNumber, RevocationTime: list.ThisUpdate})
	}
	der, err := x509.CreateRevocationList(rand.Reader, list, ca, key)
	if err != nil {
		return 0, err
	}
	return len(list.RevokedCertificateEntries), os.WriteFile(path, pem.EncodeToMemory(&pem.Block{Type: "X509 CRL", Bytes: der}), 0o644)
}

// signed is a certificate and its key as PEM.
func signed(c, parent *x509.Certificate, key, signer *ecdsa.PrivateKey) (cert, private []byte, err error) {
	der, err := x509.CreateCertificate(rand.Reader, c, parent, &key.PublicKey, signer)
	if err != nil {
		return nil, nil, err
	}
	keyDER, err := x509.MarshalECPrivateKey(key)
	return pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), pem.EncodeToMemory(&pem.Block{Type: "EC PRIVATE KEY", Bytes: keyDER}), err
}

func writePair(certPath, keyPath string, c, parent *x509.Certificate, key, signer *ecdsa.PrivateKey) error {
	cert, private, err := signed(c, parent, key, signer)
	if err != nil {
		return err
	}
	return errors.Join(os.WriteFile(keyPath, private, 0o600), os.WriteFile(certPath, cert, 0o644))
}
