package part

import (
	"steadyferry/internal/core/message"
)

// EachRecord goes through a stretch of records that has been checked.
func EachRecord(chunk []byte, yield func(message.Record) bool) {
	for len(chunk) > 0 {
		r, size, err := message.PeekRecord(chunk)
		if err != nil || !yield(r) {
			return
		}
		chunk = chunk[size:]
	}
}
