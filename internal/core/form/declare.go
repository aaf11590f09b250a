package form

import "time"

// Thing is one that can be declared: a space, a topic, a queue, a group, or all
// nodes together.
type Thing struct {
	Kind     string         `json:"kind"`
	Address  string         `json:"address"`
	Settings map[string]any `json:"settings"`
	From     string         `json:"from,omitempty"` // of a group: where it starts when it is created
}

// Declare is what shall be, as a declaration's files say it.
type Declare struct {
	Things   []Thing `json:"things"`
	Revision string  `json:"revision,omitempty"` // of the files, such as that of their repository
	Basis    string  `json:"basis,omitempty"`    // of the plan that was looked at: if it is another now, nothing is done
	Remove   bool    `json:"remove,omitempty"`   // what the spaces have that is not declared
}

// DeclareChange is what a declaration changes of one thing.
type DeclareChange struct {
	Op      string         `json:"op"` // create, set, remove, take-over
	Kind    string         `json:"kind"`
	Address string         `json:"address"`
	Before  map[string]any `json:"before,omitempty"` // of what differs
	After   map[string]any `json:"after,omitempty"`
	From    string         `json:"from,omitempty"`
	Effects []string       `json:"effects"`
	Careful bool           `json:"careful"`           // it loses something, brings a loss nearer, or moves replicas, keys or leaders
	State   string         `json:"state"`             // planned, refused; when it is applied: done, failed, left
	Problem string         `json:"problem,omitempty"` // why it is refused, or has failed
}

// DeclarePlan is what a declaration would change, or has changed, in this order.
type DeclarePlan struct {
	Declaration string          `json:"declaration"`
	Basis       string          `json:"basis"`
	Changes     []DeclareChange `json:"changes"`
	Done        bool            `json:"done"` // all that was to be done is
}

// DeclareEvent is a line of what an apply tells: one change, or at the end all of
// them, with why it ended before its end.
type DeclareEvent struct {
	Change  *DeclareChange `json:"change,omitempty"`
	Plan    *DeclarePlan   `json:"plan,omitempty"`
	Problem *Problem       `json:"problem,omitempty"`
}

// Declaration says which declaration has set a thing.
type Declaration struct {
	Declaration string    `json:"declaration"`
	Revision    string    `json:"revision"`
	At          time.Time `json:"at"`
	Settings    []string  `json:"settings"` // those that it has set
}

// Drift is a setting that is another than its declaration has it.
type Drift struct {
	Kind        string    `json:"kind"`
	Address     string    `json:"address"`
	Setting     string    `json:"setting"` // empty: the thing is gone
	Declared    any       `json:"declared"`
	Is          any       `json:"is"`
	Texts       [2]string `json:"texts"`          // what is declared and what is, as a file has them
	Back        Settings  `json:"back,omitempty"` // what sets it back
	Declaration string    `json:"declaration"`
	Revision    string    `json:"revision"`
	Line        string    `json:"line"`          // what a file would have, to keep what is
	Who         string    `json:"who,omitempty"` // changed it last, if the logbook tells
	At          time.Time `json:"at"`            // when it was declared
}
