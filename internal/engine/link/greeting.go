package link

import (
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"errors"

	"google.golang.org/grpc/codes"
	"google.golang.org/grpc/mem"
	"google.golang.org/grpc/metadata"
	"google.golang.org/grpc/status"
)

// Nodes show each other that they know the cluster's secret without saying it:
// each proves it for a random number that the other has chosen. The one that
// listens proves it first, so that whoever has taken its address learns
// nothing.

// Names of what a stream begins with.
const (
	headNode    = "ferry-node"
	headTo      = "ferry-to"
	headSession = "ferry-session"
	headStream  = "ferry-stream"
	headNonce   = "ferry-nonce"
	headProof   = "ferry-proof"
)

var (
	errImpostor = errors.New("the process at this address does not know the cluster's secret")
	errStranger = status.Error(codes.Unauthenticated, "the node does not belong to this cluster")
)

func newNonce() string { return rand.Text() + rand.Text() }

// greeting is what a proof is about.
type greeting struct {
	from, to, session, stream string
	dialer, listener          string // the random numbers of both
}

// proof is that of one side: HMAC with SHA-256 (RFC 2104) of all that was said.
func (g *greeting) proof(secret, side string) string {
	mac := hmac.New(sha256.New, []byte(secret))
	for _, part := range []string{side, g.from, g.to, g.session, g.stream, g.dialer, g.listener} {
		mac.Write([]byte{byte(len(part))})
		mac.Write([]byte(part))
	}
	return hex.EncodeToString(mac.Sum(nil))
}

func one(md metadata.MD, name string) string {
	if v := md.Get(name); len(v) == 1 && len(v[0]) < 256 {
		return v[0]
	}
	return ""
}

// answer checks the proof of the side that listens, and gives ours.
func (g *greeting) answer(secret string, header metadata.MD, st stream) error {
	g.listener = one(header, headNonce)
	if g.listener == "" || !hmac.Equal([]byte(one(header, headProof)), []byte(g.proof(secret, "listener"))) {
		return errImpostor
	}
	return st.SendMsg(mem.BufferSlice{mem.SliceBuffer(g.proof(secret, "dialer"))})
}

// check waits for the proof of the side that dials.
func (g *greeting) check(secret string, st stream) error {
	var frame []byte
	if err := st.RecvMsg(&frame); err != nil {
		return err
	}
	if !hmac.Equal(frame, []byte(g.proof(secret, "dialer"))) {
		return errStranger
	}
	return nil
}
