// Package chain proves that a list of entries is whole: each entry has a number and the SHA-256
// (FIPS 180-4) of the one before it and of all that it says, and heads that were signed now and
// then (Ed25519, RFC 8032) say how it ended at a time. Who changes, leaves out, adds or cuts off
// entries would have to make all that follow anew, and the heads that tell of them.
package chain

import (
	"bytes"
	"crypto/ed25519"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"slices"
	"strconv"
	"time"
)

// Size is the bytes of a hash.
const Size = sha256.Size

// Entry is one of the list. Fields are what it says, in an order that stays; nil is none.
type Entry struct {
	Seq    int64 // from 1, without gaps
	Fields []*string
	Hash   []byte
}

// Hash is that of an entry behind another one, whose hash is given.
func Hash(former []byte, e *Entry) []byte {
	sum := sha256.Sum256(slices.Concat(former, Text(e)))
	return sum[:]
}

// Text is what of an entry stands behind the hash of the one before it.
func Text(e *Entry) (b []byte) {
	seq := strconv.FormatInt(e.Seq, 10)
	for _, f := range append([]*string{&seq}, e.Fields...) {
		if f == nil {
			b = append(b, '-')
			continue
		}
		b = append(strconv.AppendInt(b, int64(len(*f)), 10), ':')
		b = append(b, *f...)
	}
	return b
}

// Head says how the list ended at a time, as a node has seen it.
type Head struct {
	Seq  int64     `json:"seq"`
	Hash string    `json:"hash"` // hexadecimal
	At   time.Time `json:"at"`
	Node string    `json:"node"`
	Key  string    `json:"key"`       // the public key, hexadecimal
	Sig  string    `json:"signature"` // of all the others, hexadecimal
}

func (h *Head) text() []byte {
	return fmt.Appendf(nil, "steady-ferry logbook head\n%d\n%s\n%d\n%s\n%s\n", h.Seq, h.Hash, h.At.UnixMicro(), h.Node, h.Key)
}

// Sign signs a head with a node's key.
func (h *Head) Sign(key ed25519.PrivateKey) {
	h.Key = hex.EncodeToString(key.Public().(ed25519.PublicKey))
	h.Sig = hex.EncodeToString(ed25519.Sign(key, h.text()))
}

// Signed reports whether the head is as it was signed.
func (h *Head) Signed() bool {
	key, err := hex.DecodeString(h.Key)
	sig, sigErr := hex.DecodeString(h.Sig)
	return err == nil && sigErr == nil && len(key) == ed25519.PublicKeySize && ed25519.Verify(key, h.text(), sig)
}

// Heads that are older than Fine are kept one for each hour.
const Fine = 24 * time.Hour

// Thin are those of heads, in the order of their times, that are worth keeping at a time: of the
// last day all, before that the last one of each hour, and none from before since.
func Thin(heads []Head, now, since time.Time) (kept []Head) {
	for i, h := range heads {
		old := now.Sub(h.At) > Fine
		last := i == len(heads)-1 || !heads[i+1].At.Truncate(time.Hour).Equal(h.At.Truncate(time.Hour))
		if !h.At.Before(since) && (!old || last) {
			kept = append(kept, h)
		}
	}
	return kept
}

// Ends are where a list begins and ends, as it says itself: what was taken away from its front
// ended with the entry of number Gone.
type Ends struct {
	Seq      int64
	Hash     []byte
	Gone     int64
	GoneHash []byte
}

// mostFound bounds the findings that are told.
const mostFound = 100

// Verifier looks through a list, entry by entry, in the order of their numbers.
type Verifier struct {
	ends    Ends
	heads   map[int64][]Head
	last    int64
	lastAt  []byte
	found   []string
	more    int
	checked int
}

// NewVerifier begins a look at a list with these ends, of which these heads were signed. Who has
// kept entries for a time says since when they must be there; the heads of those from before are
// no proof that they are missing.
func NewVerifier(ends Ends, heads []Head, since time.Time) *Verifier {
	v := &Verifier{ends: ends, heads: map[int64][]Head{}, last: ends.Gone, lastAt: ends.GoneHash}
	for _, h := range heads {
		switch {
		case !h.Signed():
			v.says("the head of entry %d, of %s on %s, is not as it was signed", h.Seq, h.At.UTC().Format(time.RFC3339), h.Node)
		case h.Seq > ends.Seq:
			v.says("%s had entry %d on %s, and the logbook ends at %d: what follows was cut off", h.Node, h.Seq, h.At.UTC().Format(time.RFC3339), ends.Seq)
		case h.Seq < ends.Gone && h.At.After(since):
			v.says("%s had entry %d on %s, and the logbook begins at %d: what was before was cut off", h.Node, h.Seq, h.At.UTC().Format(time.RFC3339), ends.Gone+1)
		case h.Seq >= ends.Gone:
			v.heads[h.Seq] = append(v.heads[h.Seq], h)
		}
	}
	v.head(ends.Gone, ends.GoneHash)
	return v
}

func (v *Verifier) says(format string, args ...any) {
	if len(v.found) == mostFound {
		v.more++
		return
	}
	v.found = append(v.found, fmt.Sprintf(format, args...))
}

// head compares the signed heads of an entry with its hash.
func (v *Verifier) head(seq int64, hash []byte) {
	for _, h := range v.heads[seq] {
		v.checked++
		if h.Hash != hex.EncodeToString(hash) {
			v.says("entry %d is another than %s had signed on %s: it, or one before it, was changed, and all that follow were made anew", seq, h.Node, h.At.UTC().Format(time.RFC3339))
		}
	}
	delete(v.heads, seq)
}

// Entry looks at the next entry.
func (v *Verifier) Entry(e *Entry) {
	switch {
	case e.Seq <= v.last:
		v.says("entry %d comes after %d: one of them was put in", e.Seq, v.last)
		return
	case e.Seq == v.last+2:
		v.says("entry %d is missing", v.last+1)
	case e.Seq > v.last+1:
		v.says("entries %d to %d are missing", v.last+1, e.Seq-1)
	case !bytes.Equal(Hash(v.lastAt, e), e.Hash):
		v.says("entry %d is not as it was written", e.Seq)
	}
	v.last, v.lastAt = e.Seq, e.Hash
	v.head(e.Seq, e.Hash)
}

// End returns what was found, which is nothing of a list that is whole, and how many signed heads
// were compared.
func (v *Verifier) End() (found []string, heads int) {
	switch {
	case v.last < v.ends.Seq:
		v.says("the entries %d to %d are missing at the end", v.last+1, v.ends.Seq)
	case v.last > v.ends.Seq:
		v.says("there are entries up to %d, and the logbook ends at %d", v.last, v.ends.Seq)
	case !bytes.Equal(v.lastAt, v.ends.Hash):
		v.says("the logbook ends with another entry than its last")
	}
	if v.more > 0 {
		v.found = append(v.found, fmt.Sprintf("and %d others", v.more))
	}
	return v.found, v.checked
}
