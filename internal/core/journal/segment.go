package journal

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"sort"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"steadyferry/internal/core/message"
)

// A segment file begins with this header, little endian (docs/formats.md):
//
//	 0  8  "SFSEG2\n\0"
//	 8  8  Raft index of the first record
//	16  8  Raft term of the record before it
//	24  8  offset of the first message
//	32  8  time when the segment was begun, microseconds since 1970; no record in it is older
//	40  4  CRC32C of bytes 0 to 39
//	44 20  zero
//
// Records follow without gaps.
const (
	segmentHeaderSize = 64
	segmentMagic      = "SFSEG2\n\x00"
	segmentSuffix     = ".seg"
	marksSuffix       = ".marks"
	damagedSuffix     = ".damaged" // of a segment in which nothing can be read
)

// One entry of the sparse index, also in this form in the .marks file beside
// the segment: position, Raft index, offset, time, 8 bytes each.
type mark struct {
	pos    int64
	index  uint64
	offset int64
	time   int64
}

const markSize = 32

// markInterval is how many bytes of log lie between two entries: it bounds
// what is read to find an offset, and what is scanned at start.
const markInterval = 256 << 10

var le = binary.LittleEndian

type segment struct {
	path       string
	base       uint64 // index of the first record
	prevTerm   uint64
	baseOffset int64
	firstTime  int64
	size       atomic.Int64 // bytes with whole records
	dirty      atomic.Bool  // has bytes that no fdatasync has covered
	lastUse    atomic.Int64

	mu        sync.Mutex // guards file, marks, allMarked
	file      *os.File
	marks     []mark
	allMarked bool // marks are complete
	marksFile *os.File
}

func segmentPath(dir string, base uint64) string {
	return filepath.Join(dir, fmt.Sprintf("%016x%s", base, segmentSuffix))
}

func createSegment(dir string, base, prevTerm uint64, baseOffset, now int64) (*segment, []byte, error) {
	s := &segment{path: segmentPath(dir, base), base: base, prevTerm: prevTerm, baseOffset: baseOffset, firstTime: now, allMarked: true}
	header := encodeHeader(base, Place{prevTerm, baseOffset, now})
	f, err := os.OpenFile(s.path, os.O_RDWR|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return nil, nil, err
	}
	if _, err := f.WriteAt(header, 0); err != nil {
		f.Close()
		os.Remove(s.path)
		return nil, nil, err
	}
	os.Remove(s.marksPath())
	s.file = f
	s.size.Store(segmentHeaderSize)
	s.dirty.Store(true)
	return s, header, nil
}

func encodeHeader(base uint64, at Place) []byte {
	header := make([]byte, segmentHeaderSize)
	copy(header, segmentMagic)
	le.PutUint64(header[8:], base)
	le.PutUint64(header[16:], at.Term)
	le.PutUint64(header[24:], uint64(at.Offset))
	le.PutUint64(header[32:], uint64(at.Time))
	le.PutUint32(header[40:], message.Checksum(header[:40]))
	return header
}

func (s *segment) marksPath() string { return strings.TrimSuffix(s.path, segmentSuffix) + marksSuffix }

// segmentBase reads the index of a segment's first record from its file name.
func segmentBase(path string) (uint64, error) {
	base, err := strconv.ParseUint(strings.TrimSuffix(filepath.Base(path), segmentSuffix), 16, 64)
	if err != nil {
		return 0, fmt.Errorf("%s: the name of a segment is a number of 16 hexadecimal digits", path)
	}
	return base, nil
}

// readSegment reads the header of an existing segment. Its size is that of
// the file until recoverTail has looked.
func readSegment(path string) (*segment, error) {
	base, err := segmentBase(path)
	if err != nil {
		return nil, err
	}
	f, err := os.OpenFile(path, os.O_RDWR, 0)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	header := make([]byte, segmentHeaderSize)
	if _, err := io.ReadFull(f, header); err != nil {
		return nil, errHeader
	}
	if string(header[:8]) != segmentMagic || le.Uint64(header[8:]) != base || le.Uint32(header[40:]) != message.Checksum(header[:40]) {
		return nil, errHeader
	}
	info, err := f.Stat()
	if err != nil {
		return nil, err
	}
	s := &segment{path: path, base: base, prevTerm: le.Uint64(header[16:]), baseOffset: int64(le.Uint64(header[24:])), firstTime: int64(le.Uint64(header[32:]))}
	s.size.Store(info.Size())
	return s, nil
}

var errHeader = errors.New("the segment's header is damaged")

func (s *segment) open() (*os.File, error) {
	s.lastUse.Store(time.Now().Unix())
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.file == nil {
		f, err := os.OpenFile(s.path, os.O_RDWR, 0)
		if err != nil {
			return nil, err
		}
		s.file = f
	}
	return s.file, nil
}

func (s *segment) close() {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.file != nil {
		s.file.Close()
		s.file = nil
	}
	if s.marksFile != nil {
		s.marksFile.Close()
		s.marksFile = nil
	}
}

// sync makes the segment's bytes durable.
func (s *segment) sync() error {
	if !s.dirty.Swap(false) {
		return nil
	}
	f, err := s.open()
	if err == nil {
		err = fdatasync(f)
	}
	if err != nil {
		s.dirty.Store(true)
	}
	return err
}

// readAt fills p from the file; a closed file (retention, or one idle for
// long) is opened again once.
func (s *segment) readAt(p []byte, pos int64) (int, error) {
	for try := 0; ; try++ {
		f, err := s.open()
		if err != nil {
			return 0, err
		}
		n, err := f.ReadAt(p, pos)
		if errors.Is(err, os.ErrClosed) && try == 0 {
			continue
		}
		if err == io.EOF && n > 0 {
			err = nil
		}
		return n, err
	}
}

// note adds an index entry when enough bytes have passed since the last one.
func (s *segment) note(e mark) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if n := len(s.marks); n > 0 && e.pos-s.marks[n-1].pos < markInterval {
		return
	}
	s.marks = append(s.marks, e)
	if len(s.marks) == 1 {
		return // the first record's place needs no file
	}
	if s.marksFile == nil {
		f, err := os.OpenFile(s.marksPath(), os.O_WRONLY|os.O_CREATE|os.O_APPEND, 0o600)
		if err != nil {
			return // the file only saves time at the next start
		}
		s.marksFile = f
	}
	var b [markSize]byte
	putIndexEntry(b[:], e)
	s.marksFile.Write(b[:])
}

func putIndexEntry(b []byte, e mark) {
	le.PutUint64(b, uint64(e.pos))
	le.PutUint64(b[8:], e.index)
	le.PutUint64(b[16:], uint64(e.offset))
	le.PutUint64(b[24:], uint64(e.time))
}

// loadMarks reads the .marks file as far as it makes sense. What it leaves out
// is found by reading on from its last entry. Whether a record really is where
// an entry says is looked at when the entry is used.
func (s *segment) loadMarks() []mark {
	entries := []mark{{pos: segmentHeaderSize, index: s.base, offset: s.baseOffset, time: s.firstTime}}
	b, _ := os.ReadFile(s.marksPath())
	for ; len(b) >= markSize; b = b[markSize:] {
		e := mark{pos: int64(le.Uint64(b)), index: le.Uint64(b[8:]), offset: int64(le.Uint64(b[16:])), time: int64(le.Uint64(b[24:]))}
		last := entries[len(entries)-1]
		if e.pos <= last.pos || e.index <= last.index || e.offset < last.offset || e.time < last.time || e.pos >= s.size.Load() {
			break
		}
		entries = append(entries, e)
	}
	return entries
}

// holds reports whether the record that an index entry tells of is there.
func (s *segment) holds(e mark) bool {
	var b [message.RecordPrefix + message.StampSize]byte
	n, err := s.readAt(b[:], e.pos)
	if err != nil {
		return false
	}
	r, _, err := message.PeekRecord(b[:n])
	return err == nil && r.Index == e.index && (!r.Stamped() || r.Stamp().Offset == e.offset)
}

func (s *segment) entries() []mark {
	s.mu.Lock()
	done, index := s.allMarked, s.marks
	s.mu.Unlock()
	if done {
		return index
	}
	index = s.loadMarks()
	s.mu.Lock()
	s.marks, s.allMarked = index, true
	s.mu.Unlock()
	return index
}

// floor returns the last entry that is not after what is looked for, and
// whose record is there.
func (s *segment) floor(after func(mark) bool) mark {
	entries := s.entries()
	i := max(sort.Search(len(entries), func(i int) bool { return after(entries[i]) })-1, 0)
	for i > 0 && !s.holds(entries[i]) {
		i--
	}
	return entries[i]
}
