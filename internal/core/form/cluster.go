package form

import "time"

// Node is how a node is, as the one that answers knows it.
type Node struct {
	Node        string     `json:"node"`
	Zone        string     `json:"zone"`
	URL         string     `json:"url"`
	State       string     `json:"state"` // up, draining or away
	Up          bool       `json:"up"`
	Since       *time.Time `json:"since"` // it runs, or was last heard of
	Leads       int        `json:"leads"` // partitions
	Holds       int        `json:"holds"`
	Behind      int        `json:"behind"` // partitions that it is not in step with
	Disk        Disk       `json:"disk"`
	MemoryBytes int64      `json:"memoryBytes"`
	Streams     int64      `json:"streams"`
	Version     string     `json:"version"`
	Catalog     string     `json:"catalog"` // reachable, or away
	OnDuty      bool       `json:"onDuty"`  // it runs the duties of the cluster
	Self        bool       `json:"self"`    // it is the one that answers
	Rates       Flow       `json:"rates"`
}

// Cluster is all nodes, and how many partitions are not as they should be.
type Cluster struct {
	Nodes           []Node `json:"nodes"`
	Partitions      int    `json:"partitionCount"`
	ReplicasMissing int    `json:"replicasMissing"` // with replicas missing or not in step
	WithoutLeader   int    `json:"withoutLeader"`
	SpreadLeaders   bool   `json:"spreadLeaders"`
	LogbookTo       string `json:"logbookTo,omitempty"` // a topic that gets each entry of the logbook
}

// LeaderChange tells when and why a partition got another leader.
type LeaderChange struct {
	At      time.Time `json:"at"`
	Address string    `json:"address"`
	From    string    `json:"from"`
	To      string    `json:"to"`
	Term    uint64    `json:"term"`
	Reason  string    `json:"reason"`
}

// PartitionFate is what becomes of a partition when nodes are lost.
type PartitionFate struct {
	Address string   `json:"address"`
	Nodes   []string `json:"nodes"`
	Outcome string   `json:"outcome"` // writable, readable or unreachable
}

// SuggestedMove is a change of nodes that would help.
type SuggestedMove struct {
	Address string   `json:"address"`
	From    []string `json:"from"`
	To      []string `json:"to"`
}

// WhatIf is what a loss of nodes would mean.
type WhatIf struct {
	Without     []string        `json:"without"`
	Writable    int             `json:"writable"`
	Readable    int             `json:"readable"`
	Unreachable int             `json:"unreachable"`
	NodeSafe    int             `json:"nodeSafe"` // partitions of which any one node may be lost now
	ZoneSafe    int             `json:"zoneSafe"`
	NodesShort  int             `json:"nodesShort"` // nodes that lack before moves can help
	ZonesShort  int             `json:"zonesShort"`
	Partitions  []PartitionFate `json:"partitions"`
	Moves       []SuggestedMove `json:"moves"`
}

// Move asks for other nodes for a partition.
type Move struct {
	Address string   `json:"address"`
	To      []string `json:"to"`
}

// Drain asks a node to be emptied.
type Drain struct {
	LeadersOnly bool `json:"leadersOnly,omitempty"`
}

// Job is recorded work on where partitions are.
type Job struct {
	Job       int64      `json:"job"`
	Kind      string     `json:"kind"`
	Address   string     `json:"address"`
	Who       string     `json:"who"`
	State     string     `json:"state"`
	Detail    string     `json:"detail"`
	CreatedAt time.Time  `json:"createdAt"`
	EndedAt   *time.Time `json:"endedAt"`
	Done      int        `json:"done"` // steps
	Steps     []JobStep  `json:"steps"`
}

// JobStep is the move of one partition.
type JobStep struct {
	Address  string    `json:"address"`
	From     []string  `json:"from"`
	To       []string  `json:"to"`
	State    string    `json:"state"`
	Replicas []Replica `json:"replicas,omitempty"` // while it moves
}

// ForceRecover asks for partitions without a majority to go on; an empty
// address means all.
type ForceRecover struct {
	Address string `json:"address,omitempty"`
	Confirm string `json:"confirm,omitempty"`
}

// Recovery is how a partition goes on that has lost its majority.
type Recovery struct {
	Address  string   `json:"address"`
	Survivor string   `json:"survivor"` // the node whose log goes furthest
	End      int64    `json:"end"`      // offset after all that it holds
	Lost     []string `json:"lost"`     // nodes that do not answer
	KnownEnd int64    `json:"knownEnd"` // the last end that a lost node reported
	MayLose  int64    `json:"mayLose"`  // messages that a lost node is known to have had; more may have come since its last word
	LastWord string   `json:"lastWord"` // when a lost node last reported
}

// Recoveries are what a recovery by force does, or would do.
type Recoveries struct {
	Items []Recovery `json:"items"`
	Done  bool       `json:"done"`
}

// Server is a node as clients reach it.
type Server struct {
	Node string `json:"node"`
	URL  string `json:"url"`
	Up   bool   `json:"up"` // the node that answers hears of it
}
