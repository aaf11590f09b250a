package node

import (
	"context"

	"golang.org/x/sync/semaphore"

	"steadyferry/internal/core/message"
)

// turn waits until the caller may work on messages: so many do at once that a
// processor stays free for those who publish and read.
func (n *Node) turn(ctx context.Context) (done func(), err error) {
	if err := n.turns.Acquire(ctx, 1); err != nil {
		return nil, err
	}
	return func() { n.turns.Release(1) }, nil
}

// decodeBytes is how many bytes of large compressed batches are looked through
// at once: some kilobytes may become more than a hundred million.
const (
	decodeBytes = 160 << 20
	smallDecode = 1 << 20
)

// roomToDecode waits until a record may be decoded; call done after.
func (n *Node) roomToDecode(ctx context.Context, r message.Record) (done func(), err error) {
	return decodeRoom(ctx, n.decoding, r)
}

// roomToTell does the same for those whose readers may be slow.
func (n *Node) roomToTell(ctx context.Context, r message.Record) (done func(), err error) {
	return decodeRoom(ctx, n.telling, r)
}

func decodeRoom(ctx context.Context, room *semaphore.Weighted, r message.Record) (done func(), err error) {
	batch, err := r.Batch()
	if err != nil || batch.Compression() == message.Plain || batch.RawSize() <= smallDecode {
		return func() {}, nil
	}
	size := int64(batch.RawSize())
	if err := room.Acquire(ctx, size); err != nil {
		return nil, err
	}
	return func() { room.Release(size) }, nil
}

// messageBytes is about what a message takes beside its body.
const messageBytes = 400

// sizeOf is how many bytes a message takes in memory.
func sizeOf(m *message.Stored) int { return len(m.Body) + messageBytes }
