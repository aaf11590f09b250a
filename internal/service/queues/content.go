package queues

import (
	"cmp"
	"errors"
	"fmt"
	"io"
	"slices"
	"sync"
	"time"

	"steadyferry/internal/core/journal"
	"steadyferry/internal/core/message"
	"steadyferry/internal/core/queue"
	"steadyferry/internal/engine/replica"
)

// contents keeps stretches of the log that were read last, and where reading
// goes on: members take messages in small portions, one behind the other.
type contents struct {
	mu        sync.Mutex
	stretches [8]stretch
	turn      int
	cursors   []*journal.Cursor
}

// stretch is whole, checked batch records that follow each other.
type stretch struct {
	from, to int64 // offsets, to not included
	records  []byte
}

// Bounds of what is kept in mind.
const (
	maxStretch = 1 << 20
	maxCursors = 8
	maxSkip    = 2000 // offsets that a cursor reads through to the one that is wanted
)

// find returns a stretch with the offset, or else a cursor not far before it.
func (c *contents) find(offset int64) (stretch, *journal.Cursor) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, s := range c.stretches {
		if offset >= s.from && offset < s.to {
			return s, nil
		}
	}
	best := -1
	for i, cursor := range c.cursors {
		at := cursor.Offset()
		if at <= offset && offset-at <= maxSkip && (best < 0 || at > c.cursors[best].Offset()) {
			best = i
		}
	}
	if best < 0 {
		return stretch{}, nil
	}
	cursor := c.cursors[best]
	c.cursors = slices.Delete(c.cursors, best, best+1)
	return stretch{}, cursor
}

func (c *contents) keep(s stretch) {
	if len(s.records) > maxStretch {
		return
	}
	c.mu.Lock()
	c.stretches[c.turn] = s
	c.turn = (c.turn + 1) % len(c.stretches)
	c.mu.Unlock()
}

func (c *contents) giveBack(cursor *journal.Cursor) {
	c.mu.Lock()
	if len(c.cursors) == maxCursors {
		c.cursors = slices.Delete(c.cursors, 0, 1)
	}
	c.cursors = append(c.cursors, cursor)
	c.mu.Unlock()
}

var stretchBuffers = sync.Pool{New: func() any { b := make([]byte, 16<<10); return &b }}

// around returns a stretch of the log with the offset; one without records if
// it is gone.
func (m *queueMachine) around(j *journal.Journal, committed uint64, offset int64) (stretch, error) {
	found, cursor := m.contents.find(offset)
	if found.records != nil {
		return found, nil
	}
	kept := cursor != nil
	if !kept {
		cursor = j.CursorAt(offset)
	}
	buffer := stretchBuffers.Get().(*[]byte)
	defer stretchBuffers.Put(buffer)
	for {
		chunk, err := cursor.Read(*buffer, committed)
		var damage *journal.Damage
		switch {
		case errors.As(err, &damage) && damage.To <= offset:
			continue
		case kept && damage == nil && (err != nil || len(chunk) == 0):
			// Where it stood has been dropped or written anew since.
			cursor, kept = j.CursorAt(offset), false
			continue
		case err != nil || len(chunk) == 0:
			return stretch{}, err
		}
		s := stretch{records: slices.Clone(chunk)}
		message.EachRecord(chunk, func(r message.Record) bool {
			stamp := r.Stamp()
			if s.to == 0 {
				s.from = stamp.Offset
			}
			s.to = stamp.End()
			return true
		})
		m.contents.keep(s)
		if offset < s.to {
			m.contents.giveBack(cursor)
			return s, nil
		}
	}
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
		record, err := m.holding(j, committed, p.offset)
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
	return m.Partition.Channel.Address().At(m.Partition.Number, offset).String()
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
	// A small body must not keep a large batch in memory.
	alone := batch.RawSize() > maxStretch/4
	return batch.Pick(wanted, func(i int, one *message.Message) {
		if alone {
			one.Body = slices.Clone(one.Body)
		}
		out[i] = &message.Stored{Message: *one, Partition: m.Partition.Number, Offset: places[i].offset, StoredAt: at, By: stamp.By}
	})
}

// holding returns the record with an offset; one without data if it is gone.
func (m *queueMachine) holding(j *journal.Journal, committed uint64, offset int64) (found message.Record, err error) {
	s, err := m.around(j, committed, offset)
	message.EachRecord(s.records, func(r message.Record) bool {
		if offset < r.Stamp().End() {
			found = r
		}
		return found.Data == nil
	})
	return found, err
}

// readRecords reads the records with the messages that were leased, as they
// are stored, when at least half of what is in them is wanted: nothing has to be
// decoded then. It reports whether it did.
func (m *queueMachine) readRecords(g *replica.Group, out *worked) bool {
	for i := range out.Handed {
		if h := &out.Handed[i]; h.Home > 0 || h.Edited > 0 || i > 0 && h.Offset <= out.Handed[i-1].Offset {
			return false
		}
	}
	at, total := 0, 0
	var records [][]byte
	for at < len(out.Handed) {
		s, err := m.around(g.Journal(), g.Committed(), out.Handed[at].Offset)
		if err != nil || s.records == nil {
			return false
		}
		for rest := s.records; len(rest) > 0 && at < len(out.Handed); {
			r, size, err := message.PeekRecord(rest)
			if err != nil {
				return false
			}
			stamp, first := r.Stamp(), at
			for at < len(out.Handed) && out.Handed[at].Offset < stamp.End() {
				at++
			}
			if at > first {
				if total += int(stamp.Count); total > 2*len(out.Handed) {
					return false
				}
				records = append(records, rest[:size])
			}
			rest = rest[size:]
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

// Pack is the content that an edit stores of a message.
func Pack(s *message.Stored) []byte {
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
		s := &message.Stored{Message: *one, Partition: m.Partition.Number, Offset: offset}
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
	text, _ := m.text(j, r) // what retention has passed is empty
	return string(text)
}

// text returns a stretch of a record.
func (m *queueMachine) text(j *journal.Journal, r queue.Ref) ([]byte, error) {
	if r.Index == 0 {
		return nil, nil
	}
	kept := m.lastDetail.Load()
	if kept == nil || kept.Index != r.Index {
		records, _, err := j.Records(r.Index, r.Index+1, 1)
		if err != nil || len(records) != 1 {
			return nil, fmt.Errorf("record %d of the log cannot be read: %w", r.Index, cmp.Or(err, io.ErrUnexpectedEOF))
		}
		kept = &records[0]
		if len(kept.Data) <= maxStretch {
			m.lastDetail.Store(kept)
		}
	}
	if len(kept.Data) < int(r.At)+int(r.Size) {
		return nil, fmt.Errorf("record %d of the log is shorter than it was", r.Index)
	}
	return kept.Data[r.At:][:r.Size], nil
}
