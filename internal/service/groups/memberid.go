package groups

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"encoding/binary"

	"github.com/google/uuid"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/group"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/engine/catalog"
)

// The ids of members are UUIDs (RFC 9562, version 8): the first half is random, the second proves
// to which principal the id was given, but for its variant. So one that was seen is of no use to
// others, and no node has to remember whose it is.

const (
	variantBits = 0x80
	variantMask = 0x3f
)

// memberID is an id for whoever asks, in a group.
func (gs *Groups) memberID(ctx context.Context, g *catalog.Group) string {
	var id uuid.UUID
	rand.Read(id[:8])
	id[6] = id[6]&0x0f | 0x80
	binary.LittleEndian.PutUint64(id[8:], gs.proofOf(ctx, g, id))
	id[8] = id[8]&variantMask | variantBits
	return id.String()
}

func (gs *Groups) proofOf(ctx context.Context, g *catalog.Group, id uuid.UUID) uint64 {
	return gs.proofs().Given(access.Holder(ctx), uint64(g.ID), 0).Of(binary.LittleEndian.Uint64(id[:8]), 0)
}

// checkMember says that there is no such member when an id was not given to whoever asks.
func (gs *Groups) checkMember(ctx context.Context, g *catalog.Group, at, member string) error {
	id, err := uuid.Parse(member)
	if err == nil {
		want := binary.LittleEndian.AppendUint64(nil, gs.proofOf(ctx, g, id))
		want[0] = want[0]&variantMask | variantBits
		if subtle.ConstantTimeCompare(want, id[8:]) == 1 {
			return nil
		}
	}
	return problem.New(problem.NoMember, "%s: %v", at, group.ErrNoMember).Next("join again")
}
