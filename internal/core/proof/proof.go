// Package proof has what a node gives out, such as a lease, come back from whom it was given to
// and from nobody else: a number that goes with it, which only nodes of the cluster can make, and
// each of them can check. It is a CBC-MAC of AES-256 over three blocks, always as many (the mode
// is safe for messages of one length alone), cut to 64 bits.
package proof

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/binary"
)

// Key makes and checks proofs for one use. It may be used by many at once.
type Key struct{ block cipher.Block }

// New returns the key of a cluster, whose secret is given, for a use.
func New(secret, use string) *Key {
	sum := sha256.Sum256([]byte(use + "\x00" + secret))
	block, err := aes.NewCipher(sum[:])
	if err != nil {
		panic(err) // the key has 32 bytes
	}
	return &Key{block}
}

// Given makes and checks the proofs of what is given to one holder at one place. It is for one
// goroutine.
type Given struct {
	block cipher.Block
	state [aes.BlockSize]byte
	sum   [aes.BlockSize]byte
}

// Given is about what is given to a holder of a name, at a place that two numbers name.
func (k *Key) Given(holder string, a, b uint64) *Given {
	g := &Given{block: k.block}
	name := sha256.Sum256([]byte(holder))
	copy(g.state[:], name[:])
	g.block.Encrypt(g.state[:], g.state[:])
	g.state = g.next(a, b)
	return g
}

func (g *Given) next(a, b uint64) [aes.BlockSize]byte {
	binary.LittleEndian.PutUint64(g.sum[:8], a)
	binary.LittleEndian.PutUint64(g.sum[8:], b)
	subtle.XORBytes(g.sum[:], g.sum[:], g.state[:])
	g.block.Encrypt(g.sum[:], g.sum[:])
	return g.sum
}

// Of returns the proof of what two numbers name. It is never 0.
func (g *Given) Of(c, d uint64) uint64 {
	sum := g.next(c, d)
	return max(binary.LittleEndian.Uint64(sum[:8]), 1)
}

// Is reports whether a proof is that of what two numbers name, in a time that does not tell how
// much of it is right.
func (g *Given) Is(proof, c, d uint64) bool {
	want := g.Of(c, d)
	return subtle.ConstantTimeEq(int32(proof>>32), int32(want>>32))&subtle.ConstantTimeEq(int32(proof), int32(want)) == 1
}
