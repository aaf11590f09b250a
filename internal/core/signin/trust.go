package signin

import (
	"bytes"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"time"
)

// Trust is which certificates of clients are worth something: those that an authority has signed and
// has not revoked. It does not change.
type Trust struct {
	Pool *x509.CertPool
	Ends time.Time // when a list of what is revoked should have been followed by a newer one; zero: there is none

	authorities []*x509.Certificate
	revoked     map[string]bool
}

// ParseTrust reads authorities (PEM), and lists of what they have revoked (RFC 5280, PEM or DER; empty: nothing is).
func ParseTrust(authorities, lists []byte) (*Trust, error) {
	t := &Trust{Pool: x509.NewCertPool(), revoked: map[string]bool{}}
	for _, der := range blocks(authorities, "CERTIFICATE") {
		c, err := x509.ParseCertificate(der)
		if err != nil {
			return nil, fmt.Errorf("authorities: %w", err)
		}
		t.authorities = append(t.authorities, c)
		t.Pool.AddCert(c)
	}
	if len(t.authorities) == 0 {
		return nil, errors.New("authorities: there is no certificate in it")
	}
	if len(lists) == 0 {
		return t, nil
	}
	all := blocks(lists, "X509 CRL")
	if len(all) == 0 {
		all = [][]byte{lists}
	}
	for _, der := range all {
		if err := t.revoke(der); err != nil {
			return nil, fmt.Errorf("revoked: %w", err)
		}
	}
	return t, nil
}

func blocks(text []byte, kind string) (all [][]byte) {
	for block, rest := pem.Decode(text); block != nil; block, rest = pem.Decode(rest) {
		if block.Type == kind {
			all = append(all, block.Bytes)
		}
	}
	return all
}

// revoke takes a list in that one of the authorities has signed.
func (t *Trust) revoke(der []byte) error {
	list, err := x509.ParseRevocationList(der)
	if err != nil {
		return err
	}
	by := t.signerOf(list)
	if by == nil {
		return fmt.Errorf("none of the authorities has signed the list of %s", list.Issuer)
	}
	for _, one := range list.RevokedCertificateEntries {
		t.revoked[revokedKey(by, one.SerialNumber.Bytes())] = true
	}
	if end := list.NextUpdate; !end.IsZero() && (t.Ends.IsZero() || end.Before(t.Ends)) {
		t.Ends = end
	}
	return nil
}

func (t *Trust) signerOf(list *x509.RevocationList) *x509.Certificate {
	for _, a := range t.authorities {
		if bytes.Equal(a.RawSubject, list.RawIssuer) && list.CheckSignatureFrom(a) == nil {
			return a
		}
	}
	return nil
}

func revokedKey(by *x509.Certificate, serial []byte) string {
	return string(by.RawSubject) + "\x00" + string(serial)
}

// Stands reports whether a certificate still counts that was proved by a chain: its authority is last,
// and one of those that there are, and nothing of the chain is revoked.
func (t *Trust) Stands(chain []*x509.Certificate) bool {
	if len(chain) < 2 {
		return false
	}
	for i, c := range chain[:len(chain)-1] {
		if t.revoked[revokedKey(chain[i+1], c.SerialNumber.Bytes())] {
			return false
		}
	}
	root := chain[len(chain)-1]
	for _, a := range t.authorities {
		if a.Equal(root) {
			return true
		}
	}
	return false
}
