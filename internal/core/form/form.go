// Package form has the forms of the API: what is asked and answered over HTTP, as
// docs/http.md describes it. Programs know them as the types of package client.
package form

import (
	"encoding/base64"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"steadyferry/internal/core/address"
	"steadyferry/internal/core/message"
	"steadyferry/internal/core/rate"
	"steadyferry/internal/core/words"
)

// Media types of the API.
const (
	BatchType      = "application/vnd.steady-ferry.batch"
	RecordsType    = "application/vnd.steady-ferry.records"
	MessageType    = "application/vnd.steady-ferry.message+json"
	NDJSONType     = "application/x-ndjson"
	CloudEventType = "application/cloudevents+json"
	CloudBatchType = "application/cloudevents-batch+json"
	ProblemType    = "application/problem+json"
)

// Formats of an export.
const (
	HeaderProgram     = "Ferry-Program" // what a program calls itself, to those who look who publishes
	FormatNDJSON      = "ndjson"
	FormatCloudEvents = "cloudevents"
)

// Problem is an error of the service, as RFC 9457 has it with members of ours.
type Problem struct {
	Type     string `json:"type"`
	Title    string `json:"title"`
	Status   int    `json:"status"`
	Detail   string `json:"detail"`
	Field    string `json:"field,omitempty"`    // what is wrong
	Allowed  string `json:"allowed,omitempty"`  // what is allowed instead
	Next     string `json:"next,omitempty"`     // what to do
	Column   int    `json:"column,omitempty"`   // of a condition, from 1
	Line     int    `json:"line,omitempty"`     // of NDJSON, from 1
	Accepted *int   `json:"accepted,omitempty"` // messages kept before the error

	RetryAfter int `json:"retryAfter,omitempty"` // seconds, as in the header Retry-After

	Partitions map[string][]string `json:"partitions,omitempty"` // that take nothing, by their states
}

func (p *Problem) Error() string {
	text := p.Detail
	if p.Line > 0 {
		text = fmt.Sprintf("line %d: %s", p.Line, text)
	}
	if p.Accepted != nil {
		text += fmt.Sprintf(" (%s)", words.Many(*p.Accepted, "message before it was kept", "messages before it were kept"))
	}
	if p.Allowed != "" {
		text += "; allowed: " + p.Allowed
	}
	if p.Next != "" {
		text += "; " + p.Next
	}
	return text
}

// Message is one message with its place.
type Message struct {
	Address       string            `json:"address"`
	Partition     int               `json:"partition"`
	Offset        int64             `json:"offset"`
	Time          time.Time         `json:"time"` // stamped by the service
	Key           string            `json:"key"`
	ID            string            `json:"id"`
	Headers       map[string]string `json:"headers"`
	ContentType   string            `json:"contentType"`
	Size          int               `json:"size"`                    // bytes of the body
	Shortened     bool              `json:"shortened,omitempty"`     // the body here is only its beginning, as text or in base64
	Masked        []string          `json:"masked,omitempty"`        // what whoever asks may not see of it: key, headers, body
	By            string            `json:"by,omitempty"`            // the principal that has published it; empty: the service itself
	PublisherTime *time.Time        `json:"publisherTime,omitempty"` // the publisher's own
	Body          json.RawMessage   `json:"body,omitempty"`          // JSON as JSON, text as a string
	BodyBase64    string            `json:"bodyBase64,omitempty"`    // any other body
	NotBefore     *time.Time        `json:"notBefore,omitempty"`     // of a queue
	Expires       *time.Time        `json:"expires,omitempty"`
}

// MessageOf returns the JSON form of a stored message of a channel.
func MessageOf(channel address.Address, s *message.Stored) Message {
	m := Message{Address: channel.At(s.Partition, s.Offset).String(), Partition: s.Partition, Offset: s.Offset, Time: s.StoredAt,
		Key: s.Key, ID: s.ID, Headers: make(map[string]string, len(s.Headers)), ContentType: s.ContentType, Size: s.Size(), Masked: s.Masked}
	hidden := slices.Contains(s.Masked, "body")
	m.Shortened = s.Whole > 0 && !hidden
	for _, h := range s.Headers {
		m.Headers[h.Name] = h.Value
	}
	if !s.Message.Time.IsZero() {
		m.PublisherTime = &s.Message.Time
	}
	if t := s.Terms; t != nil {
		m.NotBefore, m.Expires = orNull(t.NotBefore), orNull(t.Expires)
	}
	switch {
	case hidden:
	case m.Shortened:
		// What was cut in the middle is no JSON, and may end within a character.
		if text := strings.ToValidUTF8(string(s.Body), ""); len(s.Body)-len(text) < utf8.UTFMax {
			m.Body, _ = json.Marshal(text)
		} else {
			m.BodyBase64 = base64.StdEncoding.EncodeToString(s.Body)
		}
	case looksLikeJSON(s.ContentType, s.Body) && json.Valid(s.Body):
		m.Body = s.Body
	case utf8.Valid(s.Body):
		m.Body, _ = json.Marshal(string(s.Body))
	default:
		m.BodyBase64 = base64.StdEncoding.EncodeToString(s.Body)
	}
	return m
}

func orNull(t time.Time) *time.Time {
	if t.IsZero() {
		return nil
	}
	return &t
}

// looksLikeJSON leaves bodies that are declared as text, and bare words and
// numbers without a type, to be shown as text.
func looksLikeJSON(contentType string, body []byte) bool {
	if strings.Contains(contentType, "json") {
		return true
	}
	return contentType == "" && len(body) > 0 && (body[0] == '{' || body[0] == '[')
}

// Bytes returns the body's bytes. Of a JSON body they are those of the JSON.
func (m *Message) Bytes() []byte {
	if m.BodyBase64 != "" {
		b, _ := base64.StdEncoding.DecodeString(m.BodyBase64)
		return b
	}
	if m.IsText() {
		var s string
		json.Unmarshal(m.Body, &s)
		return []byte(s)
	}
	return m.Body
}

// IsText reports whether the body is text that is not JSON.
func (m *Message) IsText() bool {
	return len(m.Body) > 0 && m.Body[0] == '"' && !strings.Contains(m.ContentType, "json")
}

// NewMessage is a message to be published, as JSON or a line of NDJSON. One
// of Body and BodyBase64 is used: a string Body is text unless the content
// type names JSON, any other is JSON.
type NewMessage struct {
	Key         string            `json:"key,omitempty"`
	ID          string            `json:"id,omitempty"`
	Headers     map[string]string `json:"headers,omitempty"`
	ContentType string            `json:"contentType,omitempty"`
	Time        *time.Time        `json:"publisherTime,omitempty"`
	Body        json.RawMessage   `json:"body,omitempty"`
	BodyBase64  string            `json:"bodyBase64,omitempty"`
	NotBefore   *time.Time        `json:"notBefore,omitempty"` // when a queue hands it out at the earliest
	After       string            `json:"after,omitempty"`     // the same as a duration from now on, such as 10m
	Expires     *time.Time        `json:"expires,omitempty"`   // when a queue gives it up
}

// Space is a named group of channels.
type Space struct {
	Space       string            `json:"space"`
	Description string            `json:"description"`
	Labels      map[string]string `json:"labels"`
	CreatedAt   time.Time         `json:"createdAt"`
	Channels    int               `json:"channels"`
	Messages    int64             `json:"messages"`
	Bytes       int64             `json:"bytes"`

	// Only when one space is asked for.
	Declared *Declaration   `json:"declared,omitempty"` // by which files, if any
	Settings map[string]any `json:"settings,omitempty"`
	Uses     []Quota        `json:"uses,omitempty"`
}

// Settings are values of settings by their names: of a channel, a group or a
// space. What is left out stays as it is. GET /settings lists the names, the
// forms and what is allowed.
type Settings map[string]any

// NewChannel asks for a channel.
type NewChannel struct {
	Address string
	Kind    string // topic or queue
	Settings
}

// MarshalJSON puts the settings beside the address and the kind.
func (n NewChannel) MarshalJSON() ([]byte, error) {
	return n.Settings.with(map[string]any{"address": n.Address, "kind": n.Kind})
}

func (s Settings) with(own map[string]any) ([]byte, error) {
	maps.Copy(own, s)
	return json.Marshal(own)
}

// Flow is messages and bytes per second, in and out.
type Flow = rate.Flow

// Totals are messages and bytes, in and out.
type Totals = rate.Totals

// Partition is how a partition is now.
type Partition struct {
	Partition int        `json:"partition"`
	Address   string     `json:"address"`
	Leader    string     `json:"leader"`
	First     int64      `json:"first"` // oldest kept offset
	End       int64      `json:"end"`   // offset that the next message gets
	Messages  int64      `json:"messages"`
	Bytes     int64      `json:"bytes"`
	Oldest    *time.Time `json:"oldest"`
	Newest    *time.Time `json:"newest"`
	State     string     `json:"state"`
	Rates     Flow       `json:"rates"`
	Term      uint64     `json:"term"`
	Replicas  []Replica  `json:"replicas"`
	Queue     *Counts    `json:"queue,omitempty"`
}

// Replica is how one replica of a partition is.
type Replica struct {
	Node           string  `json:"node"`
	InStep         bool    `json:"inStep"`         // it holds all that is committed, but for what is on its way
	BehindMessages *int64  `json:"behindMessages"` // null when that is not known
	BehindBytes    int64   `json:"behindBytes"`
	BehindSeconds  float64 `json:"behindSeconds"` // age of the first message that it lacks
	State          string  `json:"state"`
}

// Forecast is what a topic will hold at the rate of the last hour.
type Forecast struct {
	BytesPerSecond    float64 `json:"bytesPerSecond"`
	MessagesPerSecond float64 `json:"messagesPerSecond"`
	Bytes             int64   `json:"bytes"`
	Messages          int64   `json:"messages"`
	Span              string  `json:"span"`
	LimitedBy         string  `json:"limitedBy"` // age or bytes
}

// Channel is a topic or a queue, its settings, and how it is now.
type Channel struct {
	Address     string            `json:"address"`
	Space       string            `json:"space"`
	Channel     string            `json:"channel"`
	Kind        string            `json:"kind"`
	State       string            `json:"state"`
	Description string            `json:"description"`
	Labels      map[string]string `json:"labels"`
	CreatedAt   time.Time         `json:"createdAt"`
	Revision    int64             `json:"revision"` // of the settings
	Partitions  int               `json:"partitionCount"`
	Replicas    int               `json:"replicas"`
	Retain      string            `json:"retain"`
	RetainBytes int64             `json:"retainBytes"`
	Hold        []string          `json:"hold"`
	HoldBytes   int64             `json:"holdBytes"`
	MaxBody     int64             `json:"maxBody"`
	IDWindow    string            `json:"idWindow"`
	Paused      bool              `json:"paused"`
	Messages    int64             `json:"messages"` // kept
	Bytes       int64             `json:"bytes"`    // on disk
	Fill        float64           `json:"fill"`     // of the bytes that retention allows, 0 to 1
	Oldest      *time.Time        `json:"oldest"`
	Newest      *time.Time        `json:"newest"`
	Rates       Flow              `json:"rates"`
	Queue       *QueueState       `json:"queue,omitempty"`
	Settings    Settings          `json:"settings"` // all that can be set, by name

	// Only when one channel is asked for.
	Declared *Declaration `json:"declared,omitempty"` // by which files, if any
	Forecast *Forecast    `json:"forecast,omitempty"`
	Each     []Partition  `json:"partitions,omitempty"`
}

// Series is the flow over time: Flow[i] is what came in the step that begins
// at Start plus i steps.
type Series struct {
	Start time.Time `json:"start"`
	Step  float64   `json:"stepSeconds"`
	Flow  []Totals  `json:"flow"`
}

// Receipt tells where a batch lies.
type Receipt struct {
	Partition int       `json:"partition"`
	Offset    int64     `json:"offset"` // of the first message; -1 for a repeat too old to be remembered
	Count     int       `json:"count"`
	Time      time.Time `json:"time"`
	Repeat    bool      `json:"repeat"` // it was kept before
}

// Published is the answer to publishing.
type Published struct {
	Accepted int       `json:"accepted"` // messages that are kept
	Dropped  int       `json:"dropped"`  // left out because they were kept before
	Receipts []Receipt `json:"receipts"` // the last 1,000 at most
}

// Progress tells how far a browse is.
type Progress struct {
	LookedAt int64 `json:"lookedAt"` // messages
	Total    int64 `json:"total"`    // messages between from and to
	Found    int64 `json:"found"`
	Damaged  int64 `json:"damaged"`        // messages that are broken on disk
	Full     bool  `json:"full,omitempty"` // no more fits into one answer: narrow the selection to see the rest

	Unlike int64  `json:"unlike,omitempty"` // messages to which the condition did not apply, since it compares unlike things
	Why    string `json:"why,omitempty"`    // what those are in the first of them
}

// LeftOut says that a tail skipped messages for a slow reader.
type LeftOut struct {
	Messages int64 `json:"messages"` // skipped now, whether the condition fits them or not
	Total    int64 `json:"total"`    // skipped since the tail began
}

// Damage is a stretch of a partition that is broken on disk.
type Damage struct {
	Address   string `json:"address"`
	Partition int    `json:"partition"`
	From      int64  `json:"from"`
	To        int64  `json:"to"` // not included
}

// Event is one line of a browse or one event of a tail; one field is set.
type Event struct {
	Message  *Message  `json:"message,omitempty"`
	Progress *Progress `json:"progress,omitempty"`
	LeftOut  *LeftOut  `json:"leftOut,omitempty"`
	Damage   *Damage   `json:"damage,omitempty"`
	Problem  *Problem  `json:"problem,omitempty"`
}

// Preview says what a change would do, or has done.
type Preview struct {
	Address  string         `json:"address"`
	Effects  []string       `json:"effects"` // in words
	Before   map[string]any `json:"before,omitempty"`
	After    map[string]any `json:"after,omitempty"`
	Messages int64          `json:"messages"` // that would be lost or out of reach
	Bytes    int64          `json:"bytes"`
	Until    *time.Time     `json:"until,omitempty"` // until when it can be brought back
	Job      int64          `json:"job,omitempty"`   // that brings it about
	Careful  bool           `json:"careful"`         // it loses something, brings a loss nearer, or moves replicas or keys: ask before it is done
	Done     bool           `json:"done"`
}

// Disk is the room on a node's disk, in bytes.
type Disk struct {
	Total   int64 `json:"total"`
	Free    int64 `json:"free"`
	Reserve int64 `json:"reserve"` // publishing is refused below it
	Full    bool  `json:"full"`
}

// Status is how a node is now.
type Status struct {
	Node        string    `json:"node"`
	Version     string    `json:"version"`
	StartedAt   time.Time `json:"startedAt"`
	At          time.Time `json:"at"`
	Catalog     string    `json:"catalog"` // reachable, or since when the database is away
	Disk        Disk      `json:"disk"`
	MemoryBytes int64     `json:"memoryBytes"`
	Spaces      int       `json:"spaces"`
	Channels    int       `json:"channels"`
	Partitions  int       `json:"partitionCount"`
	Messages    int64     `json:"messages"`
	Bytes       int64     `json:"bytes"`
	Rates       Flow      `json:"rates"`
	Streams     int64     `json:"streams"`  // tails, browses and members that are open
	SetAside    int       `json:"setAside"` // logs here that the catalog does not know: GET /set-aside
}

// DeadCount is how many dead letters a queue or a group has.
type DeadCount struct {
	Address   string `json:"address"` // of the dead letters
	Dead      int64  `json:"dead"`
	Discarded int64  `json:"discarded"`
}

// Live is the state of a node and its channels at one moment; of a stream of
// them, the later ones have only the channels and groups that have changed.
type Live struct {
	Whole     bool           `json:"whole"` // all channels and groups are in it
	Gone      []string       `json:"gone"`  // channels and groups that were in those before and are no more
	Status    Status         `json:"status"`
	Channels  []Channel      `json:"channels"`
	Groups    []Group        `json:"groups"` // the worst first
	Dead      []DeadCount    `json:"dead"`   // queues and groups with dead letters
	Cluster   Cluster        `json:"cluster"`
	Changes   []LeaderChange `json:"changes"`   // of leaders, the newest first
	Incidents Tally          `json:"incidents"` // that go on
}

// SetAside is logs of a channel on one node that the catalog does not know.
type SetAside struct {
	ID         string    `json:"id"`   // of the channel
	Node       string    `json:"node"` // that has them
	Address    string    `json:"address"`
	Kind       string    `json:"kind"`
	Since      time.Time `json:"since"`
	Until      time.Time `json:"until"` // when they are deleted
	Bytes      int64     `json:"bytes"`
	Partitions []int     `json:"partitions"`
}

// Adopt says under which address logs that were set aside become a channel.
type Adopt struct {
	Address string `json:"address"`
}

// Verified tells whether the replicas of a partition hold the same bytes.
type Verified struct {
	Address string         `json:"address"`
	Equal   bool           `json:"equal"`
	Nodes   []string       `json:"nodes"`   // that were compared
	Records int64          `json:"records"` // of the log, in the stretch that all of them hold
	Differs []string       `json:"differs"` // nodes whose log is not that of most
	Damaged map[string]int `json:"damaged"`
	Missing []string       `json:"missing"` // nodes that should hold it and did not answer
	Problem string         `json:"problem,omitempty"`
}

// Found is what an address in the search box leads to.
type Found struct {
	Address string   `json:"address"`
	Kind    string   `json:"kind"`
	Exists  bool     `json:"exists"`
	Detail  string   `json:"detail"`
	Near    []string `json:"near"` // addresses that exist and are like it
}

// ConditionCheck is the answer to whether a condition compiles.
type ConditionCheck struct {
	OK      bool   `json:"ok"`
	Column  int    `json:"column,omitempty"`
	Problem string `json:"problem,omitempty"`
	Hint    string `json:"hint,omitempty"`
}

// LogbookEntry is who did what to which address.
type LogbookEntry struct {
	ID      int64           `json:"id"`
	At      time.Time       `json:"at"`
	Who     string          `json:"who"`
	Action  string          `json:"action"`
	Address string          `json:"address"`
	Outcome string          `json:"outcome"` // done or refused
	Before  json.RawMessage `json:"before"`
	After   json.RawMessage `json:"after"`

	Credential string `json:"credential"` // with what they had come: token 26b872fc534b, session …; empty: what nodes do by themselves
	From       string `json:"from"`       // from which address

	Change string `json:"change"` // what is another thing after than before, in words
	Undo   bool   `json:"undo"`   // there is a way back from it
	Times  int    `json:"times"`  // sign-ins of one person behind each other are one entry, with the time of the last
}

// Page is one page of a list; Next is the cursor of the following one, empty
// at the end.
type Page[T any] struct {
	Items []T    `json:"items"`
	Next  string `json:"next"`
}
