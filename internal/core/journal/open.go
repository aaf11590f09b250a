package journal

import (
	"fmt"
	"os"
	"path/filepath"
	"sort"
	"strings"

	"steadyferry/internal/core/clock"
	"steadyferry/internal/core/message"
)

func openJournal(store *Store, name, dir string, o Options) (*Journal, error) {
	j := &Journal{store: store, name: name, dir: dir}
	j.options.Store(&o)
	var err error
	if j.state, j.current, err = openState(dir); err != nil {
		return nil, err
	}
	if err := j.openSegments(); err != nil {
		return nil, err
	}
	if len(j.segments) == 0 {
		base := max(j.current.Start, 1)
		at := j.origin(base)
		if err := j.addSegment(base, at.Term, at.Offset, max(at.Time, clock.Now().UnixMicro())); err != nil {
			return nil, err
		}
	}
	if err := j.recoverTail(); err != nil {
		return nil, err
	}
	j.stateLost = j.state.sequence == 0 && j.last > 0
	return j, nil
}

// origin returns what is known of the place where the log begins.
func (j *Journal) origin(base uint64) (at Place) {
	if o := j.options.Load(); o.Origin != nil && base > 1 {
		at, _ = o.Origin(base)
	}
	return at
}

// openSegments opens the segments that are there. A damaged header is written
// anew from what is around it; the place of a first segment that is gone is
// held by an empty one, so that what it had is damage and not retention.
func (j *Journal) openSegments() error {
	paths, err := filepath.Glob(filepath.Join(j.dir, "*"+segmentSuffix))
	if err != nil {
		return err
	}
	sort.Strings(paths)
	for i, path := range paths {
		base, err := segmentBase(path)
		if err != nil {
			return err
		}
		if base < j.current.Start {
			// Retention had dropped it: its removal was not finished, or the sync
			// log has brought parts of it back.
			if err := os.Remove(path); err != nil {
				return err
			}
			os.Remove(strings.TrimSuffix(path, segmentSuffix) + marksSuffix)
			continue
		}
		s, err := readSegment(path)
		if err == errHeader {
			if s, err = j.mendHeader(path, base); err == errHeader && i == len(paths)-1 {
				// Begun when the node stopped: nothing in it was acknowledged.
				if err := os.Remove(path); err != nil {
					return err
				}
				continue
			}
		}
		switch {
		case err == errHeader:
			// Nothing in it can be read: what it held is damage.
			if err := os.Rename(path, path+damagedSuffix); err != nil {
				return err
			}
			j.mended = append(j.mended, fmt.Sprintf("%s has no whole record and was renamed", filepath.Base(path)))
			continue
		case err != nil:
			return fmt.Errorf("%s: %w", path, err)
		}
		if start := max(j.current.Start, 1); len(j.segments) == 0 && s.base > start && j.state.sequence > 0 {
			at := j.origin(start)
			if err := j.addSegment(start, at.Term, at.Offset, min(max(at.Time, 0), s.firstTime)); err != nil {
				return err
			}
			j.mended = append(j.mended, fmt.Sprintf("the first segment is gone: records %d to %d are lost here", start, s.base-1))
		}
		j.segments = append(j.segments, s)
	}
	return nil
}

// mendHeader writes the header of a segment anew from its name, the records in
// it and the segment before it. It returns errHeader if it has no whole record.
func (j *Journal) mendHeader(path string, base uint64) (*segment, error) {
	b, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	if len(b) <= segmentHeaderSize {
		return nil, errHeader
	}
	rest := b[segmentHeaderSize:]
	first := nextRecord(rest, base-1)
	if first < 0 {
		return nil, errHeader
	}
	r, _, err := message.ReadRecord(rest[first:])
	if err != nil {
		return nil, errHeader
	}
	at := Place{Term: r.Term}
	if len(j.segments) > 0 {
		before := j.segments[len(j.segments)-1]
		end, err := before.tail()
		if err != nil {
			return nil, err
		}
		at = Place{Offset: end.next, Time: end.time}
		if at.Term = r.Term; end.index == base-1 {
			at.Term = end.term
		}
	} else if base == 1 {
		at = Place{}
	} else if o := j.options.Load(); o.Origin != nil {
		if known, ok := o.Origin(base); ok {
			at = known
		}
	}
	// The first message tells best where the messages begin.
	for scan := rest[first:]; len(scan) > 0; {
		r, n, err := message.ReadRecord(scan)
		if err != nil {
			break
		}
		if r.Stamped() {
			if first == 0 || at.Offset == 0 && base > 1 {
				at.Offset = r.Stamp().Offset
			}
			at.Time = min(max(at.Time, 0), r.Stamp().Time)
			break
		}
		scan = scan[n:]
	}
	f, err := os.OpenFile(path, os.O_RDWR, 0)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	if _, err := f.WriteAt(encodeHeader(base, at), 0); err != nil {
		return nil, err
	}
	if err := f.Sync(); err != nil {
		return nil, err
	}
	j.mended = append(j.mended, fmt.Sprintf("the header of %s was damaged and is written anew", filepath.Base(path)))
	return readSegment(path)
}

func removeSegment(s *segment) error {
	s.close()
	os.Remove(s.marksPath())
	if err := os.Remove(s.path); err != nil && !os.IsNotExist(err) {
		return err
	}
	return nil
}

// tail is the end of a segment: its last whole record and what follows from it.
type tail struct {
	index, term uint64
	next, time  int64
	entries     []mark
	cut         int64 // bytes after the last whole record
}

func (t *tail) note(r message.Record) {
	t.index, t.term = r.Index, r.Term
	if r.Stamped() {
		stamp := r.Stamp()
		t.next, t.time = stamp.End(), stamp.Time
	}
}

// tail goes through the records after the segment's last index entry.
func (s *segment) tail() (t tail, err error) {
	entries := s.loadMarks()
	for len(entries) > 1 && !s.holds(entries[len(entries)-1]) {
		entries = entries[:len(entries)-1]
	}
	from := entries[len(entries)-1]
	t = tail{index: from.index - 1, term: s.prevTerm, next: from.offset, time: from.time}
	size := s.size.Load()
	b := make([]byte, max(size-from.pos, 0))
	if _, err := s.readAt(b, from.pos); err != nil && len(b) > 0 {
		return t, err
	}
	rest := b
	for len(rest) > 0 {
		r, n, err := message.ReadRecord(rest)
		if err != nil {
			skipped := nextRecord(rest[1:], t.index)
			if skipped < 0 {
				break
			}
			rest = rest[1+skipped:]
			continue
		}
		pos := from.pos + int64(len(b)-len(rest))
		t.note(r)
		if r.Stamped() && pos-entries[len(entries)-1].pos >= markInterval {
			entries = append(entries, mark{pos: pos, index: r.Index, offset: r.Stamp().Offset, time: r.Stamp().Time})
		}
		rest = rest[n:]
	}
	t.entries, t.cut = entries, int64(len(rest))
	return t, nil
}

// recoverTail finds the end of the last segment, and cuts off what follows the
// last whole record. A damaged record with whole ones behind it is left for
// readers to report.
func (j *Journal) recoverTail() error {
	s := j.active()
	t, err := s.tail()
	if err != nil {
		return err
	}
	j.last, j.lastTerm, j.next, j.lastTime = t.index, t.term, t.next, t.time
	s.mu.Lock()
	s.marks, s.allMarked = t.entries, true
	s.mu.Unlock()
	if t.cut > 0 {
		j.cut = t.cut
		size := s.size.Load()
		if err := os.Truncate(s.path, size-t.cut); err != nil {
			return err
		}
		if err := syncPath(s.path); err != nil {
			return err
		}
		s.size.Store(size - t.cut)
	}
	return nil
}

// Skip lets the log go on behind a record that was once its last and is gone:
// what lies between is damage, and its offsets are not given again. It is
// durable when Skip returns.
func (j *Journal) Skip(index uint64, at Place) error {
	if index <= j.last {
		return fmt.Errorf("journal %s: record %d is there", j.name, index)
	}
	if err := j.addSegment(index+1, at.Term, at.Offset, max(at.Time, j.lastTime)); err != nil {
		return err
	}
	j.mu.Lock()
	j.last, j.lastTerm, j.next, j.lastTime = index, at.Term, at.Offset, max(at.Time, j.lastTime)
	j.mu.Unlock()
	return j.Flush()
}

// nextRecord returns where the next whole record with an index above last
// starts in b, or -1.
func nextRecord(b []byte, last uint64) int {
	for i := 0; i+message.RecordPrefix <= len(b); i++ {
		if r, _, err := message.PeekRecord(b[i:]); err != nil || !follows(r, last) {
			continue
		}
		if _, _, err := message.ReadRecord(b[i:]); err == nil {
			return i
		}
	}
	return -1
}

// follows reports whether a record can be one behind the last that is known.
func follows(r message.Record, last uint64) bool { return r.Index > last && r.Index <= last+1<<20 }
