// Package problem is errors that a user can act on: what was wrong, with which
// value, what is allowed, and what to do next. They travel between nodes as
// JSON and to clients as problem+json.
package problem

import (
	"fmt"
	"time"
)

// Kind is the sort of a Problem. It decides the status of an answer.
type Kind string

// The kinds of problems.
const (
	Invalid     Kind = "invalid"       // something in the request is wrong
	Refused     Kind = "refused"       // whoever asks may not do it
	SignInAgain Kind = "sign-in-again" // the session is too old for it
	Second      Kind = "second-person" // it takes somebody else who confirms it
	NotFound    Kind = "not-found"     // the thing that is named does not exist
	Conflict    Kind = "conflict"      // it does not go with what is there
	Paused      Kind = "paused"        // the channel takes no messages
	TooLarge    Kind = "too-large"     // over a limit of size
	DiskFull    Kind = "disk-full"     // no room to keep anything
	CatalogAway Kind = "catalog-away"  // the database does not answer
	Unavailable Kind = "unavailable"   // the partition cannot serve now
	NoMajority  Kind = "no-majority"   // too few replicas answer to keep anything
	Gone        Kind = "gone"          // retention has passed it
	Damaged     Kind = "damaged"       // its bytes on disk are broken

	TooFast Kind = "too-fast" // more a second, or at once, than is allowed: later it is not
	NoRoom  Kind = "no-room"  // the space has as much as it may

	NoMember Kind = "no-member" // the group has no such member
	NotHeld  Kind = "not-held"  // the member does not hold the partition
	OldRound Kind = "old-round" // the partition was given anew, or its offset moved
	NotYet   Kind = "not-yet"   // this version cannot do it
)

// Problem is an error that a user can act on. Make one with New, and say more
// with Field, Allowed and Next.
type Problem struct {
	Kind   Kind   `json:"kind"`
	Detail string `json:"detail"`            // what is wrong, with the value
	Of     string `json:"field,omitempty"`   // the field or flag that is wrong, if one is
	Range  string `json:"allowed,omitempty"` // what is allowed instead
	Then   string `json:"next,omitempty"`    // what to do

	After time.Duration `json:"after,omitempty"` // after which the same may be taken
}

// New returns a problem with what is wrong, with the value.
func New(kind Kind, format string, args ...any) *Problem {
	return &Problem{Kind: kind, Detail: fmt.Sprintf(format, args...)}
}

// Field names the field or flag that is wrong.
func (p *Problem) Field(name string) *Problem { p.Of = name; return p }

// Allowed says what is allowed instead.
func (p *Problem) Allowed(what string) *Problem { p.Range = what; return p }

// Next says what to do.
func (p *Problem) Next(format string, args ...any) *Problem {
	p.Then = fmt.Sprintf(format, args...)
	return p
}

// Error implements error, in one line.
func (p *Problem) Error() string {
	text := p.Detail
	if p.Range != "" {
		text += "; allowed: " + p.Range
	}
	if p.Then != "" {
		text += "; " + p.Then
	}
	return text
}
