package form

import "time"

// Chart is how things hang together: who publishes, through which channels and routes it goes,
// who reads it and where it leaves.
type Chart struct {
	At     time.Time    `json:"at"`    // for which the figures are
	Now    bool         `json:"now"`   // that is now
	Whole  int          `json:"whole"` // things, before like ones were folded
	Things []ChartThing `json:"things"`
	Links  []ChartLink  `json:"links"`
}

// ChartThing is one of them, or several like ones that are drawn as one.
type ChartThing struct {
	ID       string      `json:"id"`   // its address; of what has none its kind and name
	Kind     string      `json:"kind"` // publisher, topic, queue, group, route, endpoint or members
	Name     string      `json:"name"`
	Space    string      `json:"space"`
	State    string      `json:"state"` // as its mark shows it
	Level    string      `json:"level"` // of its worst incident: calm, warn or alarm
	Says     string      `json:"says"`  // what is wrong, in a sentence; or what it does
	Rate     float64     `json:"rate"`  // messages a second through it
	Paused   bool        `json:"paused"`
	Facts    []ChartFact `json:"facts"`
	Incident int64       `json:"incident,omitempty"` // the worst that goes on
	Folded   []string    `json:"folded,omitempty"`   // ids of those that are drawn as this one
}

// ChartFact is something that is known of a thing.
type ChartFact struct {
	Name string `json:"name"`
	Text string `json:"text"`
}

// ChartLink is a way that messages go.
type ChartLink struct {
	From string  `json:"from"`
	To   string  `json:"to"`
	Rate float64 `json:"rate"` // messages a second; 0 also when it is not known
}

// Publisher is who has published to a channel in the last hour.
type Publisher struct {
	Channel int64     `json:"channel"` // id
	Name    string    `json:"name"`    // the principal's, with that of its program
	Rate    float64   `json:"rate"`    // messages a second, over the last minute
	Last    time.Time `json:"last"`
}
