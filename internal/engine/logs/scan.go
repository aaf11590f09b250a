package logs

import (
	"context"

	"steadyferry/internal/core/message"
)

// Room waits until a record may be decoded; done is called after.
type Room func(ctx context.Context, r message.Record) (done func(), err error)

// EachMessage goes through the messages of a stretch of records of a partition,
// from an offset on, until yield ends it, with false or with an error. More is
// false when it did. Records are decoded one by one, as there is room.
func EachMessage(ctx context.Context, chunk []byte, partition int, from int64, room Room, yield func(m *message.Stored) (more bool, err error)) (more bool, err error) {
	more = true
	message.EachRecord(chunk, func(r message.Record) bool {
		if r.Stamp().End() <= from {
			return true
		}
		done, roomErr := room(ctx, r)
		if roomErr != nil {
			err = roomErr
			return false
		}
		defer done()
		broken := r.Stored(partition, func(m *message.Stored) bool {
			if m.Offset >= from {
				more, err = yield(m)
			}
			return more && err == nil
		})
		if err == nil {
			err = broken
		}
		return more && err == nil
	})
	return more && err == nil, err
}
