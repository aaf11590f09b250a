package signin

import (
	"context"
	"crypto/rand"
	"errors"
	"math/big"
	"strings"
	"time"

	"steadyferry/internal/core/problem"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/ledger"
	"steadyferry/internal/engine/part"
)

// How programs on other machines are let in: the device authorization grant of RFC 8628.
const (
	DeviceLives = 12 * time.Minute // in which somebody lets it in
	DevicePause = 3 * time.Second  // between two times that it asks

	codeLetters = "BCDFGHJKLMNPQRSTVWXZ" // without vowels no words come of them
	codeLength  = 8
	mostDevices = 500
	maxName     = 100
)

// Why a program is not let in yet, in the words of RFC 8628.
var (
	ErrPending  = errors.New("authorization_pending")
	ErrSlowDown = errors.New("slow_down")
	ErrDenied   = errors.New("access_denied")
	ErrExpired  = errors.New("expired_token")
)

// NewDevice has a program wait to be let in: it comes back with a code, and tells people the other
// one, which they give to the console.
func (s *SignIn) NewDevice(ctx context.Context, name, address string) (code, userCode string, err error) {
	if name == "" || len(name) > maxName {
		return "", "", problem.New(problem.Invalid, "the name has %d characters", len(name)).Field("name").Allowed("1 to 100, such as ferry on quay-3")
	}
	for range mostTries {
		code, userCode = "d-"+rand.Text()+rand.Text(), newUserCode()
		err = s.ledger.NewDevice(ctx, code, ledger.Device{UserCode: userCode, Name: name, Address: address, ExpiresAt: time.Now().Add(DeviceLives)}, mostDevices)
		if !errors.Is(err, catalog.ErrExists) {
			break
		}
	}
	if errors.Is(err, ledger.ErrTooMany) {
		return "", "", problem.New(problem.Unavailable, "%d programs wait to be let in, and no more can", mostDevices).Next("try again in a minute")
	}
	return code, userCode, part.Explain(err, "sign-in")
}

func newUserCode() string {
	b := make([]byte, 0, codeLength+1)
	for i := range codeLength {
		n, err := rand.Int(rand.Reader, big.NewInt(int64(len(codeLetters))))
		if err != nil {
			panic(err) // there is no randomness
		}
		if i == codeLength/2 {
			b = append(b, '-')
		}
		b = append(b, codeLetters[n.Int64()])
	}
	return string(b)
}

// tidyCode is a code as it is kept, however it was typed.
func tidyCode(text string) string {
	letters := strings.Map(func(r rune) rune {
		if strings.ContainsRune(codeLetters, r) {
			return r
		}
		return -1
	}, strings.ToUpper(text))
	if len(letters) != codeLength {
		return ""
	}
	return letters[:codeLength/2] + "-" + letters[codeLength/2:]
}

func noDevice(err error) error {
	if errors.Is(err, catalog.ErrNotFound) {
		return problem.New(problem.NotFound, "no program waits with this code").Field("code").Next("look at what ferry sign-in has printed; after %s it takes another one", DeviceLives)
	}
	return part.Explain(err, "sign-in")
}

// Device returns the program that waits with a user code.
func (s *SignIn) Device(ctx context.Context, userCode string) (*ledger.Device, error) {
	d, err := s.ledger.Device(ctx, tidyCode(userCode))
	return d, noDevice(err)
}

// Decide lets the program in that waits with a user code, with all that whoever asks came with, or
// denies it.
func (s *SignIn) Decide(ctx context.Context, userCode string, as catalog.Secret, let bool) error {
	return noDevice(s.ledger.Decide(ctx, tidyCode(userCode), as, let))
}

// Poll returns for whom a program was let in, once, or why it is not.
func (s *SignIn) Poll(ctx context.Context, code string) (as catalog.Secret, name string, err error) {
	d, err := s.ledger.PollDevice(ctx, code)
	switch {
	case errors.Is(err, catalog.ErrNotFound):
		return as, "", ErrExpired
	case err != nil:
		return as, "", part.Explain(err, "sign-in")
	case d.Denied:
		return as, "", ErrDenied
	case d.Principal.Valid:
		return catalog.Secret{Principal: d.Principal.String, Role: d.Role, Pattern: d.Pattern}, d.Name, nil
	case d.PolledAt.Valid && time.Since(d.PolledAt.Time) < DevicePause/2:
		return as, "", ErrSlowDown
	}
	return as, "", ErrPending
}
