package form

import (
	"encoding/json"
	"time"

	"steadyferry/internal/core/edit"
)

// QueueMessage is a message of a queue with what is known of it.
type QueueMessage struct {
	Message
	State    string         `json:"state"` // waiting, leased, delayed, dead, discarded, done
	Attempts int            `json:"attempts"`
	Member   string         `json:"member,omitempty"`   // that holds it
	Deadline *time.Time     `json:"deadline,omitempty"` // leased: when the lease runs out; delayed: when it waits again
	DeadAt   *time.Time     `json:"deadAt,omitempty"`
	Cause    string         `json:"cause,omitempty"`
	Reason   string         `json:"reason,omitempty"`
	Detail   string         `json:"detail,omitempty"`
	Field    string         `json:"field,omitempty"` // of the body, as a JSON Pointer, when the detail names it
	From     string         `json:"from,omitempty"`  // where a group read it
	Returns  int            `json:"returns"`         // how often it came back from the dead letters
	Edited   bool           `json:"edited"`
	Gone     bool           `json:"gone"` // its bytes are no longer kept
	History  []MessageEvent `json:"history"`
	Original *Message       `json:"original,omitempty"` // before it was edited
}

// MessageEvent is one thing that happened to a message.
type MessageEvent struct {
	Event  string     `json:"event"`
	At     time.Time  `json:"at"`
	Began  *time.Time `json:"began,omitempty"` // of an attempt
	Who    string     `json:"who"`
	Reason string     `json:"reason,omitempty"`
	Detail string     `json:"detail,omitempty"`
}

// DeadLetters is the dead letters of a queue by their causes.
type DeadLetters struct {
	Address string      `json:"address"`
	Total   int64       `json:"deadTotal"`
	Since   time.Time   `json:"since"` // when the bars begin
	Causes  []DeadCause `json:"causes"`
}

// DeadCause is the dead letters that failed in the same way.
type DeadCause struct {
	Cause     string        `json:"cause"`
	Reason    string        `json:"reason"`
	Pattern   string        `json:"pattern"` // of the details: what differs is masked
	Count     int64         `json:"count"`
	Share     float64       `json:"share"`
	FirstSeen time.Time     `json:"firstSeen"`
	LastSeen  time.Time     `json:"lastSeen"`
	Bars      []int64       `json:"bars"`
	Sample    *QueueMessage `json:"sample"`
}

// Edit changes one place of a message.
type Edit = edit.Edit

// Choice is which messages of a queue are meant.
type Choice struct {
	Cause    string   `json:"cause,omitempty"`
	Where    string   `json:"where,omitempty"`
	Messages []string `json:"messages,omitempty"` // addresses; none: all
	Limit    int64    `json:"limit,omitempty"`
}

// QueueAction is something that is done to messages of a queue.
type QueueAction struct {
	Action string `json:"action"` // return, edit, discard, undo
	Choice
	State  string `json:"state,omitempty"` // of what is discarded: dead (default) or waiting
	Why    string `json:"why,omitempty"`   // a discard needs it
	After  string `json:"after,omitempty"` // of a return: the delay
	Edits  []Edit `json:"edits,omitempty"`
	Return bool   `json:"return,omitempty"` // what was edited
}

// QueueActionResult says what an action did, or as a preview would do.
type QueueActionResult struct {
	Address  string         `json:"address"`
	Messages int64          `json:"messages"`
	Effects  []string       `json:"effects"`
	Samples  []ActionSample `json:"samples"`
	Until    *time.Time     `json:"until,omitempty"` // until when it can be brought back
	Done     bool           `json:"done"`
}

// ActionSample is a message that an action is about.
type ActionSample struct {
	Address string            `json:"address"`
	Key     string            `json:"key"`
	Headers map[string]string `json:"headers"`
	Body    json.RawMessage   `json:"body"`
	Masked  []string          `json:"masked,omitempty"` // what whoever asks may not see of it: key, headers, body
	After   *EditedMessage    `json:"after,omitempty"`  // what an edit makes of it
}

// EditedMessage is what edits make of a message.
type EditedMessage struct {
	Key     string            `json:"key"`
	Headers map[string]string `json:"headers"`
	Body    json.RawMessage   `json:"body"`
}
