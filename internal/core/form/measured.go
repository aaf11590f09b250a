package form

import "time"

// Measured is what was measured of a thing over a time, in equal steps.
type Measured struct {
	Address     string          `json:"address"`
	Kind        string          `json:"kind"` // channel, group or endpoint
	Begin       time.Time       `json:"begin"`
	StepSeconds int             `json:"stepSeconds"`
	Values      []MeasuredValue `json:"values"`
}

// MeasuredValue is one value by step, null where nothing was measured.
type MeasuredValue struct {
	Name    string     `json:"name"`
	Unit    string     `json:"unit"`
	Figures []*float64 `json:"figures"`
}
