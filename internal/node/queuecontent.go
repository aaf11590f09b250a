package node

import (
	"fmt"
	"slices"
	"sync"
	"time"

	"steadyferry/internal/core/journal"
	"steadyferry/internal/core/message"
	"steadyferry/internal/core/queue"
	"steadyferry/internal/replica"
)

// contents keeps the records that were read last, so that taking messages one
// by one does not read a batch for each.
type contents struct {
	mu      sync.Mutex
	records [4]message.Record
	turn    int
}

// maxCached is how many bytes a record may have to be kept in mind.
const maxCached = 1 << 20

func (c *contents) get(offset int64) (message.Record, bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, r := range c.records {
		if r.Data != nil && offset >= r.Stamp().Offset && offset < r.Stamp().End() {
			return r, true
		}
	}
	return message.Record{}, false
}

func (c *contents) put(r message.Record) {
	if len(r.Data) > maxCached {
		return
	}
	c.mu.Lock()
	c.records[c.turn] = r
	c.turn = (c.turn + 1) % len(c.records)
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
	for i := 0; i < len(places); {
		p := places[i]
		if p.edited > 0 || p.home > 0 {
			var err error
			if out[i], err = m.rewritten(j, p); err != nil {
				return nil, fmt.Errorf("%s: %w", m.at(p.offset), err)
			}
			i++
			continue
		}
		record, err := r.holding(p.offset)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", m.at(p.offset), err)
		}
		if record.Data == nil {
			i++
			continue
		}
		// As many as lie in the same record, in rising order.
		stamp, end := record.Stamp(), i+1
		for end < len(places) && places[end].home == 0 && places[end].edited == 0 && places[end].offset > places[end-1].offset && places[end].offset < stamp.End() {
			end++
		}
		if err := m.pick(record, places[i:end], out[i:end]); err != nil {
			return nil, fmt.Errorf("%s: %w", m.at(p.offset), err)
		}
		i = end
	}
	return out, nil
}

func (m *queueMachine) at(offset int64) string {
	return m.partition.topic.Address().At(m.partition.Number, offset).String()
}

func (m *queueMachine) pick(record message.Record, places []bytesOf, out []*message.Stored) error {
	batch, err := record.Batch()
	if err != nil {
		return err
	}
	stamp := record.Stamp()
	wanted := make([]int, len(places))
	for i, p := range places {
		wanted[i] = int(p.offset - stamp.Offset)
	}
	at := time.UnixMicro(stamp.Time).UTC()
	return batch.Pick(wanted, func(i int, one *message.Message) {
		out[i] = &message.Stored{Message: *one, Partition: m.partition.Number, Offset: places[i].offset, StoredAt: at}
	})
}

// batchReader finds records, in rising order best.
type batchReader struct {
	m         *queueMachine
	j         *journal.Journal
	committed uint64
	cursor    *journal.Cursor
}

// holding returns the record with an offset; one without data if it is gone.
func (r *batchReader) holding(offset int64) (message.Record, error) {
	for {
		if record, ok := r.m.contents.get(offset); ok {
			return record, nil
		}
		if r.cursor == nil || r.cursor.Offset() > offset || offset-r.cursor.Offset() > 1000 {
			r.cursor = r.j.CursorAt(offset)
		}
		buffer := recordBuffers.Get().(*[]byte)
		chunk, err := r.cursor.Read(*buffer, r.committed)
		var found message.Record
		eachRecord(chunk, func(record message.Record) bool {
			if stamp := record.Stamp(); offset >= stamp.Offset && offset < stamp.End() {
				found = record
				found.Data = slices.Clone(record.Data)
				return false
			}
			return true
		})
		recordBuffers.Put(buffer)
		if found.Data != nil {
			r.m.contents.put(found)
			r.cursor = nil
			return found, nil
		}
		if err != nil || len(chunk) == 0 {
			return found, err
		}
	}
}

var recordBuffers = sync.Pool{New: func() any { b := make([]byte, 128<<10); return &b }}

// readRecords reads the records with the messages that were leased, as they
// are stored, when at least half of what is in them is wanted: nothing has to be
// decoded then. It reports whether it did.
func (m *queueMachine) readRecords(g *replica.Group, out *worked) bool {
	for i := range out.Handed {
		if h := &out.Handed[i]; h.Home > 0 || h.Edited > 0 || i > 0 && h.Offset <= out.Handed[i-1].Offset {
			return false
		}
	}
	buffer := recordBuffers.Get().(*[]byte)
	defer recordBuffers.Put(buffer)
	cursor := g.Journal().CursorAt(out.Handed[0].Offset)
	at, total := 0, 0
	var records [][]byte
	for at < len(out.Handed) {
		if out.Handed[at].Offset-cursor.Offset() > 1000 {
			cursor = g.Journal().CursorAt(out.Handed[at].Offset)
		}
		chunk, err := cursor.Read(*buffer, g.Committed())
		if err != nil || len(chunk) == 0 {
			return false
		}
		for len(chunk) > 0 && at < len(out.Handed) {
			r, size, err := message.PeekRecord(chunk)
			if err != nil {
				return false
			}
			stamp, wanted := r.Stamp(), 0
			for at < len(out.Handed) && out.Handed[at].Offset < stamp.End() {
				wanted++
				at++
			}
			if wanted > 0 {
				if total += int(stamp.Count); total > 2*len(out.Handed) {
					return false
				}
				records = append(records, append([]byte(nil), chunk[:size]...))
			}
			chunk = chunk[size:]
		}
	}
	out.Records, out.Messages = records, make([]*message.Stored, len(out.Handed))
	return true
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
	kept := m.lastDetail.Load()
	if kept == nil || kept.Index != r.Index {
		records, _, err := j.Records(r.Index, r.Index+1, 1)
		if err != nil || len(records) != 1 {
			return "" // retention has passed it
		}
		kept = &records[0]
		if len(kept.Data) <= maxCached {
			m.lastDetail.Store(kept)
		}
	}
	if len(kept.Data) < int(r.At)+int(r.Size) {
		return ""
	}
	return string(kept.Data[r.At:][:r.Size])
}
