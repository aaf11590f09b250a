package journal

import (
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"sync"

	"steadyferry/internal/core/message"
)

// syncLog makes small appends to many journals durable with one fdatasync:
// their bytes are already in the segment files (in the page cache), and a
// second copy here covers them until the files themselves have been synced.
// There are two files, used in turn; a file is begun again only after every
// journal with bytes in it has been synced. After a crash the frames are
// written to their places once more, oldest first, but for what was forgotten
// of a journal.
//
// A file, little endian: 8 bytes generation, 4 bytes CRC32C of it, then
// frames from byte 512 on. A frame:
//
//	 0  4  bytes that follow the frame's first 24
//	 4  4  CRC32C of everything from byte 8 to the end
//	 8  8  generation
//	16  8  number of the frame in its file, from 0
//	24     pieces: 2 bytes length of the journal's name, 2 bytes zero,
//	       4 bytes length of the data, 8 bytes segment base (0: state file,
//	       all bits: what came before of the journal is forgotten), 8 bytes
//	       position, the name, the data
type syncLog struct {
	dir   string
	limit int64

	mu         sync.Mutex // held while a frame is written and synced
	files      [2]*os.File
	cleaned    [2]chan struct{} // closed when the file may be begun again
	cleanError error
	current    int
	generation uint64
	frames     uint64
	end        int64
	touched    map[*Journal]struct{}
	frame      []byte
}

const (
	syncLogHead  = 512
	frameHead    = 24
	pieceHead    = 24
	syncLogBytes = 32 << 20
)

// forgotten is the base of a piece without data: earlier ones of its journal
// are not written back.
const forgotten = ^uint64(0)

// piece is a stretch of bytes that a journal wrote since its last sync.
type piece struct {
	base uint64 // of the segment; 0 for the state file
	pos  int64
	data [][]byte
	size int
}

func syncLogPath(dir string, i int) string { return filepath.Join(dir, fmt.Sprintf("sync-%d.log", i)) }

// openSyncLog writes the frames of earlier runs to their places, makes them
// durable there, and begins the log anew.
func openSyncLog(dir string, limit int64) (*syncLog, error) {
	l := &syncLog{dir: dir, limit: limit, touched: map[*Journal]struct{}{}}
	newer, err := l.replay()
	if err != nil {
		return nil, fmt.Errorf("sync log in %s: %w", dir, err)
	}
	for i := range l.files {
		f, err := os.OpenFile(syncLogPath(dir, i), os.O_RDWR|os.O_CREATE, 0o600)
		if err != nil {
			return nil, err
		}
		l.files[i] = f
		// The file is filled once, so that later writes change data only.
		if info, err := f.Stat(); err != nil || info.Size() < limit {
			zeros := make([]byte, 1<<20)
			for pos := int64(0); pos < limit; pos += int64(len(zeros)) {
				if _, err := f.WriteAt(zeros[:min(int64(len(zeros)), limit-pos)], pos); err != nil {
					return nil, fmt.Errorf("%s: %w", f.Name(), err)
				}
			}
			if err := f.Sync(); err != nil {
				return nil, err
			}
		}
		l.cleaned[i] = make(chan struct{})
		close(l.cleaned[i])
	}
	if err := syncPath(dir); err != nil {
		return nil, err
	}
	// Both begin anew, the older one first: what was forgotten of it stands in
	// the newer one.
	if err := l.begin(1 - newer); err != nil {
		return nil, err
	}
	return l, l.begin(newer)
}

// begin starts a file from its front. The caller holds mu or is alone.
func (l *syncLog) begin(i int) error {
	l.generation++
	head := make([]byte, 12)
	le.PutUint64(head, l.generation)
	le.PutUint32(head[8:], message.Checksum(head[:8]))
	if _, err := l.files[i].WriteAt(head, 0); err != nil {
		return err
	}
	if err := fdatasync(l.files[i]); err != nil {
		return err
	}
	l.current, l.frames, l.end = i, 0, syncLogHead
	return nil
}

// write makes the pieces of the journals durable.
func (l *syncLog) write(journals []*Journal) error {
	l.mu.Lock()
	defer l.mu.Unlock()
	b := append(l.frame[:0], make([]byte, frameHead)...)
	for _, j := range journals {
		for _, p := range j.pending {
			b = appendPiece(b, j.name, p)
		}
	}
	if err := l.put(b); err != nil {
		return err
	}
	for _, j := range journals {
		l.touched[j] = struct{}{}
	}
	return nil
}

// forget lets nothing of a journal be written back that the log has of it now:
// what the journal shall keep is in its own files, and synced. It costs one
// fdatasync, however many other journals there are.
func (l *syncLog) forget(name string) error {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.put(appendPiece(append(l.frame[:0], make([]byte, frameHead)...), name, piece{base: forgotten}))
}

func appendPiece(b []byte, name string, p piece) []byte {
	var head [pieceHead]byte
	le.PutUint16(head[:], uint16(len(name)))
	le.PutUint32(head[4:], uint32(p.size))
	le.PutUint64(head[8:], p.base)
	le.PutUint64(head[16:], uint64(p.pos))
	b = append(append(b, head[:]...), name...)
	for _, d := range p.data {
		b = append(b, d...)
	}
	return b
}

// put writes a frame, which has room for its head, and makes it durable. The
// caller holds mu.
func (l *syncLog) put(b []byte) error {
	l.frame = b
	if l.end+int64(len(b)) > l.limit {
		if err := l.turn(); err != nil {
			return err
		}
	}
	le.PutUint32(b, uint32(len(b)-frameHead))
	le.PutUint64(b[8:], l.generation)
	le.PutUint64(b[16:], l.frames)
	le.PutUint32(b[4:], message.Checksum(b[8:]))
	if _, err := l.files[l.current].WriteAt(b, l.end); err != nil {
		return err
	}
	if err := fdatasync(l.files[l.current]); err != nil {
		return err
	}
	l.end += int64(len(b))
	l.frames++
	return nil
}

// turn goes on in the other file. The journals with bytes in the full one are
// synced in the background, after which it may be begun again.
func (l *syncLog) turn() error {
	other := 1 - l.current
	<-l.cleaned[other]
	if l.cleanError != nil {
		return l.cleanError
	}
	full, done, journals := l.current, make(chan struct{}), l.touched
	l.cleaned[full], l.touched = done, map[*Journal]struct{}{}
	go func() {
		defer close(done)
		for j := range journals {
			if err := j.syncFiles(); err != nil {
				l.cleanError = fmt.Errorf("sync of %s: %w", j.dir, err)
				return
			}
		}
	}()
	return l.begin(other)
}

// settle syncs every journal that has bytes in the log and begins it anew, so
// that nothing in it is ever written back again.
func (l *syncLog) settle() error {
	l.mu.Lock()
	defer l.mu.Unlock()
	for range 2 {
		if err := l.turn(); err != nil {
			return err
		}
		<-l.cleaned[1-l.current]
		if l.cleanError != nil {
			return l.cleanError
		}
	}
	return nil
}

func (l *syncLog) close() {
	for _, f := range l.files {
		if f != nil {
			f.Close()
		}
	}
}

// replay writes back both files' frames, the older generation first, and
// returns which file has the newer one.
func (l *syncLog) replay() (newer int, err error) {
	type old struct {
		file       *os.File
		generation uint64
	}
	var olds []old
	for i := range l.files {
		f, err := os.Open(syncLogPath(l.dir, i))
		if os.IsNotExist(err) {
			continue
		}
		if err != nil {
			return 0, err
		}
		defer f.Close()
		head := make([]byte, 12)
		if _, err := io.ReadFull(f, head); err != nil || le.Uint32(head[8:]) != message.Checksum(head[:8]) {
			continue // never begun
		}
		olds = append(olds, old{f, le.Uint64(head)})
		if generation := le.Uint64(head); generation > l.generation {
			newer, l.generation = i, generation
		}
	}
	if len(olds) == 2 && olds[0].generation > olds[1].generation {
		olds[0], olds[1] = olds[1], olds[0]
	}
	// each calls f with every piece, in order, and its number from 1.
	each := func(f func(number int, p oldPiece) error) error {
		number := 0
		for _, o := range olds {
			err := eachPiece(o.file, o.generation, l.limit, func(p oldPiece) error {
				number++
				return f(number, p)
			})
			if err != nil {
				return err
			}
		}
		return nil
	}
	forgottenAt := map[string]int{}
	err = each(func(number int, p oldPiece) error {
		if p.base == forgotten {
			forgottenAt[p.name] = number
		}
		return nil
	})
	if err != nil {
		return 0, err
	}
	touched := map[string]struct{}{}
	err = each(func(number int, p oldPiece) error {
		if number <= forgottenAt[p.name] {
			return nil
		}
		return p.writeBack(l.dir, touched)
	})
	if err != nil {
		return 0, err
	}
	for path := range touched {
		if err := syncPath(path); err != nil {
			return 0, err
		}
	}
	return newer, nil
}

// oldPiece is a piece as it is found in the log.
type oldPiece struct {
	name string
	base uint64
	pos  int64
	data []byte
}

// eachPiece calls do with the pieces of a file, up to the first frame that does
// not fit: a frame that was not finished was never acknowledged.
func eachPiece(f *os.File, generation uint64, limit int64, do func(p oldPiece) error) error {
	pos := int64(syncLogHead)
	head := make([]byte, frameHead)
	for number := uint64(0); ; number++ {
		if _, err := f.ReadAt(head, pos); err != nil {
			return nil
		}
		length := int64(le.Uint32(head))
		if le.Uint64(head[8:]) != generation || le.Uint64(head[16:]) != number || pos+frameHead+length > max(limit, pos) {
			return nil
		}
		frame := make([]byte, frameHead+length)
		if _, err := f.ReadAt(frame, pos); err != nil || le.Uint32(frame[4:]) != message.Checksum(frame[8:]) {
			return nil
		}
		if err := eachPieceOf(frame[frameHead:], do); err != nil {
			return err
		}
		pos += frameHead + length
	}
}

func eachPieceOf(b []byte, do func(p oldPiece) error) error {
	for len(b) >= pieceHead {
		nameLength, size := int(le.Uint16(b)), int(le.Uint32(b[4:]))
		base, pos := le.Uint64(b[8:]), int64(le.Uint64(b[16:]))
		if len(b) < pieceHead+nameLength+size {
			return fmt.Errorf("a piece is cut off in a frame whose checksum fits")
		}
		p := oldPiece{name: string(b[pieceHead : pieceHead+nameLength]), base: base, pos: pos, data: b[pieceHead+nameLength : pieceHead+nameLength+size]}
		b = b[pieceHead+nameLength+size:]
		if err := do(p); err != nil {
			return err
		}
	}
	return nil
}

// writeBack writes a piece to its place, and notes the files to be synced.
func (p *oldPiece) writeBack(dir string, touched map[string]struct{}) error {
	if !filepath.IsLocal(p.name) || strings.Contains(p.name, "..") {
		return fmt.Errorf("journal name %q", p.name)
	}
	journalDir := filepath.Join(dir, filepath.FromSlash(p.name))
	if _, err := os.Stat(journalDir); os.IsNotExist(err) {
		return nil // the channel was removed since
	}
	path := segmentPath(journalDir, p.base)
	if p.base == 0 {
		path = filepath.Join(journalDir, stateFileName)
		if err := replayState(journalDir, p.data); err != nil {
			return err
		}
	} else if err := writeAt(path, p.data, p.pos); err != nil {
		return err
	}
	touched[path] = struct{}{}
	touched[journalDir] = struct{}{}
	return nil
}

func writeAt(path string, data []byte, pos int64) error {
	f, err := os.OpenFile(path, os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return err
	}
	defer f.Close()
	_, err = f.WriteAt(data, pos)
	return err
}
