// Package access decides who may do what: verbs on addresses, in roles, that are
// given to principals and to teams of them. What nobody has given is refused.
//
// Nothing here knows of requests or records: services compile the grants that
// are theirs into Rights, and ask those.
package access

import (
	"fmt"
	"slices"
	"strings"
)

// Verb is one sort of thing that can be done.
type Verb uint8

// The verbs, in the order in which they are listed.
const (
	SeeCounts Verb = iota
	SeeCauses
	SeeMetadata
	SeeContent
	Publish
	Read
	Commit
	Lease
	Settle
	Return
	Discard
	Undo
	Edit
	Replay
	Export
	Seek
	Pause
	SetUp
	New
	Remove
	Route
	Watch
	Chore
	Access
	Nodes
	Logbook
	verbs // how many there are
)

// verbTexts are the name of each verb, and what it lets do.
var verbTexts = [verbs][2]string{
	SeeCounts:   {"see-counts", "see that a thing is there, how it is set, and how much of what: messages, lag, rates, states"},
	SeeCauses:   {"see-causes", "see why messages failed, without what was in them"},
	SeeMetadata: {"see-metadata", "see of messages their places, times, sizes, attempts and who published them"},
	SeeContent:  {"see-content", "see of messages their keys, headers, bodies and details of failures"},
	Publish:     {"publish", "send messages"},
	Read:        {"read", "read messages as a program does, as a member of a group or from a position"},
	Commit:      {"commit", "commit offsets of a group"},
	Lease:       {"lease", "take messages of a queue to work on"},
	Settle:      {"settle", "accept, release or reject what was leased, and set aside what a group could not work on"},
	Return:      {"return", "send dead letters back to where they came from"},
	Discard:     {"discard", "throw messages away"},
	Undo:        {"undo", "bring back what was removed or moved"},
	Edit:        {"edit", "change messages on their way: in returns, replays and routes"},
	Replay:      {"replay", "send messages again to a channel, and stop or slow down what does"},
	Export:      {"export", "take messages out as files"},
	Seek:        {"seek", "move the offsets of groups"},
	Pause:       {"pause", "pause and resume channels, groups, routes and endpoints"},
	SetUp:       {"set", "change settings"},
	New:         {"new", "make spaces, channels and groups"},
	Remove:      {"remove", "remove spaces, channels and groups"},
	Route:       {"route", "make and change routes and endpoints, and try them"},
	Watch:       {"watch", "make and change watches, and say something of incidents"},
	Chore:       {"chore", "make and change chores, and start and stop their runs"},
	Access:      {"access", "give and take roles, and tokens of others"},
	Nodes:       {"nodes", "drain and remove nodes, move replicas, recover partitions, and look after what was set aside"},
	Logbook:     {"logbook", "read the logbook"},
}

func (v Verb) String() string { return verbTexts[v][0] }

// Says is what the verb lets do.
func (v Verb) Says() string { return verbTexts[v][1] }

// AllVerbs lists the verbs.
func AllVerbs() []Verb {
	all := make([]Verb, verbs)
	for i := range all {
		all[i] = Verb(i)
	}
	return all
}

// ParseVerb reads the name of a verb.
func ParseVerb(name string) (Verb, error) {
	for v := range verbs {
		if verbTexts[v][0] == name {
			return v, nil
		}
	}
	return 0, fmt.Errorf("there is no verb %q; allowed: %s", name, Everything)
}

// Set is a set of verbs.
type Set uint64

// Everything is all verbs.
const Everything Set = 1<<verbs - 1

// Of returns the set of the verbs.
func Of(all ...Verb) (s Set) {
	for _, v := range all {
		s |= 1 << v
	}
	return s
}

// Has reports whether the verb is in the set.
func (s Set) Has(v Verb) bool { return s>>v&1 == 1 }

// Without returns the set without the verbs of another one.
func (s Set) Without(other Set) Set { return s &^ other }

// Verbs lists those in the set, in their order.
func (s Set) Verbs() []Verb {
	return slices.DeleteFunc(AllVerbs(), func(v Verb) bool { return !s.Has(v) })
}

// Names are those of the verbs in the set, in their order.
func (s Set) Names() []string {
	names := []string{}
	for _, v := range s.Verbs() {
		names = append(names, v.String())
	}
	return names
}

func (s Set) String() string { return strings.Join(s.Names(), ", ") }

// ParseSet reads the names of verbs; "all" are all of them.
func ParseSet(names []string) (s Set, err error) {
	for _, name := range names {
		if name == "all" {
			return Everything, nil
		}
		v, err := ParseVerb(name)
		if err != nil {
			return 0, err
		}
		s |= Of(v)
	}
	return s, nil
}
