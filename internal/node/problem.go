package node

import (
	"errors"
	"fmt"

	"steadyferry/internal/catalog"
	"steadyferry/internal/core/message"
	"steadyferry/internal/replica"
)

// Cause is the sort of a Problem.
type Cause string

// The causes of problems.
const (
	Invalid     Cause = "invalid"      // something in the request is wrong
	NotFound    Cause = "not-found"    // the thing that is named does not exist
	Conflict    Cause = "conflict"     // it does not go with what is there
	Paused      Cause = "paused"       // the channel takes no messages
	TooLarge    Cause = "too-large"    // over a limit of size
	DiskFull    Cause = "disk-full"    // no room to keep anything
	RecordsAway Cause = "records-away" // the database does not answer
	Unavailable Cause = "unavailable"  // the partition cannot serve now
	NoMajority  Cause = "no-majority"  // too few replicas answer to keep anything
	Gone        Cause = "gone"         // retention has passed it
	Damaged     Cause = "damaged"      // its bytes on disk are broken

	NoMember      Cause = "no-member"      // the group has no such member
	NotHeld       Cause = "not-held"       // the member does not hold the partition
	OldGeneration Cause = "old-generation" // the partition was given anew, or its offset moved
	NotYet        Cause = "not-yet"        // this version cannot do it
)

// Problem is an error that a user can act on.
type Problem struct {
	Cause   Cause
	Field   string // the field or flag that is wrong, if one is
	Detail  string // what is wrong, with the value
	Allowed string // what is allowed instead
	Next    string // what to do
}

func (p *Problem) Error() string {
	text := p.Detail
	if p.Allowed != "" {
		text += "; allowed: " + p.Allowed
	}
	if p.Next != "" {
		text += "; " + p.Next
	}
	return text
}

func problem(cause Cause, format string, args ...any) *Problem {
	return &Problem{Cause: cause, Detail: fmt.Sprintf(format, args...)}
}

func (p *Problem) field(name string) *Problem   { p.Field = name; return p }
func (p *Problem) allowed(what string) *Problem { p.Allowed = what; return p }
func (p *Problem) next(format string, a ...any) *Problem {
	p.Next = fmt.Sprintf(format, a...)
	return p
}

// explain turns errors of the layers below into problems.
func explain(err error, address string) error {
	var already *Problem
	switch {
	case err == nil || errors.As(err, &already):
		return err
	case errors.Is(err, catalog.ErrAway):
		return problem(RecordsAway, "%v", err).next("publishing and reading go on; try again when the database is back")
	case errors.Is(err, catalog.ErrText):
		return problem(Invalid, "%s: %v", address, catalog.ErrText).allowed("text without U+0000")
	case errors.Is(err, catalog.ErrStale), errors.Is(err, catalog.ErrFenced):
		return problem(Conflict, "%s was changed at the same time", address).next("look at it again, then try again")
	case errors.Is(err, catalog.ErrNotFound):
		return problem(NotFound, "%s was deleted meanwhile", address).next("ferry list shows what exists")
	case errors.Is(err, replica.ErrDiskFull):
		return problem(DiskFull, "%s: the disk of this node is full, nothing is taken", address).next("make room, or lower what topics keep; publishing goes on by itself")
	case errors.Is(err, replica.ErrLostEnd):
		return problem(Damaged, "%s: messages at its end were acknowledged and are gone from the disk; nothing is added behind them yet", address).next("what is left can be read; put the files back and start the node again, or go on without what is lost: ferry nodes force-recover %s", address)
	case errors.Is(err, replica.ErrNoMajority):
		return problem(NoMajority, "%s: %v", address, err).next("ferry nodes tells which are away; what is kept can be read with -any-replica (any=true)")
	case errors.Is(err, replica.ErrNotLeading):
		return problem(Unavailable, "%s has no leader now", address).next("try again in a moment")
	case errors.Is(err, replica.ErrTime):
		return problem(Unavailable, "%s: %v: whether it is kept is not known", address, replica.ErrTime).next("look for it, or send the same again with the same publisher and sequence, which is kept once")
	case errors.Is(err, replica.ErrClosed), errors.Is(err, replica.ErrFailed):
		return problem(Unavailable, "%s: %v", address, err).next("try again in a moment")
	case errors.Is(err, message.ErrTooLarge):
		return problem(TooLarge, "%s: %v", address, err).next("raise it with: ferry set %s -max-body SIZE", address)
	}
	return err
}
