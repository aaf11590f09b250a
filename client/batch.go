package client

import (
	"steadyferry/internal/core/message"
)

// Messages goes through the messages of a batch, oldest first.
func (b *Batch) Messages(each func(*message.Stored) error) error {
	for rest := b.Records; len(rest) > 0; {
		record, size, err := message.ReadRecord(rest)
		if err != nil {
			return err
		}
		var failed error
		if err := record.Stored(b.Partition, func(s *message.Stored) bool {
			if s.Offset >= b.From && s.Offset < b.Next {
				failed = each(s)
			}
			return failed == nil
		}); err != nil {
			return err
		}
		if failed != nil {
			return failed
		}
		rest = rest[size:]
	}
	return nil
}
