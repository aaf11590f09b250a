package account

import (
	"bytes"
	"crypto/rand"
	"encoding/base32"
	"fmt"
	"image/png"
	"strings"
	"time"

	"github.com/pquerna/otp"
	"github.com/pquerna/otp/hotp"
	"github.com/pquerna/otp/totp"
)

// How codes are made, as each app that makes some takes it (RFC 6238).
const (
	step    = 30 * time.Second
	digits  = otp.DigitsSix
	secret  = 20 // bytes
	around  = 1  // steps before and after this one that are taken: clocks differ, and people type
	picture = 220
)

var plain = base32.StdEncoding.WithPadding(base32.NoPadding)

// NewCodes returns a secret by which codes are made, in base32.
func NewCodes() string {
	var b [secret]byte
	rand.Read(b[:])
	return plain.EncodeToString(b[:])
}

// Code is the code of a secret at a time.
func Code(codes string, at time.Time) (string, error) {
	return hotp.GenerateCodeCustom(codes, uint64(at.Unix()/int64(step/time.Second)), options)
}

var options = hotp.ValidateOpts{Digits: digits, Algorithm: otp.AlgorithmSHA1}

// CodeStep returns the step whose code a text is, among those around a time that came after the
// last one that was taken: each is good once. ok is false when it is none of them.
func CodeStep(codes, text string, last int64, now time.Time) (used int64, ok bool) {
	text = strings.Map(func(r rune) rune {
		if r == ' ' || r == '-' {
			return -1
		}
		return r
	}, text)
	here := now.Unix() / int64(step/time.Second)
	for at := here - around; at <= here+around; at++ {
		// All are compared, so that the time tells nothing.
		if fits, err := hotp.ValidateCustom(text, uint64(at), codes, options); err == nil && fits && at > last {
			used, ok = at, true
		}
	}
	return used, ok
}

// CodesURI is how an app takes the secret of somebody over (otpauth), and a picture of it as PNG.
func CodesURI(codes, name, host string) (uri string, image []byte, err error) {
	raw, err := plain.DecodeString(codes)
	if err != nil {
		return "", nil, fmt.Errorf("the secret of codes: %w", err)
	}
	k, err := totp.Generate(totp.GenerateOpts{Issuer: "Steady Ferry " + host, AccountName: name, Secret: raw, Period: uint(step / time.Second), Digits: digits, Algorithm: otp.AlgorithmSHA1})
	if err != nil {
		return "", nil, err
	}
	img, err := k.Image(picture, picture)
	if err != nil {
		return "", nil, err
	}
	var b bytes.Buffer
	if err := png.Encode(&b, img); err != nil {
		return "", nil, err
	}
	return k.URL(), b.Bytes(), nil
}
