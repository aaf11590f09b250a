package main

import (
	"log/slog"
	"os"
	"slices"
	"sync"
	"time"
)

// lookEvery is how often files are looked at, at most.
const lookEvery = 5 * time.Second

// reread is what is in files, read anew when they change. While they cannot be read, what was there
// before stays. It may be used by many at once.
type reread[T any] struct {
	what  string // in the words of the log
	files []string
	read  func() (T, error)

	mu      sync.Mutex // guards all below
	value   T
	written []time.Time // the files that it is of, or that could not be read
	looked  time.Time
}

// newReread reads files for the first time.
func newReread[T any](what string, files []string, read func() (T, error)) (*reread[T], error) {
	r := &reread[T]{what: what, files: files, read: read, looked: time.Now()}
	r.written = r.times()
	var err error
	r.value, err = read()
	return r, err
}

func (r *reread[T]) times() []time.Time {
	at := make([]time.Time, len(r.files))
	for i, path := range r.files {
		if info, err := os.Stat(path); err == nil {
			at[i] = info.ModTime()
		}
	}
	return at
}

// now is what is in the files now.
func (r *reread[T]) now() T {
	r.mu.Lock()
	defer r.mu.Unlock()
	if time.Since(r.looked) < lookEvery {
		return r.value
	}
	r.looked = time.Now()
	now := r.times()
	if slices.EqualFunc(now, r.written, time.Time.Equal) {
		return r.value
	}
	r.written = now
	value, err := r.read()
	if err != nil {
		slog.Warn("files were changed and cannot be read; what was in them before goes on", "what", r.what, "files", r.files, "error", err)
		return r.value
	}
	r.value = value
	slog.Info("files were read anew", "what", r.what, "files", r.files)
	return value
}
