package node

import (
	"fmt"
	"sync"

	"steadyferry/internal/core/journal"
	"steadyferry/internal/core/message"
	"steadyferry/internal/core/queue"
)

// contents keeps the messages of the batches that were read last, so that
// taking them one by one does not read a batch for each.
type contents struct {
	mu      sync.Mutex
	batches [4]cachedBatch
	turn    int
}

type cachedBatch struct {
	first    int64
	messages []message.Stored
}

// maxCached is how many bytes a batch may have to be kept in mind.
const maxCached = 1 << 20

func (c *contents) get(offset int64) *message.Stored {
	c.mu.Lock()
	defer c.mu.Unlock()
	for i := range c.batches {
		b := &c.batches[i]
		if offset >= b.first && offset < b.first+int64(len(b.messages)) {
			return &b.messages[offset-b.first]
		}
	}
	return nil
}

func (c *contents) put(b cachedBatch) {
	c.mu.Lock()
	c.batches[c.turn] = b
	c.turn = (c.turn + 1) % len(c.batches)
	c.mu.Unlock()
}

// bytesOf says where the bytes of a message are.
type bytesOf struct {
	offset       int64
	home, edited uint64
}

// read returns messages of a queue's partition by their places. What cannot be
// read any more is nil.
func (m *queueMachine) read(j *journal.Journal, committed uint64, places []bytesOf) ([]*message.Stored, error) {
	out := make([]*message.Stored, len(places))
	r := &batchReader{m: m, j: j, committed: committed}
	for i, p := range places {
		var err error
		if p.edited > 0 || p.home > 0 {
			out[i], err = m.rewritten(j, p)
		} else {
			out[i], err = r.at(p.offset)
		}
		if err != nil {
			return nil, fmt.Errorf("%s: %w", m.partition.topic.Address().At(m.partition.Number, p.offset), err)
		}
	}
	return out, nil
}

// batchReader reads messages where they were published, in rising order.
type batchReader struct {
	m         *queueMachine
	j         *journal.Journal
	committed uint64
	cursor    *journal.Cursor
	buffer    []byte
	now       cachedBatch
}

func (r *batchReader) at(offset int64) (*message.Stored, error) {
	for {
		if at := offset - r.now.first; at >= 0 && at < int64(len(r.now.messages)) {
			return &r.now.messages[at], nil
		}
		if s := r.m.contents.get(offset); s != nil {
			return s, nil
		}
		if r.cursor == nil || r.cursor.Offset() > offset || offset-r.cursor.Offset() > 1000 {
			r.cursor = r.j.CursorAt(offset)
		}
		if r.buffer == nil {
			r.buffer = make([]byte, 64<<10)
		}
		chunk, err := r.cursor.Read(r.buffer, r.committed)
		if err != nil || len(chunk) == 0 {
			return nil, err
		}
		// The messages keep the bytes.
		r.buffer = nil
		var found *message.Stored
		eachRecord(chunk, func(rec message.Record) bool {
			b := cachedBatch{first: rec.Stamp().Offset, messages: make([]message.Stored, 0, rec.Stamp().Count)}
			err = rec.Stored(r.m.partition.Number, func(s *message.Stored) bool {
				one := *s
				one.Headers = append([]message.Header(nil), s.Headers...)
				b.messages = append(b.messages, one)
				return true
			})
			if err != nil {
				return false
			}
			if len(rec.Data) <= maxCached {
				r.m.contents.put(b)
			}
			r.now = b
			if at := offset - b.first; at >= 0 && at < int64(len(b.messages)) {
				found = &b.messages[at]
			}
			return true
		})
		if err != nil || found != nil {
			return found, err
		}
	}
}

// rewritten reads a message that was carried forward or edited. Its place and
// times stay those of the original, which carrying keeps in the content.
func (m *queueMachine) rewritten(j *journal.Journal, p bytesOf) (*message.Stored, error) {
	index := p.home
	if p.edited > 0 {
		index = p.edited
	}
	c, err := m.commandAt(j, index)
	if err != nil {
		return nil, err
	}
	content := c.Content
	for i := range c.Carried {
		if c.Carried[i].Offset == p.offset {
			content = c.Carried[i].Content
			if p.edited > 0 {
				content = c.Carried[i].Edited
			}
		}
	}
	return m.unpack(p.offset, content)
}

func (m *queueMachine) commandAt(j *journal.Journal, index uint64) (*queue.Command, error) {
	records, lost, err := j.Records(index, index+1, 1)
	if err != nil {
		return nil, err
	}
	if len(lost) > 0 || len(records) != 1 || records[0].Kind != message.KindCommand {
		return nil, fmt.Errorf("record %d of the log is not a whole command", index)
	}
	return queue.Decode(records[0].Data[message.StampSize:], message.StampSize)
}

// storedHeader carries the time at which a message was stored along with the
// content that is written again.
const storedHeader = "ferry-stored-at"

func pack(s *message.Stored) []byte {
	copied := s.Message
	copied.Headers = append([]message.Header{{Name: storedHeader, Value: s.StoredAt.Format(timeForm)}}, s.Headers...)
	var b message.Builder
	b.Add(&copied)
	return b.Build(message.Plain, nil)
}

func (m *queueMachine) unpack(offset int64, content []byte) (*message.Stored, error) {
	batch, err := message.OpenBatch(content)
	if err != nil {
		return nil, err
	}
	for one, err := range batch.Messages() {
		if err != nil {
			return nil, err
		}
		s := &message.Stored{Message: *one, Partition: m.partition.Number, Offset: offset}
		if len(s.Headers) > 0 && s.Headers[0].Name == storedHeader {
			s.StoredAt = parseStored(s.Headers[0].Value)
			s.Headers = s.Headers[1:]
		}
		return s, nil
	}
	return nil, message.ErrBatch
}

// detail returns a text of a message's history.
func (m *queueMachine) detail(j *journal.Journal, r queue.Ref, s *message.Stored) string {
	if r == queue.InTerms {
		if s != nil && s.Terms != nil {
			return s.Terms.Detail
		}
		return ""
	}
	if r.Index == 0 {
		return ""
	}
	records, _, err := j.Records(r.Index, r.Index+1, 1)
	if err != nil || len(records) != 1 || len(records[0].Data) < int(r.At)+int(r.Size) {
		return "" // retention has passed it
	}
	return string(records[0].Data[r.At:][:r.Size])
}
