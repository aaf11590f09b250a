package journal

import (
	"fmt"
	"sort"

	"steadyferry/internal/core/message"
)

// Damage reports messages that are lost because their bytes do not fit their
// checksum. They are never served.
type Damage struct {
	From, To int64 // offsets, To not included
}

func (d *Damage) Error() string {
	return fmt.Sprintf("offsets %d to %d are damaged on disk", d.From, d.To-1)
}

// Gone reports that the messages asked for are no longer kept.
type Gone struct {
	First int64 // the oldest kept offset
}

func (g *Gone) Error() string {
	return fmt.Sprintf("the oldest kept offset is %d", g.First)
}

// Cursor reads a journal forward from an offset. It is for one goroutine.
type Cursor struct {
	j    *Journal
	seg  *segment
	pos  int64
	next int64 // offset that the next record is expected to start at, or one inside it
}

// CursorAt returns a cursor whose first record is the one that holds the
// offset.
func (j *Journal) CursorAt(offset int64) *Cursor { return &Cursor{j: j, next: offset} }

// Offset returns the offset after the last record that was read, or the one
// with which the cursor was made.
func (c *Cursor) Offset() int64 { return c.next }

// Read fills a part of dst with whole, checked batch records in order, the
// first being the one that holds the cursor's offset, and returns that part.
// Only records with an index up to committed are read; at the end it returns
// nothing. A record that is larger than dst is returned in a slice of its
// own. The error is a *Gone when retention has passed the cursor, or a
// *Damage when broken records were skipped: reading goes on behind them.
func (c *Cursor) Read(dst []byte, committed uint64) ([]byte, error) {
	for {
		if c.seg == nil {
			if err := c.locate(); err != nil {
				return nil, err
			}
			if c.seg == nil {
				return nil, nil
			}
		}
		limit := c.seg.size.Load()
		if c.pos >= limit {
			following := c.j.following(c.seg)
			if following == nil {
				return nil, nil
			}
			c.seg, c.pos = following, segmentHeaderSize
			if following.baseOffset > c.next {
				// The end of the segment is gone, or those behind it are.
				damage := &Damage{From: c.next, To: following.baseOffset}
				c.next = following.baseOffset
				return nil, damage
			}
			continue
		}
		n, err := c.seg.readAt(dst[:min(int64(len(dst)), limit-c.pos)], c.pos)
		if err != nil {
			if first := c.j.Bounds().First; c.next < first {
				c.seg = nil
				return nil, &Gone{First: first}
			}
			return nil, err
		}
		t, err := c.take(dst[:n], committed)
		if err != nil || len(t.whole) > 0 || t.blocked {
			return t.whole, err
		}
		if t.needed > len(dst) {
			dst = make([]byte, t.needed)
		}
	}
}

// taken is what take found: whole batch records, or the bytes needed to see
// one record whole, or that the next record may not be read yet. With none
// of them the cursor has passed records of other kinds.
type taken struct {
	whole   []byte
	needed  int
	blocked bool
}

// take checks the records at the front of b and moves the cursor past them.
// The batch records among them come as one stretch of b.
func (c *Cursor) take(b []byte, committed uint64) (taken, error) {
	start, at := -1, 0
	for at < len(b) {
		r, size, err := message.ReadRecord(b[at:])
		if err == message.ErrShort && c.pos+int64(max(size, message.RecordPrefix)) <= c.seg.size.Load() {
			if at == 0 {
				return taken{needed: max(size, message.RecordPrefix+message.StampSize)}, nil
			}
			break
		}
		if err != nil {
			if start >= 0 {
				break // hand out what is good first
			}
			return taken{}, c.skipDamage()
		}
		if r.Index > committed {
			if at == 0 {
				return taken{blocked: true}, nil
			}
			break
		}
		wanted := r.Kind == message.KindBatch && r.Stamp().End() > c.next
		if start >= 0 && !wanted {
			break // keep the stretch free of other kinds
		}
		if wanted {
			stamp := r.Stamp()
			if start < 0 && stamp.Offset > c.next {
				// A damaged stretch ended with the last segment.
				damage := &Damage{From: c.next, To: stamp.Offset}
				c.next = stamp.Offset
				return taken{}, damage
			}
			if start < 0 {
				start = at
			}
			c.next = stamp.End()
		}
		at += size
		c.pos += int64(size)
	}
	if start < 0 {
		return taken{}, nil
	}
	return taken{whole: b[start:at]}, nil
}

// skipDamage moves the cursor behind the damaged record that it is at.
func (c *Cursor) skipDamage() error {
	from := c.next
	at, r, err := c.seg.nextWhole(c.pos+1, func(r message.Record) bool { return r.Kind == message.KindBatch && r.Stamp().Offset >= from })
	if err != nil {
		return err
	}
	if at >= 0 {
		c.pos, c.next = at, r.Stamp().Offset
		return &Damage{From: from, To: c.next}
	}
	following := c.j.following(c.seg)
	if following == nil {
		c.pos = c.seg.size.Load()
		c.next = c.j.Bounds().Next
	} else {
		c.seg, c.pos, c.next = following, segmentHeaderSize, following.baseOffset
	}
	return &Damage{From: from, To: c.next}
}

// nextWhole finds the next whole record from a position on that fits, window
// by window. The position is -1 when there is none.
func (s *segment) nextWhole(pos int64, fits func(r message.Record) bool) (int64, message.Record, error) {
	const head = message.RecordPrefix + message.StampSize
	size := s.size.Load()
	b := make([]byte, min(readBlock, max(size-pos, 0)))
	for pos < size {
		n, err := s.readAt(b[:min(int64(len(b)), size-pos)], pos)
		if err != nil {
			return -1, message.Record{}, err
		}
		for i := 0; i+message.RecordPrefix <= n; i++ {
			r, length, err := message.PeekRecord(b[i:n])
			if err != nil || pos+int64(i+length) > size || !fits(r) {
				continue
			}
			whole := make([]byte, length)
			if _, err := s.readAt(whole, pos+int64(i)); err != nil {
				return -1, message.Record{}, err
			}
			if r, _, err := message.ReadRecord(whole); err == nil {
				return pos + int64(i), r, nil
			}
		}
		if pos+int64(n) >= size {
			break
		}
		pos += int64(max(n-head+1, 1))
	}
	return -1, message.Record{}, nil
}

// locate finds the place of the cursor's offset. The segment stays nil when
// the offset is behind the end.
func (c *Cursor) locate() error {
	c.j.mu.RLock()
	segments, next := c.j.segments, c.j.next
	c.j.mu.RUnlock()
	if c.next < segments[0].baseOffset {
		return &Gone{First: segments[0].baseOffset}
	}
	if c.next > next {
		return nil
	}
	i := sort.Search(len(segments), func(i int) bool { return segments[i].baseOffset > c.next })
	s := segments[i-1]
	e := s.floor(func(e mark) bool { return e.offset > c.next })
	c.seg, c.pos = s, e.pos
	return nil
}

// following returns the segment after s, or nil.
func (j *Journal) following(s *segment) *segment {
	j.mu.RLock()
	defer j.mu.RUnlock()
	i := sort.Search(len(j.segments), func(i int) bool { return j.segments[i].base > s.base })
	if i == len(j.segments) {
		return nil
	}
	return j.segments[i]
}

// BlockBefore returns an offset below before from which reading forward
// reaches before within about markInterval bytes: a reader that goes
// backward takes the log block by block with it. It returns the oldest kept
// offset when before is at or below it.
func (j *Journal) BlockBefore(before int64) int64 {
	j.mu.RLock()
	segments := j.segments
	j.mu.RUnlock()
	i := sort.Search(len(segments), func(i int) bool { return segments[i].baseOffset >= before })
	if i == 0 {
		return segments[0].baseOffset
	}
	return segments[i-1].floor(func(e mark) bool { return e.offset >= before }).offset
}

// OffsetAt returns the offset of the first message stamped at or after the
// time (microseconds), or the next offset when there is none yet.
func (j *Journal) OffsetAt(time int64) (int64, error) {
	j.mu.RLock()
	segments, next, lastTime, last := j.segments, j.next, j.lastTime, j.last
	j.mu.RUnlock()
	if time > lastTime {
		return next, nil
	}
	i := sort.Search(len(segments), func(i int) bool { return segments[i].firstTime >= time })
	s := segments[max(i-1, 0)]
	e := s.floor(func(e mark) bool { return e.time >= time })
	c := &Cursor{j: j, seg: s, pos: e.pos, next: e.offset}
	buffer := make([]byte, markInterval)
	for {
		chunk, err := c.Read(buffer, last)
		if _, damaged := err.(*Damage); damaged {
			continue
		}
		if err != nil || len(chunk) == 0 {
			return next, err
		}
		for len(chunk) > 0 {
			r, size, err := message.PeekRecord(chunk)
			if err != nil {
				return next, err
			}
			if stamp := r.Stamp(); stamp.Time >= time {
				return stamp.Offset, nil
			}
			chunk = chunk[size:]
		}
	}
}

// StampOf returns the stamp of the batch that holds the message with the
// offset, or, when that is damaged or no longer kept, of the next one that can
// be read. It returns false when there is none.
func (j *Journal) StampOf(offset int64) (message.Stamp, bool, error) {
	j.mu.RLock()
	segments, next, last := j.segments, j.next, j.last
	j.mu.RUnlock()
	if offset >= next {
		return message.Stamp{}, false, nil
	}
	offset = max(offset, segments[0].baseOffset)
	i := sort.Search(len(segments), func(i int) bool { return segments[i].baseOffset > offset })
	s := segments[max(i-1, 0)]
	e := s.floor(func(e mark) bool { return e.offset > offset })
	c := &Cursor{j: j, seg: s, pos: e.pos, next: e.offset}
	buffer := make([]byte, 32<<10)
	for {
		chunk, err := c.Read(buffer, last)
		if _, damaged := err.(*Damage); damaged {
			continue
		}
		if err != nil || len(chunk) == 0 {
			return message.Stamp{}, false, err
		}
		for len(chunk) > 0 {
			r, size, err := message.PeekRecord(chunk)
			if err != nil {
				return message.Stamp{}, false, err
			}
			if stamp := r.Stamp(); stamp.End() > offset {
				return stamp, true, nil
			}
			chunk = chunk[size:]
		}
	}
}

// positionOfIndex returns where the record with the index starts, which must
// be in the segment, or its end when the index is the next one. With damage
// before it that is where the damage starts.
func (s *segment) positionOfIndex(index uint64) (int64, error) {
	e := s.floor(func(e mark) bool { return e.index > index })
	pos, at := e.pos, e.index
	var head [message.RecordPrefix + message.StampSize]byte
	for at < index {
		n, err := s.readAt(head[:], pos)
		if err != nil {
			return 0, err
		}
		r, size, err := message.PeekRecord(head[:n])
		if err != nil || r.Index != at {
			return pos, nil
		}
		at++
		pos += int64(size)
	}
	return pos, nil
}

// skipTo returns the position of the next whole record behind a damaged one,
// or the segment's end.
func (s *segment) skipTo(pos int64, last uint64) (int64, error) {
	at, _, err := s.nextWhole(pos+1, func(r message.Record) bool { return follows(r, last) })
	if err != nil || at >= 0 {
		return at, err
	}
	return s.size.Load(), nil
}

// TermOf returns the term of the record with the index, which may be the one
// before the first kept one.
func (j *Journal) TermOf(index uint64) (uint64, error) {
	b := j.Bounds()
	switch {
	case index == b.LastIdx:
		return b.LastTerm, nil
	case index+1 == b.FirstIdx:
		return b.FirstTerm, nil
	}
	j.mu.RLock()
	segments := j.segments
	j.mu.RUnlock()
	if index < segments[0].base {
		return 0, &Gone{First: segments[0].baseOffset}
	}
	s := segments[sort.Search(len(segments), func(i int) bool { return segments[i].base > index })-1]
	if pos, err := s.positionOfIndex(index); err == nil {
		// The head tells; the record itself may be large.
		var head [message.RecordPrefix + message.StampSize]byte
		if n, err := s.readAt(head[:], pos); err == nil {
			if r, _, err := message.PeekRecord(head[:n]); (err == nil || err == message.ErrShort) && r.Index == index {
				return r.Term, nil
			}
		}
	}
	records, _, err := j.Records(index, index+1, 1) // it is damaged
	if err != nil {
		return 0, err
	}
	if len(records) == 0 {
		return 0, fmt.Errorf("journal %s has no record %d", j.name, index)
	}
	return records[0].Term, nil
}
