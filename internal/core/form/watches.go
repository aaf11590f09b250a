package form

import "time"

// Watch is a watch, and how what it watches is.
type Watch struct {
	Address     string         `json:"address"`
	Of          string         `json:"of"`
	Value       string         `json:"value"`
	Keeps       string         `json:"keeps,omitempty"` // settings that things shall have; it looks at no value then
	Unit        string         `json:"unit"`
	Below       bool           `json:"below"` // trouble is below the levels
	Warn        *float64       `json:"warn"`
	Alarm       *float64       `json:"alarm"`
	Calm        *float64       `json:"calm"`
	Paused      bool           `json:"paused"`
	Description string         `json:"description"`
	Settings    map[string]any `json:"settings"`
	State       string         `json:"state"` // calm, warn, alarm, no-data, paused or idle: it covers nothing
	Things      int            `json:"things"`
	Warns       int            `json:"warns"`
	Alarms      int            `json:"alarms"`
	Unknown     int            `json:"unknown"`
	CreatedAt   time.Time      `json:"createdAt"`
	Revision    int64          `json:"revision"`
	Declared    *Declaration   `json:"declared,omitempty"`
	Watched     []Watched      `json:"watched,omitempty"` // the worst first, up to a bound; of one watch only
}

// Watched is one thing under a watch.
type Watched struct {
	Address  string    `json:"address"`
	State    string    `json:"state"` // calm, warn, alarm or no-data
	Since    time.Time `json:"since"`
	Figure   *float64  `json:"figure"`
	Text     string    `json:"text"` // the figure, for people
	Incident int64     `json:"incident,omitempty"`
}

// Incident is a crossing of a watch's levels.
type Incident struct {
	Number       int64         `json:"number"`
	Watch        string        `json:"watch"`
	Address      string        `json:"address"`
	Kind         string        `json:"kind"`
	Source       string        `json:"source"` // what incidents of one cause have in common
	State        string        `json:"state"`  // warn or alarm; ended
	Worst        string        `json:"worst"`
	Value        string        `json:"value"`
	Unit         string        `json:"unit"`
	Below        bool          `json:"below"`
	Warn         *float64      `json:"warn"`
	Alarm        *float64      `json:"alarm"`
	Calm         *float64      `json:"calm"`
	BegunAt      time.Time     `json:"begunAt"`
	RangAt       time.Time     `json:"rangAt"`
	EndedAt      *time.Time    `json:"endedAt"`
	EndedAs      string        `json:"endedAs,omitempty"`
	Peak         float64       `json:"peak"`
	PeakAt       time.Time     `json:"peakAt"`
	Last         float64       `json:"last"`
	Says         string        `json:"says"` // in a sentence
	Next         string        `json:"next"` // what to do, as a command
	Acknowledged *Acknowledged `json:"acknowledged"`
	Silenced     *Silenced     `json:"silenced"`
}

// Acknowledged tells who has seen an incident.
type Acknowledged struct {
	At time.Time `json:"at"`
	By string    `json:"by"`
}

// Silenced tells until when an incident is not told of, and why.
type Silenced struct {
	Until time.Time `json:"until"`
	By    string    `json:"by"`
	Why   string    `json:"why"`
}

// IncidentNote is something that happened in an incident, or that somebody says of it.
type IncidentNote struct {
	At    time.Time `json:"at"`
	Who   string    `json:"who,omitempty"`
	Event string    `json:"event"`
	Text  string    `json:"text"`
}

// IncidentStory is an incident with all that is known of it.
type IncidentStory struct {
	Incident
	Notes   []IncidentNote `json:"notes"`
	Before  []LogbookEntry `json:"before"`  // what was changed shortly before
	During  []LogbookEntry `json:"during"`  // what was done while it went on
	Related []Incident     `json:"related"` // others of the same source and time
	Curve   Curve          `json:"curve"`
}

// Curve is figures in equal steps, null where nothing was measured.
type Curve struct {
	Begin       time.Time  `json:"begin"`
	StepSeconds int        `json:"stepSeconds"`
	Figures     []*float64 `json:"figures"`
}

// IncidentSaying is what somebody does to an incident.
type IncidentSaying struct {
	Acknowledge bool   `json:"acknowledge,omitempty"`
	Silence     string `json:"silence,omitempty"` // duration; 0s ends a silence
	Text        string `json:"text,omitempty"`    // a note, or why it is silenced
}

// WatchTrial is what a watch would have said of the past.
type WatchTrial struct {
	Things   int          `json:"things"` // that it covers
	Tried    int          `json:"tried"`  // of those
	From     time.Time    `json:"from"`
	Rang     int          `json:"rang"`    // times
	Alarms   int          `json:"alarms"`  // of those
	Seconds  float64      `json:"seconds"` // in all
	Proposed TrialLevels  `json:"proposed"`
	Each     []TriedThing `json:"each"` // the loudest first
	Unit     string       `json:"unit"`
	Below    bool         `json:"below"`
	Warn     *float64     `json:"warn"`
	Alarm    *float64     `json:"alarm"`
	Calm     *float64     `json:"calm"`
}

// TrialLevels are levels as text, empty without one.
type TrialLevels struct {
	Warn  string `json:"warn"`
	Alarm string `json:"alarm"`
}

// TriedThing is what a watch would have said of one thing.
type TriedThing struct {
	Address   string     `json:"address"`
	Rang      int        `json:"rang"`
	Alarms    int        `json:"alarms"`
	Seconds   float64    `json:"seconds"`
	Crossings []Crossing `json:"crossings"` // up to a bound, the newest
	Curve     Curve      `json:"curve"`
}

// Crossing is a time in which a watch would have rung.
type Crossing struct {
	BegunAt time.Time  `json:"begunAt"`
	EndedAt *time.Time `json:"endedAt"`
	Worst   string     `json:"worst"`
	Peak    float64    `json:"peak"`
}

// WatchValue is what can be watched.
type WatchValue struct {
	Name  string   `json:"name"`
	Unit  string   `json:"unit"`
	Below bool     `json:"below"` // trouble is when there is little of it
	Kinds []string `json:"kinds"` // of things that have it: channel, group, endpoint, node
	Help  string   `json:"help"`
}

// Tally is how many incidents go on, by their levels now.
type Tally struct {
	Warns  int `json:"warns"`
	Alarms int `json:"alarms"`
}

// Notice is what is posted to those who are told of incidents.
type Notice struct {
	Notice    string           `json:"notice"` // id, the same however often it comes
	At        time.Time        `json:"at"`
	Says      string           `json:"says"`
	Incidents []NoticeIncident `json:"incidents"`
	Run       *Run             `json:"run,omitempty"`  // the run of a chore, of a notice about one
	Text      *NoticeText      `json:"text,omitempty"` // that a chore sends, such as a report
}

// NoticeText is a text that is sent as a notice.
type NoticeText struct {
	Markdown string `json:"markdown"`
	Link     string `json:"link"` // where it is shown
}

// NoticeIncident is an incident as a notice tells it.
type NoticeIncident struct {
	Incident
	Word string `json:"word"` // begins, rises, falls, goes-on or ends
	Link string `json:"link"`
}

// NoticeAnswer is what an endpoint said to a trial.
type NoticeAnswer struct {
	Endpoint string `json:"endpoint"`
	Taken    bool   `json:"taken"`
	Says     string `json:"says"`
}
