// Package journal keeps partitions' logs on disk: append-only segment files
// with checksums on every record, a sparse index, and durability shared by
// all logs of a node. It knows records, not topics or queues.
package journal

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"
)

// Store is all journals of one node's data directory. They share the sync
// log.
type Store struct {
	dir string
	log *syncLog

	mu   sync.Mutex
	open map[string]*Journal
}

// OpenStore opens the journals below dir. It first writes back what an
// earlier run had made durable in the sync log only.
func OpenStore(dir string) (*Store, error) { return openStore(dir, syncLogBytes) }

func openStore(dir string, logBytes int64) (*Store, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	if err := checkFormat(dir); err != nil {
		return nil, err
	}
	log, err := openSyncLog(dir, logBytes)
	if err != nil {
		return nil, err
	}
	return &Store{dir: dir, log: log, open: map[string]*Journal{}}, nil
}

// Close syncs and closes every journal.
func (s *Store) Close() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	var errs []error
	for _, j := range s.open {
		errs = append(errs, j.syncFiles())
	}
	// Nothing is left to be written back at the next start.
	errs = append(errs, s.log.settle())
	for _, j := range s.open {
		j.closeFiles()
	}
	s.log.close()
	return errors.Join(errs...)
}

// Options of a journal.
type Options struct {
	SegmentBytes int64         // a segment is ended when it would grow past this
	SegmentAge   time.Duration // or when its first record is older; 0 never

	// Origin tells what is known of the place before a record where the log
	// once began, for a log whose first segment is gone. It may be nil.
	Origin func(index uint64) (Place, bool)
}

// Place is where a record stands in a log.
type Place struct {
	Term   uint64 // of the record before it
	Offset int64  // of the next message
	Time   int64  // no record from here on is older; microseconds
}

// Path returns the directory of a journal.
func (s *Store) Path(name string) string { return filepath.Join(s.dir, filepath.FromSlash(name)) }

// Open opens a journal or makes an empty one. The name has the form a/b.
func (s *Store) Open(name string, o Options) (*Journal, error) {
	dir := filepath.Join(s.dir, filepath.FromSlash(name))
	if _, err := os.Stat(dir); os.IsNotExist(err) {
		if err := os.MkdirAll(dir, 0o700); err != nil {
			return nil, err
		}
		for at := dir; at != s.dir; at = filepath.Dir(at) {
			if err := syncPath(filepath.Dir(at)); err != nil {
				return nil, err
			}
		}
	}
	j, err := openJournal(s, name, dir, o)
	if err != nil {
		return nil, fmt.Errorf("journal %s: %w", name, err)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.open[name] = j
	return j, nil
}

// Forget closes a journal.
func (s *Store) Forget(j *Journal) error {
	s.mu.Lock()
	delete(s.open, j.name)
	s.mu.Unlock()
	err := j.syncFiles()
	j.closeFiles()
	return err
}

// Retire closes a journal and deletes its files, but for those that are named.
func (s *Store) Retire(j *Journal, keep ...string) error {
	if err := s.Forget(j); err != nil {
		return err
	}
	// Nothing of it may come back out of the sync log.
	if err := s.log.forget(j.name); err != nil {
		return err
	}
	entries, err := os.ReadDir(j.dir)
	if err != nil {
		return err
	}
	var errs []error
	for _, e := range entries {
		if !slices.Contains(keep, e.Name()) {
			errs = append(errs, os.RemoveAll(filepath.Join(j.dir, e.Name())))
		}
	}
	return errors.Join(append(errs, syncPath(j.dir))...)
}

// Trees returns the first parts of the names of all journals on disk.
func (s *Store) Trees() []string {
	entries, err := os.ReadDir(s.dir)
	if err != nil {
		return nil
	}
	var names []string
	for _, e := range entries {
		if e.IsDir() {
			names = append(names, e.Name())
		}
	}
	return names
}

// Holds reports whether there is a log under the name.
func (s *Store) Holds(name string) bool {
	paths, _ := filepath.Glob(filepath.Join(s.dir, filepath.FromSlash(name), "*"+segmentSuffix))
	return len(paths) > 0
}

// RemoveTree deletes all journals below a name, such as those of a channel.
func (s *Store) RemoveTree(name string) error {
	return os.RemoveAll(filepath.Join(s.dir, filepath.FromSlash(name)))
}

// largeAppend is from how many unsynced bytes on a journal's own files are
// synced instead of writing the bytes to the sync log a second time.
const largeAppend = 128 << 10

// Large reports whether the journal should be synced alone by Flush. It is
// false for what FlushTogether makes durable at less cost.
func (j *Journal) Large() bool { return j.pendingBytes >= largeAppend }

// Flush makes what was appended to one journal durable.
func (j *Journal) Flush() error {
	if err := j.syncFiles(); err != nil {
		return err
	}
	j.clearPending()
	return nil
}

// FlushTogether makes what was appended to many journals durable with one
// fdatasync for all of them (more only when the bytes are many).
func (s *Store) FlushTogether(journals []*Journal) error {
	for len(journals) > 0 {
		n, bytes := 0, 0
		for n < len(journals) && (n == 0 || bytes+journals[n].pendingBytes < int(s.log.limit/4)) {
			bytes += journals[n].pendingBytes
			n++
		}
		if err := s.log.write(journals[:n]); err != nil {
			return err
		}
		for _, j := range journals[:n] {
			j.clearPending()
		}
		journals = journals[n:]
	}
	return nil
}

// CloseIdle closes the files of ended segments that nobody has read since.
func (s *Store) CloseIdle(since time.Time) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, j := range s.open {
		j.mu.RLock()
		for _, seg := range j.segments[:max(len(j.segments)-1, 0)] {
			if !seg.dirty.Load() && seg.lastUse.Load() < since.Unix() {
				seg.close()
			}
		}
		j.mu.RUnlock()
	}
}
