// Package postbox stands in for a mail server, in tests and in the demo: it takes letters by
// SMTP, over STARTTLS with a certificate of its own, and keeps the last of them.
package postbox

import (
	"bytes"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"io"
	"math/big"
	"mime"
	"mime/multipart"
	"mime/quotedprintable"
	"net"
	"net/mail"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/emersion/go-sasl"
	"github.com/emersion/go-smtp"
)

// Letter is one that came.
type Letter struct {
	ID      string
	From    string
	To      []string
	Subject string
	Text    string
	CameAt  time.Time
}

// Bounds of what is kept and taken.
const (
	kept      = 100
	maxLetter = 4 << 20
	patience  = 10 * time.Second
)

// Box is the stand-in. It may be used by many at once.
type Box struct {
	Authority string // PEM, by which its certificate is known

	user, password string
	server         *smtp.Server
	at             string

	mu      sync.Mutex
	letters []Letter // the newest last
	refuse  *smtp.SMTPError
}

// Open serves on loopback, at an address or, without one, at any that is free. With a user it
// asks for the password.
func Open(at, user, password string) (*Box, error) {
	if at == "" {
		at = "127.0.0.1:0"
	}
	listener, err := net.Listen("tcp", at)
	if err != nil {
		return nil, err
	}
	pair, authority, err := certificate()
	if err != nil {
		listener.Close()
		return nil, err
	}
	b := &Box{Authority: authority, user: user, password: password, at: listener.Addr().String()}
	b.server = smtp.NewServer(smtp.BackendFunc(func(*smtp.Conn) (smtp.Session, error) { return &session{box: b}, nil }))
	b.server.Domain, b.server.MaxMessageBytes, b.server.ReadTimeout, b.server.WriteTimeout = "localhost", maxLetter, patience, patience
	b.server.TLSConfig = &tls.Config{Certificates: []tls.Certificate{pair}, MinVersion: tls.VersionTLS12}
	b.server.ErrorLog = silent{}
	go func() { _ = b.server.Serve(listener) }() // it ends when it is closed
	return b, nil
}

// silent keeps no log: what fails is told to who sends.
type silent struct{}

func (silent) Printf(string, ...any) {}
func (silent) Println(...any)        {}

// certificate makes one for this machine, which vouches for itself.
func certificate() (pair tls.Certificate, authority string, err error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return pair, "", err
	}
	c := &x509.Certificate{SerialNumber: big.NewInt(time.Now().UnixNano()), Subject: pkix.Name{CommonName: "localhost"}, NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().AddDate(1, 0, 0),
		IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}, DNSNames: []string{"localhost"}, IsCA: true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageDigitalSignature | x509.KeyUsageCertSign, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}}
	der, err := x509.CreateCertificate(rand.Reader, c, c, &key.PublicKey, key)
	if err != nil {
		return pair, "", err
	}
	return tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key}, string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})), nil
}

// URL is where it takes letters.
func (b *Box) URL() string { return "smtp://" + b.at }

// Close ends it.
func (b *Box) Close() { b.server.Close() }

// Refuse has it answer with a code and a text to what comes; 0: it takes again.
func (b *Box) Refuse(code int, text string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.refuse = nil; code != 0 {
		b.refuse = &smtp.SMTPError{Code: code, EnhancedCode: smtp.EnhancedCode{code / 100, 0, 0}, Message: text}
	}
}

// Letters are those that came, the newest first.
func (b *Box) Letters() []Letter {
	b.mu.Lock()
	defer b.mu.Unlock()
	all := slices.Clone(b.letters)
	slices.Reverse(all)
	return all
}

// session is a client of the server.
type session struct {
	box    *Box
	known  bool
	letter Letter
}

// AuthMechanisms are those by which clients say who they are.
func (s *session) AuthMechanisms() []string { return []string{sasl.Plain} }

// Auth asks who a client is.
func (s *session) Auth(string) (sasl.Server, error) {
	return sasl.NewPlainServer(func(_, user, password string) error {
		if user != s.box.user || password != s.box.password {
			return smtp.ErrAuthFailed
		}
		s.known = true
		return nil
	}), nil
}

// Mail begins a letter.
func (s *session) Mail(from string, _ *smtp.MailOptions) error {
	s.box.mu.Lock()
	refuse := s.box.refuse
	s.box.mu.Unlock()
	switch {
	case refuse != nil:
		return refuse
	case s.box.user != "" && !s.known:
		return smtp.ErrAuthRequired
	}
	s.letter = Letter{From: from}
	return nil
}

// Rcpt adds who gets the letter.
func (s *session) Rcpt(to string, _ *smtp.RcptOptions) error {
	s.letter.To = append(s.letter.To, to)
	return nil
}

// Data takes the letter.
func (s *session) Data(r io.Reader) error {
	m, err := mail.ReadMessage(r)
	if err != nil {
		return err
	}
	s.letter.CameAt = time.Now()
	s.letter.ID = strings.Trim(m.Header.Get("Message-Id"), "<>")
	if s.letter.Subject, err = new(mime.WordDecoder).DecodeHeader(m.Header.Get("Subject")); err != nil {
		return err
	}
	if s.letter.Text, err = textOf(m); err != nil {
		return err
	}
	s.box.mu.Lock()
	defer s.box.mu.Unlock()
	s.box.letters = append(s.box.letters, s.letter)
	s.box.letters = s.box.letters[max(0, len(s.box.letters)-kept):]
	return nil
}

// textOf is the plain text of a letter.
func textOf(m *mail.Message) (string, error) {
	mediaType, parameters, err := mime.ParseMediaType(m.Header.Get("Content-Type"))
	if err != nil {
		return "", err
	}
	body := m.Body
	if strings.HasPrefix(mediaType, "multipart/") {
		part, err := multipart.NewReader(body, parameters["boundary"]).NextPart()
		if err != nil {
			return "", err
		}
		body = part
	} else if m.Header.Get("Content-Transfer-Encoding") == "quoted-printable" {
		body = quotedprintable.NewReader(body)
	}
	text, err := io.ReadAll(io.LimitReader(body, maxLetter))
	return string(bytes.ReplaceAll(text, []byte("\r\n"), []byte("\n"))), err
}

// Reset and Logout have nothing to end.
func (s *session) Reset() { s.letter = Letter{} }

// Logout ends the session.
func (s *session) Logout() error { return nil }
