package form

import "time"

// Chore is a chore: what is done by itself, and when.
type Chore struct {
	Address     string         `json:"address"`
	Do          string         `json:"do"`
	Of          string         `json:"of"`
	Runs        string         `json:"runs"` // when, in a few words
	Zone        string         `json:"zone"` // of its times
	Paused      bool           `json:"paused"`
	Description string         `json:"description"`
	Settings    map[string]any `json:"settings"`
	State       string         `json:"state"` // ready, running, failed (the last run), paused or away: what it needs is not there
	Next        *time.Time     `json:"next"`  // null when it is not known: by incidents, or paused
	Last        *Run           `json:"last"`
	CreatedAt   time.Time      `json:"createdAt"`
	Revision    int64          `json:"revision"`
	Declared    *Declaration   `json:"declared,omitempty"`

	// Of one chore only.
	Coming   []time.Time `json:"coming,omitempty"`   // the next five times
	Messages *int64      `json:"messages,omitempty"` // that it would do something to if it ran now
	Effects  []string    `json:"effects,omitempty"`  // what it would do if it ran now
	Careful  bool        `json:"careful,omitempty"`  // it loses something, or moves offsets
}

// ChoreAct is something that chores can do.
type ChoreAct struct {
	Name  string   `json:"name"`
	Needs []string `json:"needs"` // settings that it must have
	Takes []string `json:"takes"` // those that it can have beside them
}

// Run is one run of a chore.
type Run struct {
	Run       int64      `json:"run"`
	Chore     string     `json:"chore"`
	Do        string     `json:"do"`
	Of        string     `json:"of"`
	By        string     `json:"by"` // the clock, an incident, or who started it by hand
	PlannedAt time.Time  `json:"plannedAt"`
	Missed    int        `json:"missed"` // times before it that nobody ran
	State     string     `json:"state"`  // running, paused, cancelling, done, cancelled, halted, failed
	Says      string     `json:"says"`   // what came of it, or is going on
	Messages  int64      `json:"messages"`
	Failed    int64      `json:"failed"` // again, of those
	Job       int64      `json:"job,omitempty"`
	Kind      string     `json:"kind,omitempty"` // of that job
	CreatedAt time.Time  `json:"createdAt"`
	EndedAt   *time.Time `json:"endedAt,omitempty"`
	Log       []RunLine  `json:"log"`
}

// RunLine is something that happened in a run.
type RunLine struct {
	At   time.Time `json:"at"`
	Text string    `json:"text"`
}

// RunChange pauses, resumes or cancels a run.
type RunChange struct {
	State string `json:"state"` // cancelled
}
