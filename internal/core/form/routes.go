package form

import "time"

// TryRoute asks what a route would have done with what came since a position.
type TryRoute struct {
	Since string
	Route string // of the source, whose other settings are tried; empty: a new one
	Settings
}

// MarshalJSON puts the settings beside the rest.
func (t TryRoute) MarshalJSON() ([]byte, error) {
	return t.Settings.with(map[string]any{"since": t.Since, "route": t.Route})
}

// RouteTrial is what a route would have done. Nothing was sent.
type RouteTrial struct {
	Since    time.Time      `json:"since"`
	Total    int64          `json:"total"`    // messages since then
	LookedAt int64          `json:"lookedAt"` // of them, in the time that a trial has
	Sent     int64          `json:"sent"`
	LeftOut  int64          `json:"leftOut"` // by the condition
	Failed   int64          `json:"failed"`  // would have become dead letters
	Failures []TrialFailure `json:"failures"`
	Unlike   int64          `json:"unlike"` // messages to which the condition does not apply
	Why      string         `json:"why"`    // of the first of those

	Samples []TrialSample `json:"samples"` // of what is sent, or fails
	Others  []Message     `json:"others"`  // of what is left out

	StepSeconds int         `json:"stepSeconds"`
	Steps       []TrialStep `json:"steps"`   // oldest first
	Peak        float64     `json:"peak"`    // messages a second, in the step with the most
	In          float64     `json:"in"`      // messages a second that the target gets now
	Readers     float64     `json:"readers"` // messages a second that its readers take now
	Outside     bool        `json:"outside"` // the target is an endpoint: what it gets and takes is not told

	Was *TrialWas `json:"was,omitempty"` // as the route is set now
}

// TrialFailure is what edits and limits would have failed with.
type TrialFailure struct {
	Reason  string `json:"reason"`
	Detail  string `json:"detail"` // of the first one
	Count   int64  `json:"count"`
	Example string `json:"example"` // address of the first one
}

// TrialSample is a message before and after the edits.
type TrialSample struct {
	Before Message  `json:"before"`
	After  *Message `json:"after,omitempty"`
	Failed string   `json:"failed,omitempty"`
}

// TrialStep is a stretch of the past.
type TrialStep struct {
	At       time.Time `json:"at"`
	LookedAt int64     `json:"lookedAt"`
	Sent     int64     `json:"sent"`
}

// TrialWas compares with the settings that the route has.
type TrialWas struct {
	Sent    int64         `json:"sent"`
	OnlyWas int64         `json:"onlyWas"` // sent as it is, and no longer
	OnlyNow int64         `json:"onlyNow"` // sent only with the other settings
	Other   int64         `json:"other"`   // sent both ways, with another content
	Samples []TrialSample `json:"samples"` // that differ: before is as it is now, after with the other settings
}
