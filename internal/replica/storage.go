package replica

import (
	"encoding/binary"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"slices"

	"go.etcd.io/raft/v3"
	"go.etcd.io/raft/v3/raftpb"
	"google.golang.org/protobuf/proto"

	"steadyferry/internal/core/journal"
	"steadyferry/internal/core/message"
)

// storage shows a journal to Raft. Entries that are appended and not yet
// applied are kept in memory, so that they are not read back from disk.
type storage struct {
	journal *journal.Journal
	voters  []uint64
	applied uint64
	last    uint64 // index of the last appended entry
	recent  []*raftpb.Entry
}

func (s *storage) InitialState() (*raftpb.HardState, *raftpb.ConfState, error) {
	state := s.journal.State()
	b := s.journal.Bounds()
	s.last = b.LastIdx
	commit := min(max(state.Commit, s.applied), b.LastIdx)
	hard := &raftpb.HardState{Term: &state.Term, Vote: &state.Vote, Commit: &commit}
	if b.LastTerm > state.Term {
		hard.Term = &b.LastTerm
	}
	return hard, &raftpb.ConfState{Voters: s.voters}, nil
}

func (s *storage) appended(entries []*raftpb.Entry) {
	if len(entries) == 0 {
		return
	}
	first := entries[0].GetIndex()
	for len(s.recent) > 0 && s.recent[len(s.recent)-1].GetIndex() >= first {
		s.recent = s.recent[:len(s.recent)-1]
	}
	s.recent = append(s.recent, entries...)
	s.last = entries[len(entries)-1].GetIndex()
}

func (s *storage) release(applied uint64) {
	n := 0
	for n < len(s.recent) && s.recent[n].GetIndex() <= applied {
		s.recent[n] = nil
		n++
	}
	s.recent = s.recent[n:]
	if len(s.recent) == 0 {
		s.recent = nil
	}
}

func (s *storage) Entries(lo, hi, maxSize uint64) ([]*raftpb.Entry, error) {
	b := s.journal.Bounds()
	if lo < b.FirstIdx {
		return nil, raft.ErrCompacted
	}
	if hi > b.LastIdx+1 {
		return nil, raft.ErrUnavailable
	}
	if len(s.recent) > 0 && lo >= s.recent[0].GetIndex() {
		at := lo - s.recent[0].GetIndex()
		n, size := uint64(0), uint64(0)
		for n < hi-lo && (n == 0 || size+uint64(len(s.recent[at+n].GetData())) <= maxSize) {
			size += uint64(len(s.recent[at+n].GetData()))
			n++
		}
		// A copy: Raft measures the entries once more after they are applied,
		// when release has let go of them here.
		return slices.Clone(s.recent[at : at+n]), nil
	}
	records, err := s.journal.Records(lo, hi, maxSize)
	if err != nil {
		return nil, err
	}
	entries := make([]*raftpb.Entry, len(records))
	for i, r := range records {
		entries[i] = toEntry(r)
	}
	return entries, nil
}

func (s *storage) Term(i uint64) (uint64, error) {
	b := s.journal.Bounds()
	switch {
	case i+1 < b.FirstIdx:
		return 0, raft.ErrCompacted
	case i > b.LastIdx:
		return 0, raft.ErrUnavailable
	case len(s.recent) > 0 && i >= s.recent[0].GetIndex():
		return s.recent[i-s.recent[0].GetIndex()].GetTerm(), nil
	}
	return s.journal.TermOf(i)
}

func (s *storage) LastIndex() (uint64, error)  { return s.journal.Bounds().LastIdx, nil }
func (s *storage) FirstIndex() (uint64, error) { return s.journal.Bounds().FirstIdx, nil }

// Snapshot is never asked for in a group of one.
func (s *storage) Snapshot() (*raftpb.Snapshot, error) {
	return nil, raft.ErrSnapshotTemporarilyUnavailable
}

func toRecord(e *raftpb.Entry) message.Record {
	r := message.Record{Index: e.GetIndex(), Term: e.GetTerm(), Kind: message.KindBatch, Data: e.GetData()}
	switch {
	case e.GetType() != raftpb.EntryNormal:
		r.Kind = message.KindMembership
	case len(r.Data) == 0:
		r.Kind = message.KindEmpty
	}
	return r
}

func toEntry(r message.Record) *raftpb.Entry {
	e := &raftpb.Entry{Index: &r.Index, Term: &r.Term, Data: r.Data}
	if r.Kind == message.KindMembership {
		e.Type = raftpb.EntryConfChangeV2.Enum()
	}
	return e
}

func unmarshal(b []byte, m proto.Message) error { return proto.Unmarshal(b, m) }

// saved is the state of a machine at one point of the log.
type saved struct {
	index uint64
	end   int64
	state []byte
}

// The file "saved" beside the segments, little endian: 4 bytes CRC32C of the
// rest, 8 bytes index, 8 bytes end offset, the machine's state. It is only a
// short cut: without it the log is read again.
const savedName = "saved"

var errNoSaved = errors.New("no saved state")

func loadSaved(dir string) (saved, error) {
	b, err := os.ReadFile(filepath.Join(dir, savedName))
	if err != nil || len(b) < 20 || binary.LittleEndian.Uint32(b) != message.Checksum(b[4:]) {
		return saved{}, errNoSaved
	}
	return saved{index: binary.LittleEndian.Uint64(b[4:]), end: int64(binary.LittleEndian.Uint64(b[12:])), state: b[20:]}, nil
}

func writeSaved(dir string, s saved) error {
	b := make([]byte, 4, 20+len(s.state))
	b = binary.LittleEndian.AppendUint64(b, s.index)
	b = binary.LittleEndian.AppendUint64(b, uint64(s.end))
	b = append(b, s.state...)
	binary.LittleEndian.PutUint32(b, message.Checksum(b[4:]))
	path := filepath.Join(dir, savedName)
	if err := os.WriteFile(path+".new", b, 0o600); err != nil {
		return err
	}
	return os.Rename(path+".new", path)
}

// raftLog passes on what Raft has to say that an operator should know.
type raftLog struct{}

func (raftLog) Debug(...any)                {}
func (raftLog) Debugf(string, ...any)       {}
func (raftLog) Info(...any)                 {}
func (raftLog) Infof(string, ...any)        {}
func (raftLog) Warning(v ...any)            { slog.Warn("raft: " + fmt.Sprint(v...)) }
func (raftLog) Warningf(f string, v ...any) { slog.Warn("raft: " + fmt.Sprintf(f, v...)) }
func (raftLog) Error(v ...any)              { slog.Error("raft: " + fmt.Sprint(v...)) }
func (raftLog) Errorf(f string, v ...any)   { slog.Error("raft: " + fmt.Sprintf(f, v...)) }
func (raftLog) Fatal(v ...any)              { panic(fmt.Sprint(v...)) }
func (raftLog) Fatalf(f string, v ...any)   { panic(fmt.Sprintf(f, v...)) }
func (raftLog) Panic(v ...any)              { panic(fmt.Sprint(v...)) }
func (raftLog) Panicf(f string, v ...any)   { panic(fmt.Sprintf(f, v...)) }
