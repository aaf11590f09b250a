package form

import (
	"time"

	"steadyferry/internal/core/message"
)

// NewReplay asks for messages to be sent again.
type NewReplay struct {
	From         string `json:"from"`                   // a topic, a partition of one, a queue/dead, a topic@group/dead
	To           string `json:"to"`                     // a queue, a topic, or a topic@group: that group alone gets them
	FromPosition string `json:"fromPosition,omitempty"` // of a topic; first if it is left out
	ToPosition   string `json:"toPosition,omitempty"`   // of a topic; end
	Choice
	Rate      float64  `json:"rate"` // messages a second
	Edits     []Edit   `json:"edits,omitempty"`
	StopAbove *float64 `json:"stopAbove,omitempty"` // of those sent, the share that may fail again, 0 to 1; 0.2 if it is left out
	Keep      bool     `json:"keep,omitempty"`      // dead letters that are sent elsewhere stay dead letters too
}

// Replay is a job that sends messages again.
type Replay struct {
	Replay       int64      `json:"replay"`
	Who          string     `json:"who"`
	From         string     `json:"from"`
	To           string     `json:"to"`
	State        string     `json:"state"` // running, paused, done, cancelled, halted, failed
	Detail       string     `json:"detail"`
	Rate         float64    `json:"rate"`
	Total        int64      `json:"total"`
	Sent         int64      `json:"sent"`
	Failed       int64      `json:"failed"`  // that became dead letters again
	Skipped      int64      `json:"skipped"` // that the edits do not apply to, or that were settled meanwhile
	StopAbove    float64    `json:"stopAbove"`
	Choice       Choice     `json:"choice"`
	Edits        []Edit     `json:"edits"`
	FromPosition string     `json:"fromPosition"`
	ToPosition   string     `json:"toPosition"`
	CreatedAt    time.Time  `json:"createdAt"`
	EndsAt       *time.Time `json:"endsAt,omitempty"` // at this rate, while it runs
	EndedAt      *time.Time `json:"endedAt,omitempty"`

	Plan *ReplayPlan `json:"plan,omitempty"` // of a preview
}

// ReplayPlan is what a replay would do.
type ReplayPlan struct {
	Messages   int64          `json:"messages"`
	Partitions []ReplayPart   `json:"partitions"`
	Oldest     *time.Time     `json:"oldest"` // when the first and the last of them were stored
	Newest     *time.Time     `json:"newest"`
	Seconds    float64        `json:"seconds"` // that it takes at the rate
	Samples    []ActionSample `json:"samples"`
	Effects    []string       `json:"effects"` // what the target does with them
}

// ReplayPart is what a replay takes from one partition.
type ReplayPart struct {
	Partition int   `json:"partition"`
	Messages  int64 `json:"messages"`
}

// ReplayChange changes a replay that has not ended.
type ReplayChange struct {
	State string   `json:"state,omitempty"` // running, paused, cancelled
	Rate  *float64 `json:"rate,omitempty"`
}

// Headers of messages that were sent again.
const (
	HeaderReplay     = message.HeaderReplay     // number of the replay
	HeaderReplayFrom = message.HeaderReplayFrom // address from which it was taken
)

// Trace is the story of one message.
type Trace struct {
	Address  string      `json:"address"`
	ID       string      `json:"id"`
	State    string      `json:"state"`
	Message  *Message    `json:"message"`            // null when its bytes are gone
	Original *Message    `json:"original,omitempty"` // before it was edited
	Steps    []TraceStep `json:"steps"`
	Copies   []string    `json:"copies"` // where the same message lies too
}

// TraceStep is one thing that happened to a message.
type TraceStep struct {
	At      *time.Time `json:"at,omitempty"`
	Began   *time.Time `json:"began,omitempty"` // of an attempt
	Address string     `json:"address"`
	Event   string     `json:"event"`
	Who     string     `json:"who,omitempty"`
	Reason  string     `json:"reason,omitempty"`
	Detail  string     `json:"detail,omitempty"`
}
