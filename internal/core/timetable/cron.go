package timetable

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/robfig/cron/v3"
)

// furthest bounds the search for the next time: 29 February may be twelve years away.
const furthest = 13

// clockTimes are the times of five cron fields in a zone. robfig/cron reads the fields; when
// they are next is found here, since what clocks do in spring and in autumn matters:
// a fixed hour goes by the clock on the wall, a time that a change of clocks leaves out comes
// at its end, one that comes twice counts the first time only; and where every hour is meant,
// hours are counted as they pass.
type clockTimes struct {
	minutes, hours, days, months, weekdays uint64 // bits
	anyHour, anyDay, anyWeekday            bool
	zone                                   *time.Location
}

const everyBit = 1 << 63 // which robfig/cron sets for *

var cronFields = []string{"minute", "hour", "day of the month", "month", "day of the week"}

// readClock reads five cron fields.
func readClock(text, zone string) (*clockTimes, error) {
	at, err := time.LoadLocation(zone)
	if err != nil || zone == "Local" {
		return nil, fmt.Errorf("there is no zone %q: names are such as Europe/Lisbon, or UTC", zone)
	}
	if at.String() == "" {
		at = time.UTC
	}
	fields := strings.Fields(text)
	if len(fields) != len(cronFields) || strings.ContainsAny(text, "@=") {
		return nil, fmt.Errorf("%q has %d fields; it needs five: %s, such as 30 3 * * 1-5", text, len(fields), strings.Join(cronFields, ", "))
	}
	if fields[4], err = noSeven(fields[4]); err != nil {
		return nil, err
	}
	read, err := cron.NewParser(cron.Minute | cron.Hour | cron.Dom | cron.Month | cron.Dow).Parse(strings.Join(fields, " "))
	if err != nil {
		return nil, fmt.Errorf("%q: %w", text, err)
	}
	s, ok := read.(*cron.SpecSchedule)
	if !ok {
		return nil, fmt.Errorf("%q is not five fields of times", text)
	}
	return &clockTimes{minutes: s.Minute, hours: s.Hour, days: s.Dom, months: s.Month, weekdays: s.Dow,
		anyHour: s.Hour&everyBit != 0, anyDay: s.Dom&everyBit != 0, anyWeekday: s.Dow&everyBit != 0, zone: at}, nil
}

// noSeven writes the last day of the week as 0, which 7 is too.
func noSeven(field string) (string, error) {
	parts := strings.Split(field, ",")
	for i, part := range parts {
		span, step, stepped := strings.Cut(part, "/")
		from, to, ranged := strings.Cut(span, "-")
		switch {
		case part == "7":
			parts[i] = "0"
		case ranged && to == "7":
			first, e1 := strconv.Atoi(from)
			by, e2 := 1, error(nil)
			if stepped {
				by, e2 = strconv.Atoi(step)
			}
			if e1 != nil || e2 != nil || first < 0 || first > 7 || by < 1 {
				return "", fmt.Errorf("%q are no days of the week: 0 to 7, or sun to sat", part)
			}
			days := []string{}
			for d := first; d <= 7; d += by {
				days = append(days, strconv.Itoa(d%7))
			}
			parts[i] = strings.Join(days, ",")
		case slices.Contains([]string{from, to}, "7"):
			return "", fmt.Errorf("%q are no days of the week: 0 to 7, or sun to sat", part)
		}
	}
	return strings.Join(parts, ","), nil
}

func has(bits uint64, n int) bool { return bits&(1<<uint(n)) != 0 }

// onDay reports whether a day is meant: with both kinds of days, either suffices.
func (c *clockTimes) onDay(year int, month time.Month, day int) bool {
	if !has(c.months, int(month)) {
		return false
	}
	inMonth := has(c.days, day)
	inWeek := has(c.weekdays, int(time.Date(year, month, day, 12, 0, 0, 0, time.UTC).Weekday()))
	if c.anyDay || c.anyWeekday {
		return inMonth && inWeek
	}
	return inMonth || inWeek
}

// next returns the first of its times behind one, zero when there is none.
func (c *clockTimes) next(after time.Time) time.Time {
	if c.anyHour {
		return c.nextPassing(after)
	}
	local := after.In(c.zone)
	year, month, day := local.Date()
	// A day before: where a zone leaves a day out, its times come at the end of the gap.
	for n := -1; n < furthest*366; n++ {
		y, m, d := time.Date(year, month, day+n, 12, 0, 0, 0, time.UTC).Date()
		if !c.onDay(y, m, d) {
			continue
		}
		for hour := range 24 {
			if !has(c.hours, hour) {
				continue
			}
			for minute := range 60 {
				if has(c.minutes, minute) {
					if at := c.wall(y, m, d, hour, minute); at.After(after) {
						return at
					}
				}
			}
		}
	}
	return time.Time{}
}

// nextPassing is next where every hour is meant.
func (c *clockTimes) nextPassing(after time.Time) time.Time {
	at := after.Truncate(time.Minute).Add(time.Minute)
	end := after.AddDate(furthest, 0, 0)
	for at.Before(end) {
		local := at.In(c.zone)
		year, month, day := local.Date()
		switch {
		case !c.onDay(year, month, day):
			// Not far enough is looked at again; too far would leave something out.
			at = at.Add(max(time.Duration(22-local.Hour())*time.Hour, time.Minute*time.Duration(60-local.Minute())))
		case !has(c.minutes, local.Minute()):
			at = at.Add(time.Minute)
		default:
			return at
		}
	}
	return time.Time{}
}

// wall is when clocks on the wall show a time: the first time of two, or the end of the gap
// that it falls into.
func (c *clockTimes) wall(year int, month time.Month, day, hour, minute int) time.Time {
	shown := time.Date(year, month, day, hour, minute, 0, 0, time.UTC)
	// No zone is farther than a day from UTC, and changes are days apart.
	_, before := shown.Add(-26 * time.Hour).In(c.zone).Zone()
	_, behind := shown.Add(26 * time.Hour).In(c.zone).Zone()
	found := time.Time{}
	for _, offset := range []int{before, behind} {
		at := shown.Add(-time.Duration(offset) * time.Second)
		if _, is := at.In(c.zone).Zone(); is == offset && (found.IsZero() || at.Before(found)) {
			found = at
		}
	}
	if found.IsZero() {
		found, _ = shown.Add(-time.Duration(before) * time.Second).In(c.zone).ZoneBounds()
	}
	return found.UTC()
}
