package form

import "time"

// Report is what happened in a space, over a day or another span.
type Report struct {
	Space     string          `json:"space"`
	From      time.Time       `json:"from"`
	To        time.Time       `json:"to"`
	Says      string          `json:"says"` // in a sentence
	Channels  []ReportChannel `json:"channels"`
	Readers   []ReportReader  `json:"readers"`
	Causes    []ReportCause   `json:"causes"` // of dead letters that came in that time, new ones first
	Incidents []Incident      `json:"incidents"`
	Chores    []ReportChore   `json:"chores"`
	Done      []ReportDone    `json:"done"`
	Foreseen  []Foreseen      `json:"foreseen"`
}

// ReportChannel is what came into a channel.
type ReportChannel struct {
	Address  string     `json:"address"`
	Kind     string     `json:"kind"`
	Messages *int64     `json:"messages"` // that came; null when that is not known
	AtLeast  bool       `json:"atLeast"`  // some of them are not kept any more, and not counted
	Rate     float64    `json:"rate"`     // messages a second, on average
	Peak     float64    `json:"peak"`     // in the busiest step of the curve
	Kept     int64      `json:"kept"`
	Bytes    int64      `json:"bytes"`
	Dead     int64      `json:"dead"`  // dead letters now
	Curve    []*float64 `json:"curve"` // messages a second
}

// ReportReader is how a group or a route did.
type ReportReader struct {
	Address  string     `json:"address"`
	Kind     string     `json:"kind"`
	Lag      int64      `json:"lag"` // now
	WorstLag int64      `json:"worstLag"`
	WorstAge float64    `json:"worstAge"` // seconds
	WorstAt  *time.Time `json:"worstAt"`  // of the lag
	Curve    []*float64 `json:"curve"`    // of the lag
}

// ReportCause is why messages failed.
type ReportCause struct {
	Address string    `json:"address"` // of the dead letters
	Cause   string    `json:"cause"`
	Reason  string    `json:"reason"`
	Detail  string    `json:"detail"`
	Came    int64     `json:"came"`  // in that time, of those that are still dead letters
	Count   int64     `json:"count"` // dead letters of it now
	First   time.Time `json:"first"`
	New     bool      `json:"new"` // the first came in that time
}

// ReportChore is what a chore did.
type ReportChore struct {
	Address  string    `json:"address"`
	Runs     int       `json:"runs"`
	Failed   int       `json:"failed"` // of those
	Messages int64     `json:"messages"`
	Last     time.Time `json:"last"`
	Says     string    `json:"says"` // of the last run
}

// ReportDone is what somebody did.
type ReportDone struct {
	Who       string   `json:"who"`
	Action    string   `json:"action"`
	Times     int      `json:"times"`
	Addresses []string `json:"addresses"` // up to some
}
