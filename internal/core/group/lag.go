package group

import (
	"cmp"
	"fmt"
	"math"
	"time"

	"steadyferry/internal/core/words"
)

// Place is where a group is on one partition, and what is known of both.
type Place struct {
	First       int64         // oldest kept offset
	End         int64         // offset after the last message
	Committed   int64         // the group has read all below it
	OldestAge   time.Duration // age of the oldest message that is kept and not read; 0 when there is none
	ArrivalRate float64       // messages a second
	CommitRate  float64       // messages a second
	Held        bool          // a member has the partition
	Members     int           // of the group
	Paused      bool          // the group is
	Quiet       time.Duration // since the group's last commit to the partition, or since it was made

	Retain      time.Duration // how long the partition keeps messages; 0 when it waits for the group
	RetainBytes int64         // how much it keeps
	UnreadBytes int64         // bytes from the committed offset on
	ByteRate    float64       // bytes a second that come in
}

// Lag returns how many kept messages the group has not read.
func (p Place) Lag() int64 { return max(p.End-max(p.Committed, p.First), 0) }

// Lost returns how many messages retention took before the group read them.
func (p Place) Lost() int64 { return max(p.First-p.Committed, 0) }

// State is what a Place comes to, in words.
type State string

// The states, from the best to the worst.
const (
	KeepingUp     State = "keeping-up"
	HoldingOff    State = "not-getting-nearer"
	CatchingUp    State = "catching-up"
	PausedState   State = "paused"
	NoMembers     State = "no-members"
	FallingBehind State = "falling-behind"
	Stopped       State = "stopped"
	Waits         State = "waits" // a route, for what it leads to
	WillLose      State = "will-lose-data"
	HasLost       State = "has-lost"
)

// rank orders the states: a group shows its worst.
var rank = map[State]int{KeepingUp: 0, CatchingUp: 1, HoldingOff: 2, PausedState: 3, NoMembers: 4, FallingBehind: 5, Stopped: 6, Waits: 7, WillLose: 8, HasLost: 9}

// Severity says how bad a state is: 0 is good, and more is worse.
func (s State) Severity() int { return rank[s] }

// OfSeverity returns the state that is as bad as said.
func OfSeverity(severity int) State {
	for s, r := range rank {
		if r == severity {
			return s
		}
	}
	return KeepingUp
}

// Worse compares two states; it is positive when a is worse.
func Worse(a, b State) int { return cmp.Compare(rank[a], rank[b]) }

// Verdict says how a group does on a partition.
type Verdict struct {
	State    State
	ToGo     time.Duration // when catching up: until it has caught up
	LosesIn  time.Duration // until retention passes the committed offset at today's rates; -1 when it does not
	Lost     int64         // messages that retention took before they were read
	Messages int64         // the lag
}

// What counts as what.
const (
	nearEnd   = 10 * time.Second // so young is the oldest unread message of a group that keeps up
	quietTime = 30 * time.Second // after so long without a commit a group that has something to read has stopped
	alike     = 0.05             // rates that differ by less are alike
	warnTime  = 24 * time.Hour   // a loss so near is the verdict of a group that has gone, or has used half of what retention gives
	goneTime  = 10 * time.Minute // after so long without a commit a group has gone
)

// Judge returns the verdict.
func (p Place) Judge() Verdict {
	v := Verdict{Messages: p.Lag(), Lost: p.Lost(), LosesIn: p.losesIn()}
	nearing := p.CommitRate - p.ArrivalRate
	switch {
	case v.Lost > 0:
		v.State = HasLost
	case v.LosesIn >= 0 && v.LosesIn <= warnTime && (p.Members == 0 || p.Quiet >= goneTime || p.halfGone()):
		v.State = WillLose
	case p.Paused:
		v.State = PausedState
	case p.Members == 0:
		v.State = NoMembers
	case v.Messages == 0 || p.OldestAge <= nearEnd:
		v.State = KeepingUp
	case p.CommitRate == 0 && p.Quiet >= quietTime:
		v.State = Stopped
	case nearing > alike*p.CommitRate:
		v.State = CatchingUp
		v.ToGo = seconds(float64(v.Messages) / nearing)
	case -nearing > alike*p.ArrivalRate:
		v.State = FallingBehind
	default:
		v.State = HoldingOff
	}
	return v
}

// halfGone reports whether half of the time or room that retention gives is
// used up: before that, a group that pauses is not in danger.
func (p Place) halfGone() bool {
	return p.Retain > 0 && p.OldestAge > p.Retain/2 || p.RetainBytes > 0 && p.UnreadBytes > p.RetainBytes/2
}

// losesIn computes when retention reaches the first unread message. By age:
// the message has Retain - OldestAge left, while the group moves on through
// the unread ones, which lie as densely as Lag messages in OldestAge. By
// bytes: what is unread may grow up to RetainBytes, and grows by what comes in
// less what the group reads.
func (p Place) losesIn() time.Duration {
	lag := float64(p.Lag())
	if lag == 0 {
		return -1
	}
	soonest := math.Inf(1)
	if age := p.OldestAge.Seconds(); age > 0 && p.Retain > 0 {
		if pace := 1 - p.CommitRate/(lag/age); pace > 0 {
			soonest = max(p.Retain.Seconds()-age, 0) / pace
		}
	}
	if p.RetainBytes > 0 {
		if growth := p.ByteRate - p.CommitRate*float64(p.UnreadBytes)/lag; growth > 0 {
			soonest = min(soonest, max(float64(p.RetainBytes-p.UnreadBytes), 0)/growth)
		}
	}
	return seconds(soonest)
}

// seconds returns a duration, or -1 for one that is beyond a century.
func seconds(s float64) time.Duration {
	if s > 100*365*24*3600 {
		return -1
	}
	return time.Duration(s * float64(time.Second))
}

// Text says the verdict in words.
func (v Verdict) Text() string {
	switch v.State {
	case CatchingUp:
		return fmt.Sprintf("catching up, %s to go", Rough(v.ToGo))
	case WillLose:
		return "will lose data in " + Rough(v.LosesIn)
	case HasLost:
		if v.Lost == 1 {
			return "has lost 1 message"
		}
		return fmt.Sprintf("has lost %s", words.Many(v.Lost, "message"))
	}
	return words.Of(string(v.State))
}

// Rough writes a duration as a person would say it.
func Rough(d time.Duration) string {
	switch {
	case d < 0:
		return "never"
	case d < time.Minute:
		return fmt.Sprintf("%ds", int(math.Ceil(d.Seconds())))
	case d < time.Hour:
		return fmt.Sprintf("%dm", int(d.Minutes()))
	case d < 10*time.Hour:
		if m := int(d.Minutes()) % 60; m > 0 {
			return fmt.Sprintf("%dh %dm", int(d.Hours()), m)
		}
		return fmt.Sprintf("%dh", int(d.Hours()))
	case d < 48*time.Hour:
		return fmt.Sprintf("%dh", int(d.Hours()))
	}
	return fmt.Sprintf("%dd", int(d.Hours()/24))
}

// Worst returns the verdict of a group: the worst of its partitions', with
// their sums. Whether it gets nearer to the end is judged of the whole: a
// member reads its partitions in turn.
func Worst(places []Place, verdicts []Verdict) Verdict {
	worst := Verdict{State: KeepingUp, LosesIn: -1}
	var whole Place
	for i, v := range verdicts {
		p := places[i]
		whole.End += p.Lag()
		whole.OldestAge = max(whole.OldestAge, p.OldestAge)
		whole.ArrivalRate += p.ArrivalRate
		whole.CommitRate += p.CommitRate
		whole.Members = p.Members
		sum, lost, loses, togo := worst.Messages+v.Messages, worst.Lost+v.Lost, worst.LosesIn, max(worst.ToGo, v.ToGo)
		if v.LosesIn >= 0 && (loses < 0 || v.LosesIn < loses) {
			loses = v.LosesIn
		}
		if i == 0 || Worse(v.State, worst.State) > 0 {
			worst.State = v.State
		}
		worst.Messages, worst.Lost, worst.LosesIn, worst.ToGo = sum, lost, loses, togo
	}
	if worst.State == CatchingUp || worst.State == HoldingOff || worst.State == FallingBehind {
		v := whole.Judge()
		worst.State, worst.ToGo = v.State, v.ToGo
	}
	return worst
}
