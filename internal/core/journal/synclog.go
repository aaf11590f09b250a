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
// written to their places once more, oldest first.
//
// A file, little endian: 8 bytes generation, 4 bytes CRC32C of it, then
// frames from byte 512 on. A frame:
//
//	 0  4  bytes that follow the frame's first 24
//	 4  4  CRC32C of everything from byte 8 to the end
//	 8  8  generation
//	16  8  number of the frame in its file, from 0
//	24     pieces: 2 bytes length of the journal's name, 2 bytes zero,
//	       4 bytes length of the data, 8 bytes segment base (0: state file),
//	       8 bytes position, the name, the data
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
	if err := l.replay(); err != nil {
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
	return l, l.begin(0)
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
			var head [pieceHead]byte
			le.PutUint16(head[:], uint16(len(j.name)))
			le.PutUint32(head[4:], uint32(p.size))
			le.PutUint64(head[8:], p.base)
			le.PutUint64(head[16:], uint64(p.pos))
			b = append(append(b, head[:]...), j.name...)
			for _, d := range p.data {
				b = append(b, d...)
			}
		}
	}
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
	for _, j := range journals {
		l.touched[j] = struct{}{}
	}
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

// replay writes back both files' frames, the older generation first.
func (l *syncLog) replay() error {
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
			return err
		}
		defer f.Close()
		head := make([]byte, 12)
		if _, err := io.ReadFull(f, head); err != nil || le.Uint32(head[8:]) != message.Checksum(head[:8]) {
			continue // never begun
		}
		olds = append(olds, old{f, le.Uint64(head)})
	}
	if len(olds) == 2 && olds[0].generation > olds[1].generation {
		olds[0], olds[1] = olds[1], olds[0]
	}
	touched := map[string]struct{}{}
	for _, o := range olds {
		l.generation = max(l.generation, o.generation)
		if err := replayFile(l.dir, o.file, o.generation, l.limit, touched); err != nil {
			return err
		}
	}
	for path := range touched {
		if err := syncPath(path); err != nil {
			return err
		}
	}
	return nil
}

func replayFile(dir string, f *os.File, generation uint64, limit int64, touched map[string]struct{}) error {
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
			return nil // a frame that was not finished was never acknowledged
		}
		if err := replayFrame(dir, frame[frameHead:], touched); err != nil {
			return err
		}
		pos += frameHead + length
	}
}

func replayFrame(dir string, b []byte, touched map[string]struct{}) error {
	for len(b) >= pieceHead {
		nameLength, size := int(le.Uint16(b)), int(le.Uint32(b[4:]))
		base, pos := le.Uint64(b[8:]), int64(le.Uint64(b[16:]))
		if len(b) < pieceHead+nameLength+size {
			return fmt.Errorf("a piece is cut off in a frame whose checksum fits")
		}
		name := string(b[pieceHead : pieceHead+nameLength])
		data := b[pieceHead+nameLength : pieceHead+nameLength+size]
		b = b[pieceHead+nameLength+size:]
		journalDir := filepath.Join(dir, filepath.FromSlash(name))
		if !filepath.IsLocal(name) || strings.Contains(name, "..") {
			return fmt.Errorf("journal name %q", name)
		}
		if _, err := os.Stat(journalDir); os.IsNotExist(err) {
			continue // the channel was removed since
		}
		path := segmentPath(journalDir, base)
		if base == 0 {
			path = filepath.Join(journalDir, stateFileName)
			if err := replayState(journalDir, data); err != nil {
				return err
			}
		} else if err := writeAt(path, data, pos); err != nil {
			return err
		}
		touched[path] = struct{}{}
		touched[journalDir] = struct{}{}
	}
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
