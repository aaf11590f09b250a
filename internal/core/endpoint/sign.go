package endpoint

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"strconv"
	"strings"
	"time"
)

// The headers of a signed delivery, and how a secret begins, as Standard Webhooks 1.0
// have them.
const (
	HeaderID        = "Webhook-Id"
	HeaderTimestamp = "Webhook-Timestamp"
	HeaderSignature = "Webhook-Signature"
	secretPrefix    = "whsec_"
)

// The sizes of a secret that Standard Webhooks 1.0 name.
const minSecret, maxSecret = 24, 64

// Key reads a secret: whsec_ and standard base64, or the bytes of any other text.
func Key(secret string) ([]byte, error) {
	key := []byte(secret)
	if encoded, ok := strings.CutPrefix(secret, secretPrefix); ok {
		var err error
		if key, err = base64.StdEncoding.DecodeString(encoded); err != nil {
			return nil, errors.New("what follows whsec_ is not standard base64")
		}
	}
	if len(key) < minSecret || len(key) > maxSecret {
		return nil, errors.New("it has " + strconv.Itoa(len(key)) + " bytes")
	}
	return key, nil
}

// KeyForms says which secrets Key reads.
const KeyForms = "whsec_ and 24 to 64 bytes in standard base64, or a text of 24 to 64 bytes"

// Sign returns the signature of a delivery by each key, separated by spaces.
func Sign(keys [][]byte, id string, at time.Time, body []byte) string {
	signatures := make([]string, len(keys))
	for i, key := range keys {
		mac := hmac.New(sha256.New, key)
		mac.Write([]byte(id + "." + strconv.FormatInt(at.Unix(), 10) + "."))
		mac.Write(body)
		signatures[i] = "v1," + base64.StdEncoding.EncodeToString(mac.Sum(nil))
	}
	return strings.Join(signatures, " ")
}
