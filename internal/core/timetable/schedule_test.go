package timetable

import (
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/setting"
)

func at(t *testing.T, text string) time.Time {
	t.Helper()
	when, err := time.Parse(time.RFC3339, text)
	require.NoError(t, err)
	return when.UTC()
}

func TestNextGoesByTheClockOnTheWall(t *testing.T) {
	for _, one := range []struct{ what, cron, zone, after, next string }{
		{"the same day", "0 3 * * *", "Europe/Lisbon", "2026-11-28T02:59:30Z", "2026-11-28T03:00:00Z"},
		{"the next day", "0 3 * * *", "Europe/Lisbon", "2026-11-28T03:00:00Z", "2026-11-29T03:00:00Z"},
		{"in summer", "0 3 * * *", "Europe/Lisbon", "2026-07-01T03:00:00Z", "2026-07-02T02:00:00Z"},
		{"a time that is left out comes at the end of the gap", "30 1 * * *", "Europe/Lisbon", "2026-03-28T12:00:00Z", "2026-03-29T01:00:00Z"},
		{"and the day after as always", "30 1 * * *", "Europe/Lisbon", "2026-03-29T01:00:00Z", "2026-03-30T00:30:00Z"},
		{"a time that comes twice counts the first time", "30 1 * * *", "Europe/Lisbon", "2026-10-24T12:00:00Z", "2026-10-25T00:30:00Z"},
		{"and not the second", "30 1 * * *", "Europe/Lisbon", "2026-10-25T00:30:00Z", "2026-10-26T01:30:00Z"},
		{"every hour passes through both", "30 * * * *", "Europe/Lisbon", "2026-10-25T00:30:00Z", "2026-10-25T01:30:00Z"},
		{"half an hour is left out", "15 2 * * *", "Australia/Lord_Howe", "2026-10-03T00:00:00Z", "2026-10-03T15:30:00Z"},
		{"a leap day", "0 0 29 2 *", "UTC", "2026-01-01T00:00:00Z", "2028-02-29T00:00:00Z"},
		{"either kind of day", "0 0 13 * 5", "UTC", "2026-11-13T00:00:00Z", "2026-11-20T00:00:00Z"},
		{"sunday is 7", "0 0 * * 7", "UTC", "2026-11-28T00:00:00Z", "2026-11-29T00:00:00Z"},
		{"friday to sunday", "0 0 * * 5-7", "UTC", "2026-11-29T00:00:00Z", "2026-12-04T00:00:00Z"},
		{"every second day to 7", "0 0 * * 1-7/2", "UTC", "2026-11-28T00:00:00Z", "2026-11-29T00:00:00Z"},
		{"names", "0 0 * feb mon", "UTC", "2026-11-28T00:00:00Z", "2027-02-01T00:00:00Z"},
		{"a day that a zone leaves out", "0 12 30 12 *", "Pacific/Apia", "2011-12-30T00:00:00Z", "2011-12-30T10:00:00Z"},
	} {
		s, err := New(&setting.Chore{At: one.cron, Zone: one.zone}, at(t, one.after))
		require.NoError(t, err, one.what)
		assert.Equal(t, at(t, one.next), s.Next(at(t, one.after)).UTC(), one.what)
	}
}

// Over changes of clocks each time is what a slow look at every minute finds.
func TestNextIsWhatEveryMinuteFinds(t *testing.T) {
	zones := []string{"UTC", "Europe/Lisbon", "America/St_Johns", "Australia/Lord_Howe", "Africa/Casablanca", "Pacific/Chatham", "America/Sao_Paulo", "Asia/Kathmandu", "Pacific/Apia"}
	rnd := rand.New(rand.NewPCG(7, 14))
	pick := func(some ...string) string { return some[rnd.IntN(len(some))] }
	for n := range 220 {
		cron := fmt.Sprintf("%s %s %s %s %s", pick("0", "30", "*/20", "5,45"), pick("*", "*", "0", "1", "2", "1-3", "*/6", "23"), pick("*", "*", "1", "*/5"), pick("*", "*", "3-4,9-11"), pick("*", "*", "0", "1-5", "6-7"))
		zone := zones[n%len(zones)]
		from := time.Date(2009+rnd.IntN(20), time.Month([]int{2, 3, 3, 4, 9, 10, 10, 11}[rnd.IntN(8)]), 1+rnd.IntN(28), rnd.IntN(24), rnd.IntN(60), rnd.IntN(60), 0, time.UTC)
		c, err := readClock(cron, zone)
		require.NoError(t, err, cron)
		want := everyMinute(c, from, from.Add(9*24*time.Hour))
		got := []time.Time{}
		for next := c.next(from); !next.IsZero() && !next.After(from.Add(9*24*time.Hour)); next = c.next(next) {
			got = append(got, next.UTC())
		}
		require.Equal(t, want, got, "%s in %s from %s", cron, zone, from)
	}
}

// everyMinute looks at each minute: what the wall shows then, what it has shown before, and
// what it leaves out.
func everyMinute(c *clockTimes, from, to time.Time) []time.Time {
	all := []time.Time{}
	shown := map[string]bool{}
	meant := func(w time.Time) bool {
		return has(c.minutes, w.Minute()) && has(c.hours, w.Hour()) && c.onDay(w.Date())
	}
	wall := func(x time.Time) time.Time {
		l := x.In(c.zone)
		return time.Date(l.Year(), l.Month(), l.Day(), l.Hour(), l.Minute(), 0, 0, time.UTC)
	}
	for x := from.Add(-30 * time.Hour).Truncate(time.Minute); !x.After(to); x = x.Add(time.Minute) {
		now, before := wall(x), wall(x.Add(-time.Minute))
		fires := meant(now) && (c.anyHour || !shown[now.String()])
		shown[now.String()] = true
		if !c.anyHour {
			for left := before.Add(time.Minute); left.Before(now); left = left.Add(time.Minute) {
				fires = fires || meant(left)
			}
		}
		if fires && x.After(from) {
			all = append(all, x.UTC())
		}
	}
	return all
}

func TestWhatIsNoTimeIsRefused(t *testing.T) {
	for _, one := range []struct{ cron, zone, says string }{
		{"0 3 * *", "UTC", "4 fields"},
		{"@daily", "UTC", "five"},
		{"TZ=UTC 0 3 * * *", "UTC", "five"},
		{"0 25 * * *", "UTC", "25"},
		{"0 3 * * 8", "UTC", "8"},
		{"0 3 * * 7-2", "UTC", "days of the week"},
		{"0 3 31 2 *", "UTC", "never"},
		{"0 3 * * *", "Europe/Lissabon", "there is no zone"},
		{"0 3 * * *", "Local", "there is no zone"},
	} {
		_, err := New(&setting.Chore{At: one.cron, Zone: one.zone}, time.Now())
		assert.ErrorContains(t, err, one.says, one.cron)
	}
	_, err := New(&setting.Chore{}, time.Now())
	assert.ErrorContains(t, err, "0 ways")
	_, err = New(&setting.Chore{At: "0 3 * * *", EveryMS: 60_000}, time.Now())
	assert.ErrorContains(t, err, "2 ways")
}

func TestWhatWasMissedRunsOnceOrNotAtAll(t *testing.T) {
	from := at(t, "2026-11-28T00:00:00Z")
	hourly := setting.Chore{EveryMS: time.Hour.Milliseconds(), Missed: setting.MissedOnce}
	for _, one := range []struct {
		what   string
		missed string
		now    string
		want   Due
	}{
		{"nothing is due", setting.MissedOnce, "2026-11-28T00:59:59Z", Due{}},
		{"in time", setting.MissedOnce, "2026-11-28T01:00:00Z", Due{At: at(t, "2026-11-28T01:00:00Z"), Run: true}},
		{"three were missed", setting.MissedOnce, "2026-11-28T04:30:00Z", Due{At: at(t, "2026-11-28T04:00:00Z"), Run: true, Missed: 3}},
		{"and are skipped", setting.MissedSkip, "2026-11-28T04:30:00Z", Due{At: at(t, "2026-11-28T04:00:00Z"), Missed: 4}},
		{"but not that which is due", setting.MissedSkip, "2026-11-28T04:00:50Z", Due{At: at(t, "2026-11-28T04:00:00Z"), Run: true, Missed: 3}},
		{"a clock that went back a little", setting.MissedOnce, "2026-11-27T23:59:30Z", Due{}},
		{"one that was wrong once", setting.MissedOnce, "2026-11-27T20:00:00Z", Due{At: at(t, "2026-11-27T20:00:00Z")}},
	} {
		c := hourly
		c.Missed = one.missed
		s, err := New(&c, from)
		require.NoError(t, err)
		assert.Equal(t, one.want, s.Decide(from, at(t, one.now)), one.what)
	}
	minutely, err := New(&setting.Chore{At: "* * * * *", Zone: "UTC", Missed: setting.MissedOnce}, from)
	require.NoError(t, err)
	d := minutely.Decide(from, from.AddDate(3, 0, 0).Add(20*time.Second))
	assert.Equal(t, Due{At: from.AddDate(3, 0, 0), Run: true, Missed: mostCounted}, d, "three years of minutes are not counted one by one")
}

func TestIncidentsMakeARunAtMostSoOften(t *testing.T) {
	s, err := New(&setting.Chore{When: "coldchain/dead-inspections", RestMS: 600_000, Daily: 2}, time.Now())
	require.NoError(t, err)
	now := time.Now()
	assert.Equal(t, "coldchain/dead-inspections", s.Watch())
	assert.True(t, s.Next(now).IsZero())
	assert.True(t, s.Incident(now, nil))
	assert.False(t, s.Incident(now, []time.Time{now.Add(-5 * time.Minute)}), "it rests")
	assert.True(t, s.Incident(now, []time.Time{now.Add(-5 * time.Hour), now.Add(-25 * time.Hour)}))
	assert.False(t, s.Incident(now, []time.Time{now.Add(-5 * time.Hour), now.Add(-23 * time.Hour)}), "twice a day")
}

// Whatever is given as times is read or refused, and what is read has an end.
func FuzzReadClock(f *testing.F) {
	for _, cron := range []string{"0 3 * * *", "*/5 1-7/2 29 2 5-7", "0 0 31 4 7", "1,2 * ? * *"} {
		f.Add(cron, "Europe/Lisbon")
	}
	f.Fuzz(func(t *testing.T, cron, zone string) {
		c, err := readClock(cron, zone)
		if err != nil {
			return
		}
		after := time.Date(2026, 11, 28, 3, 0, 0, 0, time.UTC)
		if next := c.next(after); !next.IsZero() && !next.After(after) {
			t.Fatalf("%q in %q: %s is not behind %s", cron, zone, next, after)
		}
	})
}
