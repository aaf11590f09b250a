package replica

import (
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"slices"

	"steadyferry/internal/core/journal"
	"steadyferry/internal/core/message"
)

// ErrLostEnd is returned for proposals to a partition of one replica that has
// lost the end of its log: what was acknowledged is not there, and nothing is
// added behind it until a person says so.
var ErrLostEnd = errors.New("the end of the log is lost on disk")

// LostEnd is a stretch of offsets at the end of a log that were committed and
// are not there any more.
type LostEnd struct {
	From int64 `json:"from"`
	To   int64 `json:"to"` // not included
}

// giveUpName is the file that has the replica given up at its next start.
const giveUpName = "give-up"

// breakOff stops a replica whose log is shorter than what it has acknowledged,
// to be opened again as another member.
func (g *Group) breakOff(committed uint64) {
	slog.Error("a replica has lost the end of its log; it is fetched again from the others", "partition", g.options.Key.String(), "has", g.storage.last, "had", committed)
	path := filepath.Join(g.journal.Dir(), giveUpName)
	err := os.WriteFile(path, nil, 0o600)
	if err == nil {
		err = syncDir(g.journal.Dir())
	}
	g.fail(errors.Join(errors.New("the end of its log is gone"), err))
	if err == nil && g.options.Broken != nil {
		g.options.Broken()
	}
}

// lostEndName is the file that remembers a lost end until the partition is
// recovered by force.
const lostEndName = "lost-end"

// lookForTheEnd compares the end of the log with what the replica is known to
// have committed. What is missing is damage. A replica that is one of several
// gives itself up, and learns the log anew from the others as another member:
// it has acknowledged what it does not have. One that is alone keeps the place
// of what is lost, so that its offsets are not given again.
func (g *Group) lookForTheEnd(saved *checkpoint) error {
	b, state, dir := g.journal.Bounds(), g.journal.State(), g.journal.Dir()
	known := state.Commit
	if saved != nil {
		known = max(known, saved.index)
	}
	lost := known > b.LastIdx
	_, err := os.Stat(filepath.Join(dir, giveUpName))
	if !lost && !g.journal.StateLost() && err != nil {
		return g.rememberLostEnd()
	}
	if _, err := os.Stat(filepath.Join(dir, restartName)); err == nil {
		return nil // it was about to begin anew
	}
	if err := os.Remove(filepath.Join(dir, giveUpName)); err == nil {
		return g.giveUpEnd()
	}
	voters := g.options.Voters
	if saved != nil {
		voters = saved.members.GetVoters()
	}
	others := slices.ContainsFunc(voters, func(id uint64) bool { return NodeOf(id) != g.options.Node })
	switch {
	case others:
		slog.Error("a replica has lost a part of its log or its state; it is fetched again from the others", "partition", g.options.Key.String(), "records", known-min(b.LastIdx, known))
		return g.giveUpEnd()
	case !lost:
		slog.Warn("the state of a partition is gone or damaged; it goes on with its log", "partition", g.options.Key.String())
		return g.rememberLostEnd()
	}
	// Where its messages end is told by the saved state; records behind it
	// had at most so many each.
	at := journal.Place{Term: max(b.LastTerm, state.Term), Offset: b.Next, Time: b.LastTime}
	from := b.LastIdx
	if saved != nil && saved.index > from {
		at, from = journal.Place{Term: saved.term, Offset: saved.end, Time: saved.time}, saved.index
	}
	at.Offset += int64(known-from) * message.MaxBatchCount
	end := LostEnd{From: b.Next, To: at.Offset}
	slog.Error("the end of a partition's log is lost: what was acknowledged is not there; nothing is added until it is recovered", "partition", g.options.Key.String(), "from", end.From, "to", end.To-1)
	text, err := json.Marshal(end)
	if err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(dir, lostEndName), text, 0o600); err != nil {
		return err
	}
	if err := syncFile(filepath.Join(dir, lostEndName)); err != nil {
		return err
	}
	if err := g.journal.Skip(known, at); err != nil {
		return err
	}
	return g.rememberLostEnd()
}

// rememberLostEnd reads what an earlier start has found.
func (g *Group) rememberLostEnd() error {
	text, err := os.ReadFile(filepath.Join(g.journal.Dir(), lostEndName))
	if os.IsNotExist(err) {
		return nil
	}
	if err != nil {
		return err
	}
	var end LostEnd
	if err := json.Unmarshal(text, &end); err != nil {
		return fmt.Errorf("%s: %w", lostEndName, err)
	}
	g.lostEnd.Store(&end)
	return nil
}

// giveUpEnd makes the replica another member that has what is left of the
// log: the member that it was has acknowledged more.
func (g *Group) giveUpEnd() (err error) {
	dir := g.journal.Dir()
	if err = nextGeneration(dir); err != nil {
		return err
	}
	if g.member, err = memberID(dir, g.options.Node); err != nil {
		return err
	}
	b, state := g.journal.Bounds(), g.journal.State()
	if err = g.journal.SetVote(max(state.Term, b.LastTerm), 0, min(state.Commit, b.LastIdx)); err != nil {
		return err
	}
	return g.journal.Flush()
}

// LostEnd returns what is missing at the end of the log, or nil.
func (g *Group) LostEnd() *LostEnd { return g.lostEnd.Load() }
