// Package seal keeps secrets: what is sealed with a key of a ring can be opened where
// that key is, and nowhere else. It is AES-256 in Galois/Counter Mode with random
// nonces (NIST SP 800-38D), of the standard library.
package seal

import (
	"bytes"
	"crypto/aes"
	"crypto/cipher"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"strings"
)

const (
	keySize = 32
	idSize  = 4 // bytes of a key's hash that name it
	form    = 1
)

type key struct {
	id   [idSize]byte
	gcm  cipher.AEAD
	name string
}

// Ring is keys: the first one seals, each opens what it has sealed. It may be used by
// many at once.
type Ring []key

// NewKey returns a line with a new key.
func NewKey() string {
	var b [keySize]byte
	rand.Read(b[:])
	return base64.StdEncoding.EncodeToString(b[:])
}

// Parse reads keys: 32 bytes in standard base64 each, one a line; empty lines, and those
// that begin with #, are nothing.
func Parse(text []byte) (Ring, error) {
	var ring Ring
	number := 0
	for line := range strings.Lines(string(text)) {
		number++
		if line = strings.TrimSpace(line); line == "" || strings.HasPrefix(line, "#") {
			continue
		}
		b, err := base64.StdEncoding.DecodeString(line)
		if err != nil || len(b) != keySize {
			return nil, fmt.Errorf("line %d is no key: %d bytes in standard base64 are expected", number, keySize)
		}
		block, err := aes.NewCipher(b)
		if err != nil {
			return nil, err
		}
		k := key{}
		if k.gcm, err = cipher.NewGCMWithRandomNonce(block); err != nil {
			return nil, err
		}
		hash := sha256.Sum256(b)
		copy(k.id[:], hash[:])
		k.name = hex.EncodeToString(k.id[:])
		ring = append(ring, k)
	}
	if len(ring) == 0 {
		return nil, errors.New("there is no key")
	}
	return ring, nil
}

// Seal returns what only the ring can open, and only for the place: where it is kept.
func (r Ring) Seal(place string, secret []byte) []byte {
	sealed := append([]byte{form}, r[0].id[:]...)
	return r[0].gcm.Seal(sealed, nil, secret, []byte(place))
}

// Open returns what was sealed for a place.
func (r Ring) Open(place string, sealed []byte) ([]byte, error) {
	if len(sealed) < 1+idSize || sealed[0] != form {
		return nil, errors.New("it is not sealed in a form that is known")
	}
	id := sealed[1 : 1+idSize]
	for _, k := range r {
		if bytes.Equal(k.id[:], id) {
			secret, err := k.gcm.Open(nil, nil, sealed[1+idSize:], []byte(place))
			if err != nil {
				return nil, fmt.Errorf("what was sealed with key %s for %s was changed since", k.name, place)
			}
			return secret, nil
		}
	}
	return nil, fmt.Errorf("it is sealed with key %s, which this node does not have (it has %s): give it in the file of ferryd's -seal-keys", hex.EncodeToString(id), r.Names())
}

// Newest reports whether something is sealed with the key that seals now.
func (r Ring) Newest(sealed []byte) bool {
	return len(sealed) > idSize && bytes.Equal(sealed[1:1+idSize], r[0].id[:])
}

// Names are the ids of the keys, which tell nothing of them.
func (r Ring) Names() string {
	names := make([]string, len(r))
	for i, k := range r {
		names[i] = k.name
	}
	return strings.Join(names, ", ")
}
