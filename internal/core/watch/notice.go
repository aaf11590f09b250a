package watch

import (
	"fmt"
	"strings"
	"time"

	"steadyferry/internal/core/setting"
)

// Telling is how a watch tells of its incidents.
type Telling struct {
	Endpoints []string      // addresses; none: nobody is told
	Repeat    time.Duration // while an incident goes on and nobody has seen it; 0: never
	Hourly    int           // notices at most
	quiet     *quiet        // in which nobody is told of warnings
}

// NewTelling reads it of the settings of a watch.
func NewTelling(w *setting.Watch) (*Telling, error) {
	t := &Telling{Endpoints: w.Tell, Repeat: time.Duration(w.RepeatMS) * time.Millisecond, Hourly: w.Hourly}
	if w.Quiet == "" {
		return t, nil
	}
	var err error
	t.quiet, err = parseQuiet(w.Quiet)
	return t, err
}

// Word is what an incident is told as.
type Word string

// The words. Of what ends before anybody was told of it nobody is.
const (
	TellNothing Word = ""
	TellBegins  Word = "begins"
	TellRises   Word = "rises"
	TellFalls   Word = "falls"
	TellGoesOn  Word = "goes-on"
	TellEnds    Word = "ends"
)

// Told is what was told of an incident; the zero Told is nothing.
type Told struct {
	At    time.Time
	As    Level
	Ended bool
}

// Happening is an incident as it is now, for whether somebody is to be told.
type Happening struct {
	Level    Level // Calm: it has ended
	Seen     bool  // somebody has acknowledged it
	Silenced bool
}

// Due says as what an incident is to be told now.
func (t *Telling) Due(now time.Time, is Happening, told Told) Word {
	switch {
	case is.Level == Calm && !told.At.IsZero() && !told.Ended:
		return TellEnds
	case is.Level == Calm, is.Silenced, is.Level == Warn && t.quiet.covers(now):
		return TellNothing
	case told.At.IsZero():
		return TellBegins
	case is.Level > told.As:
		return TellRises
	case is.Level < told.As:
		return TellFalls
	case t.Repeat > 0 && !is.Seen && now.Sub(told.At) >= t.Repeat:
		return TellGoesOn
	}
	return TellNothing
}

// quiet is hours of each day by the clock of a place.
type quiet struct {
	from, to time.Duration // since midnight; to may be on the next day
	zone     *time.Location
}

// parseQuiet reads hours such as 22:00..06:30 Europe/Lisbon.
func parseQuiet(text string) (*quiet, error) {
	wrong := fmt.Errorf("quiet is %q; allowed: HH:MM..HH:MM and a zone, such as 22:00..06:30 Europe/Lisbon", text)
	hours, zone, _ := strings.Cut(text, " ")
	from, to, both := strings.Cut(hours, "..")
	q := &quiet{}
	var err error
	if !both || zone == "" || zone == "Local" {
		return nil, wrong
	}
	if q.zone, err = time.LoadLocation(zone); err != nil {
		return nil, wrong
	}
	for text, into := range map[string]*time.Duration{from: &q.from, to: &q.to} {
		at, err := time.Parse("15:04", text)
		if err != nil || len(text) != 5 {
			return nil, wrong
		}
		*into = time.Duration(at.Hour())*time.Hour + time.Duration(at.Minute())*time.Minute
	}
	if from == to {
		return nil, wrong
	}
	return q, nil
}

// covers reports whether a time is in the hours: by the wall clock, so that they begin and end
// at the same hour when clocks are changed.
func (q *quiet) covers(at time.Time) bool {
	if q == nil {
		return false
	}
	local := at.In(q.zone)
	since := time.Duration(local.Hour())*time.Hour + time.Duration(local.Minute())*time.Minute
	if q.from < q.to {
		return since >= q.from && since < q.to
	}
	return since >= q.from || since < q.to
}
