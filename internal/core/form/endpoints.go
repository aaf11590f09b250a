package form

import "time"

// NewEndpoint asks for a place outside.
type NewEndpoint struct {
	Address string
	Secrets map[string]string
	Settings
}

// MarshalJSON puts the settings beside the address.
func (n NewEndpoint) MarshalJSON() ([]byte, error) {
	return n.Settings.with(map[string]any{"address": n.Address, "secrets": n.Secrets})
}

// Endpoint is a place outside, and how it does.
type Endpoint struct {
	Address     string    `json:"address"`
	Kind        string    `json:"kind"` // http, table, ferry
	URL         string    `json:"url"`
	Description string    `json:"description"`
	Paused      bool      `json:"paused"`
	CreatedAt   time.Time `json:"createdAt"`
	Revision    int64     `json:"revision"`
	Secrets     []string  `json:"secrets"` // which there are; what they say is told never
	Settings    Settings  `json:"settings"`
	Routes      []string  `json:"routes"` // that lead here, by their addresses

	State        string     `json:"state"`
	Severity     int        `json:"severity"` // how bad the state is: 0 is good
	Verdict      string     `json:"verdict"`  // in words
	FailingSince *time.Time `json:"failingSince"`
	LastGood     *time.Time `json:"lastGood"`
	NextTry      *time.Time `json:"nextTry"` // while it fails
	Rate         float64    `json:"rate"`    // deliveries a second at most, after it was back; 0: no limit

	CertificateEnds *time.Time `json:"certificateEnds"` // the first of those that are set and of the one that the place has shown; nil: there is none

	// Since the nodes began; only when one endpoint is asked for.
	Delivered int64            `json:"delivered"`
	Failed    int64            `json:"failed"`
	Refused   int64            `json:"refused"`
	Answers   []EndpointAnswer `json:"answers,omitempty"` // the last ones, the newest first
	Declared  *Declaration     `json:"declared,omitempty"`
}

// EndpointAnswer is what a place outside has answered.
type EndpointAnswer struct {
	At      time.Time `json:"at"`
	Status  int       `json:"status"` // 0: none, or no HTTP
	Says    string    `json:"says"`
	Took    float64   `json:"tookSeconds"`
	Verdict string    `json:"verdict"` // done, again, refused, stop
}

// HappenedAt is something that happened to an endpoint or a route.
type HappenedAt struct {
	Number int64     `json:"number"`
	At     time.Time `json:"at"`
	Event  string    `json:"event"`
	Detail string    `json:"detail"`
}

// TableStatements are those that make the table of an endpoint, as far as it is not there.
type TableStatements struct {
	Statements []string `json:"statements"`
	Done       bool     `json:"done"` // they were carried out
}

// Copied is what has come of a batch that a route of another Steady Ferry sends.
type Copied struct {
	Taken     bool   `json:"taken"`     // it is kept
	Place     string `json:"place"`     // up to which the partition has the route's messages: recovery, cut and offset, with dots between them
	Recovered uint64 `json:"recovered"` // how often the partition was recovered by force
}
