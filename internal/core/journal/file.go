package journal

import (
	"os"

	"golang.org/x/sys/unix"
)

func fdatasync(f *os.File) error {
	conn, err := f.SyscallConn()
	if err != nil {
		return err
	}
	var syncErr error
	if err := conn.Control(func(fd uintptr) { syncErr = ignoringInterrupts(func() error { return unix.Fdatasync(int(fd)) }) }); err != nil {
		return err
	}
	return syncErr
}

func ignoringInterrupts(f func() error) error {
	for {
		if err := f(); err != unix.EINTR {
			return err
		}
	}
}

// syncPath makes a file, or the entries of a directory, durable.
func syncPath(path string) error {
	f, err := os.Open(path)
	if err != nil {
		return err
	}
	defer f.Close()
	return f.Sync()
}

// maxVectors is the most buffers that one pwritev takes on Linux.
const maxVectors = 1024

// writeVectors writes the buffers one after the other from pos on, whole.
func writeVectors(f *os.File, buffers [][]byte, pos int64) error {
	conn, err := f.SyscallConn()
	if err != nil {
		return err
	}
	var writeErr error
	err = conn.Control(func(fd uintptr) {
		vectors := buffers
		for len(vectors) > 0 && writeErr == nil {
			var n int
			writeErr = ignoringInterrupts(func() (err error) {
				n, err = unix.Pwritev(int(fd), vectors[:min(len(vectors), maxVectors)], pos)
				return err
			})
			pos += int64(n)
			vectors = skip(vectors, n)
		}
	})
	if err != nil {
		return err
	}
	return writeErr
}

// skip drops n bytes from the front of the buffers without changing the
// caller's slice of them.
func skip(buffers [][]byte, n int) [][]byte {
	for len(buffers) > 0 && n >= len(buffers[0]) {
		n -= len(buffers[0])
		buffers = buffers[1:]
	}
	if n > 0 {
		buffers = append([][]byte{buffers[0][n:]}, buffers[1:]...)
	}
	return buffers
}
