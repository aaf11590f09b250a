// Package report is what nodes tell each other of themselves, and the table in which
// each keeps what it has heard. It sends nothing; part and cluster do. The table may
// be used at once by many.
package report

import (
	"encoding/json"
	"time"

	"steadyferry/internal/core/form"
	"steadyferry/internal/core/queue"
	"steadyferry/internal/core/rate"
	"steadyferry/internal/engine/link"
	"steadyferry/internal/engine/replica"
)

// Node is what a node tells the others about itself: all of it when they
// meet, and then every second what has changed.
type Node struct {
	Whole    bool              `json:"whole"`
	Number   uint64            `json:"number"` // one more than that of the report before
	Started  time.Time         `json:"started"`
	Version  string            `json:"version"`
	Disk     form.Disk         `json:"disk"`
	Memory   int64             `json:"memory"`
	Streams  int64             `json:"streams"`
	OnDuty   bool              `json:"onDuty"`
	Records  bool              `json:"records"`              // the database answers
	Away     time.Time         `json:"away,omitzero"`        // since when it does not
	Ends     time.Time         `json:"certificate,omitzero"` // when the certificate ends that it shows to others
	Hears    []uint64          `json:"hears"`                // nodes that answer it
	Replicas []json.RawMessage `json:"replicas,omitempty"`
	Gone     []link.Key        `json:"gone,omitempty"`
	Changes  []LeaderChange    `json:"changes,omitempty"`
}

// Replica is how one replica is.
type Replica struct {
	Key      link.Key         `json:"key"`
	Member   uint64           `json:"member"` // its Raft id
	Term     uint64           `json:"term"`
	Lead     uint64           `json:"lead"` // the leader it knows of
	Leading  bool             `json:"leading"`
	Voters   []uint64         `json:"voters"`
	Leaving  []uint64         `json:"leaving,omitempty"`
	Learners []uint64         `json:"learners,omitempty"`
	Majority bool             `json:"majority"`
	Has      uint64           `json:"has"` // index of the last record that it knows to be committed
	Status   Partition        `json:"status"`
	LostEnd  *replica.LostEnd `json:"lostEnd,omitempty"`
	Others   []Follower       `json:"others,omitempty"` // of the leader
}

// Follower is another replica as the leader sees it.
type Follower struct {
	Node     uint64 `json:"node"`
	Active   bool   `json:"active"`
	Fed      bool   `json:"fed"`
	Messages int64  `json:"messages"` // that it lacks
	Bytes    int64  `json:"bytes"`
	// Seconds is the age of the first message that it lacks, by the clock of
	// the leader, which has stamped it: those of other nodes may differ.
	Seconds float64 `json:"seconds"`
}

// LeaderChange tells when and why a partition got another leader.
type LeaderChange struct {
	At        time.Time `json:"at"`
	Channel   int64     `json:"channel"`
	Partition int       `json:"partition"`
	Term      uint64    `json:"term"`
	From      uint64    `json:"from"`
	To        uint64    `json:"to"`
	Reason    string    `json:"reason"`
}

// keptChanges is how many changes of leaders a node remembers.
const keptChanges = 500

// Partition is how a partition is now.
type Partition struct {
	Partition int            `json:"partition"`
	First     int64          `json:"first"`
	End       int64          `json:"end"`
	Bytes     int64          `json:"bytes"`
	Oldest    *time.Time     `json:"oldest"` // no kept message is older; null when empty
	Newest    *time.Time     `json:"newest"`
	Segments  int            `json:"segments"`
	State     string         `json:"state"`
	Rates     rate.Flow      `json:"rates"`
	Queue     *queue.Summary `json:"queue,omitempty"`
	Leader    uint64         `json:"-"`
	Term      uint64         `json:"-"`
	Replicas  []Standing     `json:"-"`
}

// Standing is how one replica of a partition is.
type Standing struct {
	Node     uint64
	InStep   bool
	Messages int64   // that it lacks; -1 when that is not known
	Bytes    int64   // that it lacks
	Seconds  float64 // age of the first message that it lacks
	State    string
}
