package journal

import (
	"sort"

	"steadyferry/internal/core/message"
)

// Records returns the records with indexes from lo to below hi, as many of
// them as fit maxBytes, at least one. A damaged record comes as an empty one
// of its index: what it held is lost, and what follows must still be known;
// lost names those.
func (j *Journal) Records(lo, hi uint64, maxBytes uint64) (records []message.Record, lost []uint64, err error) {
	j.mu.RLock()
	segments, last := j.segments, j.last
	j.mu.RUnlock()
	if lo < segments[0].base {
		return nil, nil, &Gone{First: segments[0].baseOffset}
	}
	r := &recordReader{journal: j, index: lo, hi: min(hi, last+1), room: int64(max(min(maxBytes, 1<<40), 1))}
	r.segment = segments[sort.Search(len(segments), func(i int) bool { return segments[i].base > lo })-1]
	r.term = r.segment.prevTerm
	if r.pos, err = r.segment.positionOfIndex(lo); err != nil {
		return nil, nil, err
	}
	for r.index < r.hi && r.room > 0 {
		if err := r.step(); err != nil {
			return nil, nil, err
		}
	}
	return r.found, r.lost, nil
}

// recordReader goes through a journal by the index of records.
type recordReader struct {
	journal   *Journal
	segment   *segment
	pos       int64
	index, hi uint64 // the next record that is wanted, and the first that is not
	term      uint64
	room      int64
	found     []message.Record
	lost      []uint64
}

// readBlock is how much of a segment is read at a time.
const readBlock = 1 << 20

// step takes a block of the segment, or moves on to the following one.
func (r *recordReader) step() error {
	size := r.segment.size.Load()
	if r.pos >= size {
		following := r.journal.following(r.segment)
		upTo := r.hi
		if following != nil {
			upTo = min(following.base, r.hi)
		}
		r.lose(upTo) // the segment's end was damaged
		if following != nil {
			r.segment, r.pos, r.term = following, segmentHeaderSize, following.prevTerm
		}
		return nil
	}
	b := make([]byte, min(size-r.pos, max(min(r.room, readBlock), 64<<10)))
	n, err := r.segment.readAt(b, r.pos)
	if err != nil {
		return err
	}
	taken, needed := r.take(b[:n])
	if taken > 0 {
		return nil
	}
	if needed > 0 && r.pos+needed <= size {
		b = make([]byte, needed)
		if _, err := r.segment.readAt(b, r.pos); err != nil {
			return err
		}
		if taken, _ = r.take(b); taken > 0 {
			return nil
		}
	}
	r.pos, err = r.segment.skipTo(r.pos, r.index-1)
	return err
}

// take adds the whole records at the front of b and returns their bytes, or
// else the bytes that the first one takes.
func (r *recordReader) take(b []byte) (taken, needed int64) {
	for r.index < r.hi {
		record, size, err := message.ReadRecord(b[taken:])
		if err == message.ErrShort {
			return taken, int64(size)
		}
		if err != nil {
			return taken, 0
		}
		if record.Index >= r.index {
			r.lose(min(record.Index, r.hi))
			if r.index >= r.hi || len(r.found) > 0 && int64(size) > r.room {
				r.room = 0
				return max(taken, 1), 0
			}
			r.found = append(r.found, record)
			r.room -= int64(size)
			r.term = record.Term
			r.index++
		}
		taken += int64(size)
		r.pos += int64(size)
	}
	return taken, 0
}

// lose notes the records from the next one to below upTo as damaged.
func (r *recordReader) lose(upTo uint64) {
	for ; r.index < upTo; r.index++ {
		r.found = append(r.found, message.Record{Index: r.index, Term: r.term, Kind: message.KindEmpty})
		r.lost = append(r.lost, r.index)
	}
}

// Behind tells how much of the log follows the record with an index, up to
// the last one that the index up to names.
type Behind struct {
	Messages int64
	Bytes    int64
	Time     int64 // stamp of the first message that follows, microseconds; 0 when none does
}

// BehindOf returns what follows the record with the index in the log. Messages
// are counted exactly; with damage there the count is that of what is left.
func (j *Journal) BehindOf(index uint64) (Behind, error) {
	j.mu.RLock()
	segments, last, next := j.segments, j.last, j.next
	j.mu.RUnlock()
	if index >= last {
		return Behind{}, nil
	}
	from := max(index+1, segments[0].base)
	i := sort.Search(len(segments), func(i int) bool { return segments[i].base > from }) - 1
	pos, err := segments[i].positionOfIndex(from)
	if err != nil {
		return Behind{}, err
	}
	b := Behind{Bytes: segments[i].size.Load() - pos}
	for _, s := range segments[i+1:] {
		b.Bytes += s.size.Load()
	}
	// The first batch that follows tells where the messages begin. Its head
	// is enough.
	for at := segments[i]; at != nil; at = j.following(at) {
		if at != segments[i] {
			pos = segmentHeaderSize
		}
		for pos < at.size.Load() {
			var head [message.RecordPrefix + message.StampSize]byte
			n, err := at.readAt(head[:], pos)
			if err != nil {
				return b, err
			}
			r, size, err := message.PeekRecord(head[:n])
			if err != nil && err != message.ErrShort || size == 0 {
				break // damaged: the next segment
			}
			if r.Kind == message.KindBatch {
				stamp := r.Stamp()
				b.Messages, b.Time = next-stamp.Offset, stamp.Time
				return b, nil
			}
			pos += int64(size)
		}
	}
	return b, nil
}

// Bases returns the indexes, from lo to hi, at which segments begin.
func (j *Journal) Bases(lo, hi uint64) []uint64 {
	j.mu.RLock()
	defer j.mu.RUnlock()
	n := len(j.segments)
	if j.segments[n-1].base < lo {
		return nil // the usual case: nothing new
	}
	var bases []uint64
	for _, s := range j.segments {
		if s.base >= lo && s.base <= hi {
			bases = append(bases, s.base)
		}
	}
	return bases
}

// BaseOf returns the index at which the n-th segment, from 0, begins.
func (j *Journal) BaseOf(n int) uint64 {
	j.mu.RLock()
	defer j.mu.RUnlock()
	return j.segments[min(n, len(j.segments)-1)].base
}

// BytesAfter returns the bytes of the log behind the record with the index,
// from the sparse index alone: it may say up to 256 KiB too much.
func (j *Journal) BytesAfter(index uint64) int64 {
	j.mu.RLock()
	segments := j.segments
	j.mu.RUnlock()
	from := max(index+1, segments[0].base)
	i := sort.Search(len(segments), func(i int) bool { return segments[i].base > from }) - 1
	entries := segments[i].entries()
	e := entries[max(sort.Search(len(entries), func(i int) bool { return entries[i].index > from })-1, 0)]
	bytes := segments[i].size.Load() - e.pos
	for _, s := range segments[i+1:] {
		bytes += s.size.Load()
	}
	return bytes
}

// BytesFrom returns the bytes of the log from the message with the offset on,
// from the sparse index alone: it may say up to 256 KiB too much.
func (j *Journal) BytesFrom(offset int64) int64 {
	j.mu.RLock()
	segments, next := j.segments, j.next
	j.mu.RUnlock()
	if offset >= next {
		return 0
	}
	i := max(sort.Search(len(segments), func(i int) bool { return segments[i].baseOffset > offset })-1, 0)
	bytes := segments[i].size.Load() - segments[i].floor(func(e mark) bool { return e.offset > offset }).pos
	for _, s := range segments[i+1:] {
		bytes += s.size.Load()
	}
	return bytes
}

// Restart empties the log and lets it begin with the record index base, after
// one of the term, with the offset: the log of a replica that has been left
// behind. Term and vote stay. It is durable when Restart returns. After a
// crash within it, it must be called again.
func (j *Journal) Restart(base, prevTerm uint64, offset, time int64) error {
	if err := j.leaveSyncLog(); err != nil {
		return err
	}
	j.mu.Lock()
	for len(j.segments) > 0 {
		if err := removeSegment(j.active()); err != nil {
			j.mu.Unlock()
			return err
		}
		j.segments = j.segments[:len(j.segments)-1]
	}
	s, header, err := createSegment(j.dir, base, prevTerm, offset, time)
	if err != nil {
		j.mu.Unlock()
		return err
	}
	s.marks = []mark{{pos: segmentHeaderSize, index: base, offset: offset, time: time}}
	j.segments = []*segment{s}
	j.last, j.lastTerm, j.next, j.lastTime = base-1, prevTerm, offset, time
	j.mu.Unlock()
	j.fileMu.Lock()
	j.newFiles = true
	j.fileMu.Unlock()
	j.addPending(piece{base: base, data: [][]byte{header}, size: len(header)})
	state := j.State()
	state.Start, state.Commit = base, base-1
	if err := j.setState(state); err != nil {
		return err
	}
	return j.Flush()
}

// Repair writes records over damaged ones of the same indexes, and at the end
// of an ended segment that has lost its own. They come from another replica,
// where they are byte for byte the same. It returns how many it wrote: a call
// mends one segment.
func (j *Journal) Repair(records []message.Record) (n int, err error) {
	if len(records) == 0 {
		return 0, nil
	}
	j.mu.RLock()
	segments := j.segments
	j.mu.RUnlock()
	first := records[0].Index
	i := sort.Search(len(segments), func(i int) bool { return segments[i].base > first }) - 1
	if i < 0 {
		return 0, &Gone{First: segments[0].baseOffset}
	}
	s := segments[i]
	pos, err := s.positionOfIndex(first)
	if err != nil {
		return 0, err
	}
	f, err := s.open()
	if err != nil {
		return 0, err
	}
	for _, r := range records {
		b := make([]byte, r.Size())
		r.PutPrefix(b[:message.RecordPrefix])
		copy(b[message.RecordPrefix:], r.Data)
		end, ended := pos+int64(len(b)), i+1 < len(segments)
		if ended && r.Index >= segments[i+1].base || !ended && end > s.size.Load() {
			break
		}
		if _, err := f.WriteAt(b, pos); err != nil {
			return n, err
		}
		s.dirty.Store(true)
		if end > s.size.Load() {
			s.size.Store(end)
		}
		pos = end
		n++
	}
	return n, s.sync()
}

// Indexes names records by their indexes.
type Indexes struct {
	From uint64 `json:"from"`
	To   uint64 `json:"to"` // not included
}
