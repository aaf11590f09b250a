package form

import "time"

// Outlook is what the engineer on call looks at first.
type Outlook struct {
	At        time.Time      `json:"at"`
	Wrong     []WrongSource  `json:"wrong"`     // incidents that go on, by what they have in common, the worst first
	WellSince *time.Time     `json:"wellSince"` // when the last incident ended; null while one goes on, or there was none
	Foreseen  []Foreseen     `json:"foreseen"`  // what will go wrong, the nearest first
	Changed   []LogbookEntry `json:"changed"`   // in the last hour, the newest first
	Doing     []Going        `json:"doing"`     // jobs and runs that go on, and what ended badly in the last hour
}

// WrongSource is incidents of one source.
type WrongSource struct {
	Source    string     `json:"source"`
	Incidents []Incident `json:"incidents"` // the worst first
}

// Foreseen is something that will go wrong if nothing changes.
type Foreseen struct {
	Kind    string     `json:"kind"` // loss, disk, certificate or waiting
	Address string     `json:"address"`
	Level   string     `json:"level"` // warn or alarm
	Says    string     `json:"says"`  // in a sentence
	Next    string     `json:"next"`  // what to do, as a command
	At      *time.Time `json:"at"`    // when, if that can be told
}

// Going is a job, or a run of a chore.
type Going struct {
	Job     int64     `json:"job"`
	Kind    string    `json:"kind"` // replay, move, run ...
	Address string    `json:"address"`
	State   string    `json:"state"`
	Who     string    `json:"who"`
	Says    string    `json:"says"`
	Since   time.Time `json:"since"`
}
