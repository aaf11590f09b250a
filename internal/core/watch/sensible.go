package watch

import (
	"time"

	"steadyferry/internal/core/address"
	"steadyferry/internal/core/sample"
	"steadyferry/internal/core/setting"
)

// Sensible is a watch that comes with every space, or with the nodes.
type Sensible struct {
	Name   string
	Value  string
	Warn   string
	Alarm  string
	For    time.Duration
	Reason string // why these figures
}

// OfSpaces are the watches that come with every space, each of all that is in it, or of the space.
var OfSpaces = []Sensible{
	{"dead-letters", "dead", "1", "100", 30 * time.Second, "a dead letter goes nowhere by itself: somebody has to look at it; a hundred are no accident of one message"},
	{"dying", "dead-rate", "0.5", "5", time.Minute, "messages that fail one behind the other mean a member or a publisher that is broken now"},
	{"old-work", "oldest-waiting", "15m", "2h", time.Minute, "work that nobody takes for a quarter of an hour has no member, or too few"},
	{"long-leases", "leased-long", "3h", "", time.Minute, "a member that extends a lease for hours is likely to hang"},
	{"behind", "lag-age", "15m", "2h", 2 * time.Minute, "a reader that is a quarter of an hour behind serves old data"},
	{"losing", "loses-data-in", "1d", "3h", time.Minute, "retention takes what a group has not read: a day leaves time to mend the reader, three hours to lengthen retention"},
	{"routes", "route-waiting", "5m", "45m", 30 * time.Second, "a route waits for a moment when its target restarts; longer, somebody has to look"},
	{"endpoints", "endpoint-failing", "3m", "30m", 30 * time.Second, "outages of a minute end by themselves; half an hour is one that its owner should know of"},
	{"certificates", "certificate-left", "21d", "4d", time.Minute, "a place outside is asked for another certificate in time, or gets one of ours"},
	{"replicas", "replicas-missing", "1", "", 2 * time.Minute, "a node that restarts is back within two minutes; after that one more loss may stop writing"},
	{"leaders", "leaderless", "", "1", 20 * time.Second, "nothing can be written or leased; another leader is elected within a second or two if one can be"},
	{"bounds", "bound-used", "80%", "97%", time.Minute, "who has four fifths of what its space may have has time to ask for more; at the end its publishers wait or are refused"},
}

// OfNodes are the watches of the nodes.
var OfNodes = []Sensible{
	{"away", "node-away", "45s", "10m", 20 * time.Second, "a restart takes less; after ten minutes the node will not come back by itself"},
	{"disks", "disk-free", "8GiB", "2GiB", time.Minute, "publishing stops when the reserve is reached; at 100 MB/s two gigabytes last 20 seconds, eight more than a minute"},
	{"records", "catalog-away", "40s", "5m", 20 * time.Second, "messages flow without the records, but nothing can be changed or committed"},
	{"certificates", "certificate-left", "21d", "4d", time.Minute, "three weeks leave time to order one, four days to do it by hand"},
	{"owner", "owner-used", "1", "", time.Minute, "the owner may do everything, and is for the first day and for emergencies: people and machines have rights of their own"},
	{"glass", "glass-broken", "1", "", 0, "somebody sees contents that are hidden from it otherwise: those who look after them are told at once"},
	{"seconds", "seconds-waiting", "1", "", 0, "somebody has asked for something that takes a second person, who has an hour to confirm it: ferry access waiting"},
}

// Settings are those of the watch in a space.
func (s *Sensible) Settings(space string) setting.Watch {
	w := setting.Watch{}
	setting.Watches.SetDefaults(&w, "")
	w.Of, w.Value, w.Warn, w.Alarm, w.ForMS, w.Description = space+"/*", s.Value, s.Warn, s.Alarm, s.For.Milliseconds(), s.Reason
	if sample.Space.Place(s.Value) >= 0 {
		w.Of = space
	}
	return w
}

// SensibleOf are the watches that come with a space, or with address.Nodes.
func SensibleOf(space string) []Sensible {
	if space == address.Nodes {
		return OfNodes
	}
	return OfSpaces
}
