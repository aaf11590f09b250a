package form

import "time"

// Units of what is used; empty: things.
const (
	Bytes        = "bytes"
	BytesASecond = "bytes-per-second"
	ASecond      = "per-second"
)

// Quota is what is used of something, and how much of it may be: of all nodes together.
type Quota struct {
	Name string     `json:"name"` // of the setting that bounds it
	Unit string     `json:"unit"`
	Used float64    `json:"used"`
	Most float64    `json:"most"`           // 0: there is no bound
	Full *time.Time `json:"full,omitempty"` // when it is used up, at what it has grown lately
}
