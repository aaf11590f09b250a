package journal

import (
	"fmt"
	"os"
	"strings"
	"sync"
	"sync/atomic"

	"steadyferry/internal/core/clock"
	"steadyferry/internal/core/message"
)

// Journal is the log of one partition. One goroutine at a time may append,
// truncate, roll and drop; any number may read meanwhile.
type Journal struct {
	store *Store
	name  string
	dir   string

	// Of the appending goroutine alone.
	pending      []piece
	pendingBytes int
	options      atomic.Pointer[Options]

	fileMu   sync.Mutex // guards the state file and newFiles against the sync log's cleaner
	state    *stateFile
	newFiles bool // the directory has entries that are not durable

	mu       sync.RWMutex
	segments []*segment // oldest first, never empty
	current  State
	last     uint64 // index and term of the last record; of the one before the first when empty
	lastTerm uint64
	next     int64 // offset of the next message
	lastTime int64 // stamp of the last batch, microseconds

	// What opening has found.
	cut       int64    // bytes of a torn tail that were cut off
	mended    []string // what was damaged and could be written anew, or set aside
	stateLost bool     // there are records, and no state
}

func (j *Journal) noteRecord(r message.Record) {
	j.last, j.lastTerm = r.Index, r.Term
	if r.Stamped() {
		stamp := r.Stamp()
		j.next, j.lastTime = stamp.End(), stamp.Time
	}
}

func (j *Journal) active() *segment { return j.segments[len(j.segments)-1] }

func (j *Journal) addSegment(base, prevTerm uint64, offset, now int64) error {
	s, header, err := createSegment(j.dir, base, prevTerm, offset, now)
	if err != nil {
		return err
	}
	j.fileMu.Lock()
	j.newFiles = true
	j.fileMu.Unlock()
	j.addPending(piece{base: base, data: [][]byte{header}, size: len(header)})
	s.mu.Lock()
	s.marks = []mark{{pos: segmentHeaderSize, index: base, offset: offset, time: now}}
	s.mu.Unlock()
	j.mu.Lock()
	j.segments = append(j.segments, s)
	j.mu.Unlock()
	return nil
}

func (j *Journal) addPending(p piece) {
	j.pending = append(j.pending, p)
	j.pendingBytes += p.size
}

func (j *Journal) clearPending() {
	clear(j.pending)
	j.pending, j.pendingBytes = j.pending[:0], 0
}

// Name returns the name with which the journal was opened.
func (j *Journal) Name() string { return j.name }

// TornBytes returns how many bytes of an unfinished append were cut off when
// the journal was opened.
func (j *Journal) TornBytes() int64 { return j.cut }

// Mended tells what opening has found damaged and written anew or set aside.
func (j *Journal) Mended() []string { return j.mended }

// StateLost reports whether the journal's state is gone while its records are
// there: its owner does not know for whom it has voted.
func (j *Journal) StateLost() bool { return j.stateLost }

// SetOptions changes when segments end, from the next append on.
func (j *Journal) SetOptions(o Options) {
	o.Origin = j.options.Load().Origin
	j.options.Store(&o)
}

// Append writes the records, whose indexes follow each other, after the
// record with the index before the first one; records from there on are cut
// off. The bytes are readable at once and durable after Flush or
// FlushTogether. When it fails nothing was appended, and it may be tried
// again.
func (j *Journal) Append(records []message.Record) error {
	if len(records) == 0 {
		return nil
	}
	if first := records[0].Index; first <= j.last {
		if err := j.truncate(first); err != nil {
			return err
		}
	} else if first != j.last+1 {
		return fmt.Errorf("journal %s: record %d does not follow record %d", j.name, first, j.last)
	}
	for len(records) > 0 {
		n, err := j.appendToSegment(records)
		if err != nil {
			return err
		}
		records = records[n:]
	}
	return nil
}

// appendToSegment writes as many of the records as the active segment takes,
// at least one.
func (j *Journal) appendToSegment(records []message.Record) (int, error) {
	if err := j.rollIfFull(records[0].Size()); err != nil {
		return 0, err
	}
	s, o := j.active(), j.options.Load()
	start := s.size.Load()
	n, size := 0, int64(0)
	for n < len(records) && (n == 0 || start+size+int64(records[n].Size()) <= o.SegmentBytes) {
		size += int64(records[n].Size())
		n++
	}
	prefixes := make([]byte, n*message.RecordPrefix)
	buffers := make([][]byte, 0, 2*n)
	for i, r := range records[:n] {
		prefix := prefixes[i*message.RecordPrefix:][:message.RecordPrefix]
		r.PutPrefix(prefix)
		buffers = append(buffers, prefix)
		if len(r.Data) > 0 {
			buffers = append(buffers, r.Data)
		}
	}
	f, err := s.open()
	if err != nil {
		return 0, err
	}
	s.dirty.Store(true)
	if err := writeVectors(f, buffers, start); err != nil {
		return 0, err
	}
	pos := start
	for _, r := range records[:n] {
		if r.Stamped() {
			stamp := r.Stamp()
			s.note(mark{pos: pos, index: r.Index, offset: stamp.Offset, time: stamp.Time})
		}
		pos += int64(r.Size())
	}
	j.addPending(piece{base: s.base, pos: start, data: buffers, size: int(size)})
	j.mu.Lock()
	for _, r := range records[:n] {
		j.noteRecord(r)
	}
	j.mu.Unlock()
	s.size.Store(pos)
	return n, nil
}

func (j *Journal) rollIfFull(size int) error {
	s, o := j.active(), j.options.Load()
	empty := s.size.Load() == segmentHeaderSize
	old := o.SegmentAge > 0 && clock.Now().UnixMicro()-s.firstTime > o.SegmentAge.Microseconds()
	if !empty && (old || s.size.Load()+int64(size) > o.SegmentBytes) {
		return j.Roll()
	}
	return nil
}

// Roll ends the active segment, unless it is empty, and begins another, so
// that retention can drop the ended one.
func (j *Journal) Roll() error {
	if j.active().size.Load() == segmentHeaderSize {
		return nil
	}
	return j.addSegment(j.last+1, j.lastTerm, j.next, max(clock.Now().UnixMicro(), j.lastTime))
}

// truncate cuts off the record with the index and all behind it.
func (j *Journal) truncate(index uint64) error {
	if err := j.leaveSyncLog(); err != nil {
		return err
	}
	j.mu.Lock()
	defer j.mu.Unlock()
	for len(j.segments) > 1 && j.active().base >= index {
		if err := removeSegment(j.active()); err != nil {
			return err
		}
		j.segments = j.segments[:len(j.segments)-1]
	}
	s := j.active()
	pos, err := s.positionOfIndex(index)
	if err != nil {
		return err
	}
	if err := os.Truncate(s.path, pos); err != nil {
		return err
	}
	s.size.Store(pos)
	os.Remove(s.marksPath())
	s.close()
	if err := syncPath(s.path); err != nil {
		return err
	}
	j.segments[len(j.segments)-1].allMarked = false
	j.current.Commit = min(j.current.Commit, index-1)
	return j.recoverTail()
}

// leaveSyncLog makes what the journal has durable in its own files, so that
// nothing of it comes back out of the sync log: what is cut off next stays so.
func (j *Journal) leaveSyncLog() error {
	if err := j.Flush(); err != nil {
		return err
	}
	return j.store.log.forget(j.name)
}

// State returns what the journal remembers beside its records.
func (j *Journal) State() State {
	j.mu.RLock()
	defer j.mu.RUnlock()
	return j.current
}

// SetVote changes term, vote and commit; they are durable with the next
// Flush or FlushTogether.
func (j *Journal) SetVote(term, vote, commit uint64) error {
	s := j.State()
	s.Term, s.Vote, s.Commit = term, vote, commit
	return j.setState(s)
}

func (j *Journal) setState(s State) error {
	j.fileMu.Lock()
	j.newFiles = j.newFiles || j.state.sequence == 0
	b, err := j.state.write(s)
	j.fileMu.Unlock()
	if err != nil {
		return err
	}
	j.addPending(piece{data: [][]byte{b}, size: len(b)})
	j.mu.Lock()
	j.current = s
	j.mu.Unlock()
	return nil
}

// syncFiles makes everything written so far durable in the journal's own
// files. The sync log's cleaner calls it too.
func (j *Journal) syncFiles() error {
	j.mu.RLock()
	segments := append([]*segment(nil), j.segments...)
	j.mu.RUnlock()
	for _, s := range segments {
		if s.dirty.Load() {
			if err := s.sync(); err != nil && !os.IsNotExist(err) {
				return err
			}
		}
	}
	j.fileMu.Lock()
	defer j.fileMu.Unlock()
	if err := j.state.sync(); err != nil && !os.IsNotExist(err) {
		return err
	}
	if j.newFiles {
		if err := syncPath(j.dir); err != nil && !os.IsNotExist(err) {
			return err
		}
		j.newFiles = false
	}
	return nil
}

func (j *Journal) closeFiles() {
	j.mu.Lock()
	defer j.mu.Unlock()
	for _, s := range j.segments {
		s.close()
	}
}

// Bounds is what a journal holds at one moment.
type Bounds struct {
	First     int64  // offset of the oldest kept message
	Next      int64  // offset that the next message gets
	FirstTime int64  // no kept record is older; microseconds
	LastTime  int64  // stamp of the newest batch, 0 before the first one
	FirstTerm uint64 // term of the record before the first one
	FirstIdx  uint64 // index of the first record
	LastIdx   uint64
	LastTerm  uint64
	Bytes     int64
	Segments  int
}

// Bounds returns what the journal holds now.
func (j *Journal) Bounds() Bounds {
	j.mu.RLock()
	defer j.mu.RUnlock()
	first := j.segments[0]
	b := Bounds{First: first.baseOffset, Next: j.next, FirstTime: first.firstTime, LastTime: j.lastTime, FirstTerm: first.prevTerm,
		FirstIdx: first.base, LastIdx: j.last, LastTerm: j.lastTerm, Segments: len(j.segments)}
	for _, s := range j.segments {
		b.Bytes += s.size.Load()
	}
	return b
}

// SegmentInfo describes one segment for the decision of retention.
type SegmentInfo struct {
	Bytes    int64
	LastTime int64 // no record in it is newer; microseconds
	Empty    bool
}

// SegmentInfos describes the segments, oldest first; the last one is active.
func (j *Journal) SegmentInfos() []SegmentInfo {
	j.mu.RLock()
	defer j.mu.RUnlock()
	infos := make([]SegmentInfo, len(j.segments))
	for i, s := range j.segments {
		infos[i] = SegmentInfo{Bytes: s.size.Load(), LastTime: j.lastTime, Empty: s.size.Load() == segmentHeaderSize}
		if i+1 < len(j.segments) {
			infos[i].LastTime = j.segments[i+1].firstTime
		}
	}
	return infos
}

// Drop removes the n oldest segments; the active one always stays. The new
// start is durable before the first file goes, so that a crash between the
// two leaves a log that starts where it says.
func (j *Journal) Drop(n int) error {
	j.mu.RLock()
	n = min(n, len(j.segments)-1)
	dropped := append([]*segment(nil), j.segments[:max(n, 0)]...)
	j.mu.RUnlock()
	if n <= 0 {
		return nil
	}
	state := j.State()
	state.Start = j.segments[n].base
	if err := j.setState(state); err != nil {
		return err
	}
	if err := j.Flush(); err != nil {
		return err
	}
	j.mu.Lock()
	j.segments = append([]*segment(nil), j.segments[n:]...)
	j.mu.Unlock()
	for _, s := range dropped {
		if err := removeSegment(s); err != nil {
			return err
		}
	}
	return nil
}

// Dir returns the directory of the journal's files, in which its user may
// keep small files of its own whose names do not end in .seg or .marks.
func (j *Journal) Dir() string { return strings.TrimSuffix(j.dir, "/") }

// SegmentStart returns the offset at which the n-th segment (from 0, oldest
// first) begins.
func (j *Journal) SegmentStart(n int) int64 {
	j.mu.RLock()
	defer j.mu.RUnlock()
	return j.segments[min(n, len(j.segments)-1)].baseOffset
}
