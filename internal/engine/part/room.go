package part

import (
	"context"

	"golang.org/x/sync/semaphore"

	"steadyferry/internal/core/message"
)

// Turn waits until the caller may work on messages: so many do at once that a
// processor stays free for those who publish and read.
func (reg *Registry) Turn(ctx context.Context) (done func(), err error) {
	if err := reg.turns.Acquire(ctx, 1); err != nil {
		return nil, err
	}
	return func() { reg.turns.Release(1) }, nil
}

// decodeBytes is how many bytes of large compressed batches are looked through
// at once: some kilobytes may become more than a hundred million.
const (
	decodeBytes = 160 << 20
	smallDecode = 1 << 20
)

// RoomToDecode waits until a record may be decoded; call done after.
func (reg *Registry) RoomToDecode(ctx context.Context, r message.Record) (done func(), err error) {
	return decodeRoom(ctx, reg.decoding, r)
}

// RoomToTell does the same for those whose readers may be slow.
func (reg *Registry) RoomToTell(ctx context.Context, r message.Record) (done func(), err error) {
	return decodeRoom(ctx, reg.telling, r)
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
