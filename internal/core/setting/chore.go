package setting

import (
	"time"
)

// Chore is how a chore is set.
type Chore struct {
	At          string   `json:"at,omitempty"`
	Zone        string   `json:"zone,omitempty"`
	EveryMS     int64    `json:"everyMS,omitempty"`
	When        string   `json:"when,omitempty"`
	RestMS      int64    `json:"restMS"`
	Daily       int      `json:"daily"`
	Do          string   `json:"do"`
	Of          string   `json:"of,omitempty"`
	To          string   `json:"to,omitempty"`
	Cause       string   `json:"cause,omitempty"`
	Where       string   `json:"where,omitempty"`
	Limit       int      `json:"limit,omitempty"`
	Rate        float64  `json:"rate"`
	Edits       []string `json:"edits,omitempty"`
	Position    string   `json:"position,omitempty"`
	Why         string   `json:"why,omitempty"`
	Keep        int      `json:"keep"`
	Missed      string   `json:"missed"`
	Tell        []string `json:"tell,omitempty"`
	TellOf      string   `json:"tellOf"`
	Paused      bool     `json:"paused,omitempty"`
	Description string   `json:"description,omitempty"`
}

// AChore is the kind of chores, where things of several kinds are told.
const AChore = "chore"

// What a chore can do.
const (
	DoReturn  = "return"
	DoDiscard = "discard"
	DoReplay  = "replay"
	DoSeek    = "seek"
	DoVerify  = "verify"
	DoExport  = "export"
	DoDeclare = "declare"
	DoReport  = "report"
)

// What is done of runs that were missed, and of which runs somebody is told.
const (
	MissedOnce  = "once"
	MissedSkip  = "skip"
	TellFailure = "failure"
	TellAlways  = "always"
)

// Bounds of chores.
const (
	MaxChoreRate = 50_000
	maxOfChore   = 1 << 30
	maxCron      = 120
	maxKeptFiles = 500
)

// Chores is what can be set on chores.
var Chores = Table[Chore]{
	row(Setting[Chore]{Name: "do", Label: "Does", Form: Choice(DoReturn, DoDiscard, DoReplay, DoSeek, DoVerify, DoExport, DoDeclare, DoReport), Help: "of a chore: `ACT` that it does"}, func(s *Chore) *string { return &s.Do }),
	row(Setting[Chore]{Name: "of", Label: "Of", Form: Patterned(), Help: "of a chore: the `ADDRESS` of what it does it to"}, func(s *Chore) *string { return &s.Of }),
	row(Setting[Chore]{Name: "at", Label: "At", Form: written(Sentence(maxCron), "minute, hour, day of the month, month, day of the week"), Help: "of a chore: `TIMES` at which it runs, as five cron fields"}, func(s *Chore) *string { return &s.At }),
	row(Setting[Chore]{Name: "zone", Label: "In the zone", Default: "UTC", Form: written(Sentence(maxCron), "a zone, such as Europe/Lisbon"), Help: "of a chore: `ZONE` of its times, such as Europe/Lisbon"}, func(s *Chore) *string { return &s.Zone }),
	timed(Setting[Chore]{Name: "every", Label: "Every", Form: Duration(time.Minute, 366*day, "not by a pause"), Help: "of a chore: `DURATION` between its runs"}, time.Millisecond, func(s *Chore) *int64 { return &s.EveryMS }),
	row(Setting[Chore]{Name: "when", Label: "When an incident begins of", Form: Address("watch"), Help: "of a chore: the `ADDRESS` of a watch: it runs when an incident of it begins"}, func(s *Chore) *string { return &s.When }),
	timed(Setting[Chore]{Name: "rest", Label: "Rests between incidents", Default: "10m", Form: Duration(0, 30*day, "not at all"), Help: "of a chore: `DURATION` in which no other incident makes it run"}, time.Millisecond, func(s *Chore) *int64 { return &s.RestMS }),
	row(Setting[Chore]{Name: "daily", Label: "Runs a day by incidents", Default: "12", Form: Number(1, 1000, ""), Help: "of a chore: incidents make it run at most `N` times in 24 hours"}, func(s *Chore) *int { return &s.Daily }),
	row(Setting[Chore]{Name: "to", Label: "To", Form: Address("channel or group"), Help: "of a chore that replays: the `ADDRESS` to which it sends"}, func(s *Chore) *string { return &s.To }),
	row(Setting[Chore]{Name: "cause", Label: "Of the cause", Form: Cause(), Help: "of a chore: `ID` of the cause of the dead letters that it takes"}, func(s *Chore) *string { return &s.Cause }),
	row(Setting[Chore]{Name: "where", Label: "That fulfil", Form: Condition(), Help: "of a chore: it takes only messages with this `CONDITION`"}, func(s *Chore) *string { return &s.Where }),
	row(Setting[Chore]{Name: "limit", Label: "At most", Form: Number(0, maxOfChore, "; 0 for all"), Help: "of a chore: `N` messages at most in one run"}, func(s *Chore) *int { return &s.Limit }),
	row(Setting[Chore]{Name: "rate", Label: "Messages a second", Default: "40", Form: Rate(MaxChoreRate), Help: "of a chore: `RATE` at which it sends"}, func(s *Chore) *float64 { return &s.Rate }),
	row(Setting[Chore]{Name: "edits", AsFlag: "edit", Label: "Edits", Form: Edits(), Help: "of a chore: `EDIT` of what it sends; may be given several times"}, func(s *Chore) *[]string { return &s.Edits }),
	row(Setting[Chore]{Name: "position", Label: "Position", Form: Position(), Help: "of a chore that seeks: the `POSITION` to which it brings a group; of one that replays or exports a topic: where it begins"}, func(s *Chore) *string { return &s.Position }),
	row(Setting[Chore]{Name: "why", Label: "Why", Form: Sentence(MaxDescription), Help: "of a chore: `TEXT`, the reason that is recorded with what it does"}, func(s *Chore) *string { return &s.Why }),
	row(Setting[Chore]{Name: "keep", Label: "Files kept", Default: "9", Form: Number(1, maxKeptFiles, ""), Help: "of a chore that writes files: how many `N` of the newest stay"}, func(s *Chore) *int { return &s.Keep }),
	row(Setting[Chore]{Name: "missed", Label: "Runs missed while no node was up", Default: MissedOnce, Form: Choice(MissedOnce, MissedSkip), Help: "of a chore: `MODE` of what is done of runs that were missed"}, func(s *Chore) *string { return &s.Missed }),
	row(Setting[Chore]{Name: "tell", Label: "Tells", Form: Targets(maxTell), Help: "of a chore: `ADDRESSES` of endpoints that are told of its runs, with commas"}, func(s *Chore) *[]string { return &s.Tell }),
	row(Setting[Chore]{Name: "tellOf", Label: "Tells of", Default: TellFailure, Form: Choice(TellFailure, TellAlways), Help: "of a chore: `MODE` of which runs it tells"}, func(s *Chore) *string { return &s.TellOf }),
	row(Setting[Chore]{Name: "paused", Label: "Paused", Form: Switch(), Help: "a chore does not run by itself"}, func(s *Chore) *bool { return &s.Paused }),
	row(Setting[Chore]{Name: "description", Label: "Description", Form: Sentence(MaxDescription), Help: "`TEXT` that says what it is for"}, func(s *Chore) *string { return &s.Description }),
}
