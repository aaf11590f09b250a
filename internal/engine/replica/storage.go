package replica

import (
	"fmt"
	"log/slog"
	"slices"

	"go.etcd.io/raft/v3"
	"go.etcd.io/raft/v3/raftpb"

	"steadyferry/internal/core/journal"
	"steadyferry/internal/core/message"
)

// storage shows a journal to Raft. Entries that are appended and not yet
// applied, or not yet known to be at every member, are kept in memory, so that
// they are not read back from disk.
type storage struct {
	journal     *journal.Journal
	members     *raftpb.ConfState
	applied     uint64
	last        uint64 // index of the last appended entry
	recent      []*raftpb.Entry
	recentBytes int
	termOf      uint64 // the record whose term was asked for last, and the term
	term        uint64

	// Entries that lie far back are not read in the way of publishing: they
	// are refused here, and a feed sends them.
	feeds   bool
	refused bool // the last refusal was for that, or for damage, not because retention took them; Snapshot asks once
	damaged bool // a record that is wanted elsewhere is damaged here

	snapshot func() (*raftpb.Snapshot, error)
}

// recentMost bounds the applied entries that are kept for members that lag:
// what such a member lacks comes from memory.
const recentMost = 6 << 20

// farBehind is how many bytes of log a member must lack to be fed aside: what
// is no longer in memory is not read from disk in the way of publishing.
const farBehind = 4 << 20

func (s *storage) InitialState() (*raftpb.HardState, *raftpb.ConfState, error) {
	state := s.journal.State()
	b := s.journal.Bounds()
	s.last = b.LastIdx
	commit := min(max(state.Commit, s.applied), b.LastIdx)
	hard := &raftpb.HardState{Term: &state.Term, Vote: &state.Vote, Commit: &commit}
	if b.LastTerm > state.Term {
		hard.Term = &b.LastTerm
	}
	return hard, s.members, nil
}

func (s *storage) appended(entries []*raftpb.Entry) {
	if len(entries) == 0 {
		return
	}
	first := entries[0].GetIndex()
	for len(s.recent) > 0 && s.recent[len(s.recent)-1].GetIndex() >= first {
		s.recentBytes -= len(s.recent[len(s.recent)-1].GetData())
		s.recent = s.recent[:len(s.recent)-1]
	}
	s.recent = append(s.recent, entries...)
	for _, e := range entries {
		s.recentBytes += len(e.GetData())
	}
	s.last = entries[len(entries)-1].GetIndex()
}

// release lets go of entries that are applied here and at every member that
// keeps up; of applied ones that others lack only so many bytes are kept.
func (s *storage) release(everywhere uint64) {
	n := 0
	for n < len(s.recent) {
		i := s.recent[n].GetIndex()
		if i > s.applied || i > everywhere && s.recentBytes <= recentMost {
			break
		}
		s.recentBytes -= len(s.recent[n].GetData())
		s.recent[n] = nil
		n++
	}
	s.recent = s.recent[n:]
	if len(s.recent) == 0 {
		s.recent = nil
	}
}

func (s *storage) clear() { s.recent, s.recentBytes, s.termOf, s.term = nil, 0, 0, 0 }

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
	forMember := lo <= s.applied
	if forMember && s.feeds && s.journal.BytesAfter(lo-1) > farBehind {
		s.refused = true
		return nil, raft.ErrCompacted
	}
	records, lost, err := s.journal.Records(lo, hi, maxSize)
	if err != nil {
		return nil, err
	}
	if len(lost) > 0 && forMember {
		// What is damaged here must not go to others as if it were empty.
		s.refused, s.damaged = true, true
		return nil, raft.ErrCompacted
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
	// Raft asks again and again for the record before what a member lacks.
	// What is not applied yet may still be replaced by a record of another
	// term, and must not be remembered: a vote would go to the wrong log.
	if i == s.termOf {
		return s.term, nil
	}
	term, err := s.journal.TermOf(i)
	if err == nil && i <= s.applied {
		s.termOf, s.term = i, term
	}
	return term, err
}

func (s *storage) LastIndex() (uint64, error)  { return s.journal.Bounds().LastIdx, nil }
func (s *storage) FirstIndex() (uint64, error) { return s.journal.Bounds().FirstIdx, nil }

// Snapshot returns the small state before the first kept record, for a member
// whose log ends before it. The log itself follows as entries.
func (s *storage) Snapshot() (*raftpb.Snapshot, error) {
	if s.refused || s.snapshot == nil {
		// Raft does not ask for what it knows to be dropped, so that a
		// refusal must not outlive the question it was the answer to.
		s.refused = false
		return nil, raft.ErrSnapshotTemporarilyUnavailable
	}
	return s.snapshot()
}

func toRecord(e *raftpb.Entry) message.Record {
	r := message.Record{Index: e.GetIndex(), Term: e.GetTerm(), Kind: message.KindBatch, Data: e.GetData()}
	switch {
	case e.GetType() != raftpb.EntryNormal:
		r.Kind = message.KindMembership
	case len(r.Data) == 0:
		r.Kind = message.KindEmpty
	case message.StampOf(r.Data).Routes:
		r.Kind = message.KindRoutes
	case message.StampOf(r.Data).Count == 0:
		r.Kind = message.KindCommand
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

// raftLog passes on what Raft has to say that an operator should know.
type raftLog struct{}

func (raftLog) Debug(...any)                {}
func (raftLog) Debugf(string, ...any)       {}
func (raftLog) Info(...any)                 {}
func (raftLog) Infof(string, ...any)        {}
func (raftLog) Warning(v ...any)            { slog.Debug("raft: " + fmt.Sprint(v...)) }
func (raftLog) Warningf(f string, v ...any) { slog.Debug("raft: " + fmt.Sprintf(f, v...)) }
func (raftLog) Error(v ...any)              { slog.Error("raft: " + fmt.Sprint(v...)) }
func (raftLog) Errorf(f string, v ...any)   { slog.Error("raft: " + fmt.Sprintf(f, v...)) }
func (raftLog) Fatal(v ...any)              { panic(fmt.Sprint(v...)) }
func (raftLog) Fatalf(f string, v ...any)   { panic(fmt.Sprintf(f, v...)) }
func (raftLog) Panic(v ...any)              { panic(fmt.Sprint(v...)) }
func (raftLog) Panicf(f string, v ...any)   { panic(fmt.Sprintf(f, v...)) }
