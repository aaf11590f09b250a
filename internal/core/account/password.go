// Package account is what a local account of a person is proved with: a password, which is kept as
// Argon2id (RFC 9106), and a code that changes with time (TOTP, RFC 6238). It only computes.
package account

import (
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"fmt"
	"strings"
	"unicode/utf8"

	"github.com/trustelem/zxcvbn"
	"golang.org/x/crypto/argon2"
)

// Bounds of passwords, in characters.
const (
	ShortestPassword = 12
	LongestPassword  = 128
)

// Costs of a hash: a try takes about 200 ms of one processor and 32 MiB.
const (
	passes = 3
	memory = 32 << 10 // KiB
	salt   = 16       // bytes
	length = 32

	// What is kept may cost so much more, after the costs have been changed here.
	mostPasses = 10
	mostMemory = 256 << 10
)

// Strength is how hard a password is to guess.
type Strength struct {
	Score int    // 0 to 4
	Says  string // in words
}

// Strong is the least score that is taken.
const Strong = 3

// judged bounds the characters of which the strength is worked out: it takes longer for more.
const judged = 64

var scores = [...]string{
	"among the first that are guessed",
	"guessed in little time",
	"guessed by who tries for long",
	"hard to guess",
	"very hard to guess",
}

// StrengthOf works out how hard a password is to guess for who knows some words around the person.
// It knows passwords and words that are much used, names, dates, keys in a row, and repetitions.
func StrengthOf(password string, known ...string) Strength {
	runes := []rune(password)
	lower := make([]string, 0, 2*len(known))
	for _, one := range known {
		lower = append(lower, strings.ToLower(one))
	}
	score := zxcvbn.PasswordStrength(string(runes[:min(len(runes), judged)]), lower).Score
	return Strength{score, scores[min(max(score, 0), len(scores)-1)]}
}

// CheckPassword says why a password is not taken for an account of a name; nil: it is.
func CheckPassword(password, name string) error {
	switch n := utf8.RuneCountInString(password); {
	case !utf8.ValidString(password):
		return fmt.Errorf("the password is no text")
	case n < ShortestPassword:
		return fmt.Errorf("the password has %d characters", n)
	case n > LongestPassword:
		return fmt.Errorf("the password has %d characters", n)
	}
	if s := StrengthOf(password, name, "steady", "ferry", "steadyferry"); s.Score < Strong {
		return fmt.Errorf("this password is %s", s.Says)
	}
	return nil
}

// AllowedPasswords is what passwords may be, in words.
var AllowedPasswords = fmt.Sprintf("%d to %d characters, of any kind, that are hard to guess: several words that do not belong together, or what a password manager makes", ShortestPassword, LongestPassword)

// Hash makes of a password what is kept of it: Argon2id with a salt, in the PHC string format, of its
// HMAC-SHA256 by a secret that is not kept where that is. Whoever has what is kept alone cannot try
// passwords.
func Hash(password, secret string) string {
	var s [salt]byte
	rand.Read(s[:])
	return encode(s[:], key(password, secret, s[:], passes, memory))
}

func key(password, secret string, s []byte, passes, memory uint32) []byte {
	of := hmac.New(sha256.New, []byte(secret))
	of.Write([]byte(password))
	return argon2.IDKey(of.Sum(nil), s, passes, memory, 1, length)
}

var base = base64.RawStdEncoding

func encode(s, k []byte) string {
	return fmt.Sprintf("$argon2id$v=%d$m=%d,t=%d,p=1$%s$%s", argon2.Version, memory, passes, base.EncodeToString(s), base.EncodeToString(k))
}

// nobodys is what a password is compared with that nobody has, at the same cost.
var nobodys = encode(make([]byte, salt), make([]byte, length))

// Verify reports whether what is kept was made of a password and a secret, in the same time whether it was or
// not. An account without one (empty) takes as long, and has none.
func Verify(kept, password, secret string) (bool, error) {
	is := kept != ""
	if !is {
		kept = nobodys
	}
	parts := strings.Split(kept, "$")
	var version, lanes int
	var m, t uint32
	if len(parts) != 6 || parts[1] != "argon2id" {
		return false, fmt.Errorf("what is kept of the password is in no form that is known")
	}
	if n, _ := fmt.Sscanf(parts[2]+" "+parts[3], "v=%d m=%d,t=%d,p=%d", &version, &m, &t, &lanes); n != 4 || lanes != 1 || version != argon2.Version || t < 1 || t > mostPasses || m < 8 || m > mostMemory {
		return false, fmt.Errorf("what is kept of the password has costs that are not allowed: %s,%s", parts[2], parts[3])
	}
	s, err := base.DecodeString(parts[4])
	if err != nil {
		return false, err
	}
	k, err := base.DecodeString(parts[5])
	if err != nil {
		return false, err
	}
	return subtle.ConstantTimeCompare(k, key(password, secret, s, t, m)) == 1 && is, nil
}
