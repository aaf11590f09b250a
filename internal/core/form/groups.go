package form

import "time"

// NewGroup asks for a consumer group or a route.
type NewGroup struct {
	Group string
	Kind  string // group, route
	From  string // a position; when left out first for a group and end for a route
	Settings
}

// MarshalJSON puts the settings beside the name and the position.
func (n NewGroup) MarshalJSON() ([]byte, error) {
	return n.Settings.with(map[string]any{"group": n.Group, "kind": n.Kind, "from": n.From})
}

// Group is a consumer group and where it is.
type Group struct {
	Address     string    `json:"address"`
	Channel     string    `json:"channel"`
	Group       string    `json:"group"`
	Description string    `json:"description"`
	Paused      bool      `json:"paused"`
	Expire      string    `json:"expire"`
	CreatedAt   time.Time `json:"createdAt"`
	Round       uint64    `json:"round"`
	Members     int       `json:"memberCount"`
	Lag         int64     `json:"lag"`        // messages that it has not read
	LagSeconds  float64   `json:"lagSeconds"` // age of the oldest of them
	CommitRate  float64   `json:"commitRate"` // messages a second
	ArrivalRate float64   `json:"arrivalRate"`
	State       string    `json:"state"`    // of its worst partition
	Severity    int       `json:"severity"` // how bad the state is: 0 is good
	Verdict     string    `json:"verdict"`  // in words
	LosesIn     *float64  `json:"losesIn"`  // seconds until retention passes it at today's rates; null: it does not
	Lost        int64     `json:"lost"`     // messages that retention took unread

	Kind  string   `json:"kind"` // group, route
	To    string   `json:"to,omitempty"`
	Where string   `json:"where,omitempty"`
	Edits []string `json:"edits,omitempty"`

	// Only when one group is asked for.
	Declared   *Declaration   `json:"declared,omitempty"` // by which files, if any
	Partitions []PartitionLag `json:"partitions,omitempty"`
	Each       []MemberInfo   `json:"members,omitempty"`
	Work       []RouteWork    `json:"work,omitempty"`   // of a route
	Outage     int64          `json:"outage,omitempty"` // dead letters of a route because the endpoint was out of order for too long
}

// RouteWork is how a route does on a partition of its source, since the node that
// leads it does so.
type RouteWork struct {
	Partition int           `json:"partition"`
	Node      string        `json:"node"` // that does the work; empty: nobody tells of it
	Decided   int64         `json:"decided"`
	Sent      int64         `json:"sent"`
	Dead      int64         `json:"dead"` // that became dead letters
	Waiting   *RouteWaiting `json:"waiting,omitempty"`
}

// RouteWaiting says why a route stands still.
type RouteWaiting struct {
	Reason string    `json:"reason"` // paused, target-paused, target-away, target-missing, source-unreadable, terms-unreadable, endpoint-failing, endpoint-paused, endpoint-retry, endpoint-secrets
	Why    string    `json:"why"`
	Since  time.Time `json:"since"`
}

// PartitionLag is where a group is on a partition.
type PartitionLag struct {
	Group       string     `json:"group"` // address
	Partition   int        `json:"partition"`
	First       int64      `json:"first"`
	Committed   int64      `json:"committed"`
	End         int64      `json:"end"`
	Lag         int64      `json:"lag"`
	LagSeconds  float64    `json:"lagSeconds"`
	MemberID    string     `json:"memberId"` // "" for nobody
	Member      string     `json:"member"`   // what it calls itself
	CommittedAt *time.Time `json:"committedAt"`
	CommitRate  float64    `json:"commitRate"`
	ArrivalRate float64    `json:"arrivalRate"`
	State       string     `json:"state"`
	Verdict     string     `json:"verdict"`
	LosesIn     *float64   `json:"losesIn"`
	Lost        int64      `json:"lost"`
}

// MemberInfo is a live member of a group.
type MemberInfo struct {
	MemberID   string    `json:"memberId"`
	Member     string    `json:"member"`
	Timeout    string    `json:"timeout"`
	Joined     time.Time `json:"joined"`
	Partitions []int     `json:"partitions"`
	Leaving    []int     `json:"leaving"` // that it is to give up
}

// JoinGroup asks to become a member.
type JoinGroup struct {
	From    string `json:"from,omitempty"`    // where the group begins if it does not exist; without it, it must
	Timeout string `json:"timeout,omitempty"` // the member is removed after so long without a word; 15s
	Member  string `json:"member,omitempty"`  // what it calls itself
}

// Membership is a member's share of the partitions.
type Membership struct {
	MemberID   string `json:"memberId"`
	Round      uint64 `json:"round"`
	Timeout    string `json:"timeout"`
	Paused     bool   `json:"paused"` // the group is: nothing is to be read
	Partitions []Held `json:"partitions"`
	Leaving    []int  `json:"leaving"`        // to be committed and given up
	Made       bool   `json:"made,omitempty"` // the group was made by this join
}

// Held is a partition that a member reads.
type Held struct {
	Partition int    `json:"partition"`
	Offset    int64  `json:"offset"` // committed
	Round     uint64 `json:"round"`  // when the member got it, or its offset was moved
}

// Beat tells that a member lives.
type Beat struct {
	Round  uint64 `json:"round"` // that it knows
	Paused bool   `json:"paused,omitempty"`
	Holds  []int  `json:"holds"`          // partitions that it still works on
	Wait   string `json:"wait,omitempty"` // for another share
}

// Next asks for messages of a member's share.
type Next struct {
	Max    int    `json:"max,omitempty"`    // 100
	Wait   string `json:"wait,omitempty"`   // for the first message
	UpTo   string `json:"upTo,omitempty"`   // that of the last answer that arrived; what came behind it is handed out again
	Commit bool   `json:"commit,omitempty"` // all up to there
}

// Given are messages of a member's share.
type Given struct {
	Membership
	Messages []Message `json:"messages"`
	Gone     []Gone    `json:"gone,omitempty"`
	UpTo     string    `json:"upTo"` // to be named in the next call
}

// Gone tells that retention took messages before the group read them.
type Gone struct {
	Partition int   `json:"partition"`
	From      int64 `json:"from"`
	To        int64 `json:"to"`
}

// OffsetOf is an offset of a partition: the next one to read.
type OffsetOf struct {
	Partition int   `json:"partition"`
	Offset    int64 `json:"offset"`
}

// Commit records how far a member has read.
type Commit struct {
	Round   uint64     `json:"round"`
	Offsets []OffsetOf `json:"offsets"`
}

// Reject sets a message aside that cannot be processed.
type Reject struct {
	Partition int    `json:"partition"`
	Offset    int64  `json:"offset"`
	Reason    string `json:"reason"`
	Detail    string `json:"detail,omitempty"`
}

// Rejected tells where a message that was set aside is kept.
type Rejected struct {
	Address string `json:"address"`
}

// Seek asks for a group's offsets to be moved.
type Seek struct {
	To           string `json:"to,omitempty"` // a position
	Partition    *int   `json:"partition,omitempty"`
	Undo         bool   `json:"undo,omitempty"` // back to before the last seek
	WhileRunning bool   `json:"whileRunning,omitempty"`
	Why          string `json:"why,omitempty"`
	Last         *int64 `json:"last,omitempty"` // the newest seek that was there at the preview
}

// SeekResult is what a seek does.
type SeekResult struct {
	Seek    int64      `json:"seek"` // its number, once it is done
	Last    int64      `json:"last"`
	Target  string     `json:"target"`
	Members int        `json:"members"` // live ones
	Again   int64      `json:"again"`   // messages that are read again
	Skipped int64      `json:"skipped"` // messages that are not read
	Done    bool       `json:"done"`
	Steps   []SeekStep `json:"steps"`
}

// SeekStep is what it does to a partition.
type SeekStep struct {
	Partition int        `json:"partition"`
	First     int64      `json:"first"`
	End       int64      `json:"end"`
	From      int64      `json:"from"`
	To        int64      `json:"to"`
	Messages  int64      `json:"messages"` // to less from
	FromTime  *time.Time `json:"fromTime"`
	ToTime    *time.Time `json:"toTime"`
	Again     int64      `json:"again"`
	Skipped   int64      `json:"skipped"`
	Note      string     `json:"note,omitempty"`
}

// PastSeek is one change of a group's offsets by hand.
type PastSeek struct {
	Seek   int64      `json:"seek"`
	At     time.Time  `json:"at"`
	Who    string     `json:"who"`
	Why    string     `json:"why"`
	Target string     `json:"target"`
	Undoes *int64     `json:"undoes"` // the move that it took back
	Undone bool       `json:"undone"`
	Steps  []SeekStep `json:"steps"`
}

// LagSample is where a group was.
type LagSample struct {
	At          time.Time `json:"at"`
	Lag         int64     `json:"lag"`
	LagSeconds  float64   `json:"lagSeconds"`
	ArrivalRate float64   `json:"arrivalRate"` // since the sample before
	CommitRate  float64   `json:"commitRate"`
	Partitions  []int64   `json:"partitions"` // the lag of each
}
