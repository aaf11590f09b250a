package journal

import (
	"fmt"
	"os"
	"path/filepath"

	"steadyferry/internal/core/message"
)

// State is the small part of a partition's state that is not in its log: what
// a Raft member must not forget, and where the log begins.
type State struct {
	Term   uint64
	Vote   uint64
	Commit uint64
	Start  uint64 // index of the first record that is kept
}

// The state file has two slots of 512 bytes that are written in turn, so that
// a torn write leaves the other one. A slot, little endian:
//
//	 0  8  sequence: the slot with the higher one counts
//	 8  8  term
//	16  8  vote
//	24  8  commit
//	32  8  start
//	40  4  CRC32C of bytes 0 to 39
const (
	stateFileName = "state"
	stateSlot     = 512
	stateBytes    = 44
)

type stateFile struct {
	path     string
	sequence uint64
	dirty    bool // written since the last sync of the file
}

// openState reads the state; there is none when the file is missing or both
// slots are damaged.
func openState(dir string) (f *stateFile, best State, err error) {
	f = &stateFile{path: filepath.Join(dir, stateFileName)}
	b, err := os.ReadFile(f.path)
	if os.IsNotExist(err) {
		return f, State{}, nil
	}
	if err != nil {
		return nil, State{}, err
	}
	for slot := range 2 {
		if len(b) < slot*stateSlot+stateBytes {
			continue
		}
		sequence, state, ok := decodeState(b[slot*stateSlot:])
		if ok && sequence > f.sequence {
			f.sequence, best = sequence, state
		}
	}
	return f, best, nil
}

func encodeState(sequence uint64, s State) []byte {
	b := make([]byte, stateBytes)
	le.PutUint64(b, sequence)
	le.PutUint64(b[8:], s.Term)
	le.PutUint64(b[16:], s.Vote)
	le.PutUint64(b[24:], s.Commit)
	le.PutUint64(b[32:], s.Start)
	le.PutUint32(b[40:], message.Checksum(b[:40]))
	return b
}

func decodeState(b []byte) (sequence uint64, s State, ok bool) {
	if len(b) < stateBytes || le.Uint32(b[40:]) != message.Checksum(b[:40]) {
		return 0, State{}, false
	}
	return le.Uint64(b), State{Term: le.Uint64(b[8:]), Vote: le.Uint64(b[16:]), Commit: le.Uint64(b[24:]), Start: le.Uint64(b[32:])}, true
}

// write puts the state to the next slot and returns the bytes, for the sync
// log. They are durable only after sync, or with the sync log.
func (f *stateFile) write(s State) ([]byte, error) {
	b := encodeState(f.sequence+1, s)
	if err := writeStateSlot(f.path, f.sequence+1, b); err != nil {
		return nil, err
	}
	f.sequence++
	f.dirty = true
	return b, nil
}

func writeStateSlot(path string, sequence uint64, b []byte) error {
	file, err := os.OpenFile(path, os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return err
	}
	defer file.Close()
	_, err = file.WriteAt(b, int64(sequence%2)*stateSlot)
	return err
}

func (f *stateFile) sync() error {
	if !f.dirty {
		return nil
	}
	if err := syncPath(f.path); err != nil {
		return err
	}
	f.dirty = false
	return nil
}

// replayState writes a slot found in the sync log if the file has nothing
// newer.
func replayState(dir string, b []byte) error {
	sequence, _, ok := decodeState(b)
	if !ok {
		return fmt.Errorf("a state of %s in the sync log is damaged", dir)
	}
	f, _, err := openState(dir)
	if err != nil {
		return err
	}
	if f.sequence >= sequence {
		return nil
	}
	return writeStateSlot(f.path, sequence, b)
}
