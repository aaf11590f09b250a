package watch_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/setting"
	"steadyferry/internal/core/watch"
)

func TestWhenSomebodyIsTold(t *testing.T) {
	night := time.Date(2026, 11, 28, 23, 0, 0, 0, time.UTC)
	day := time.Date(2026, 11, 28, 12, 0, 0, 0, time.UTC)
	told := func(before time.Duration, as watch.Level) watch.Told { return watch.Told{At: day.Add(-before), As: as} }
	w := setting.Watch{RepeatMS: time.Hour.Milliseconds(), Quiet: "22:00..06:30 UTC"}
	telling, err := watch.NewTelling(&w)
	require.NoError(t, err)
	for name, c := range map[string]struct {
		now    time.Time
		is     watch.Happening
		told   watch.Told
		wanted watch.Word
	}{
		"the first word":             {day, watch.Happening{Level: watch.Warn}, watch.Told{}, watch.TellBegins},
		"it was told":                {day, watch.Happening{Level: watch.Warn}, told(time.Minute, watch.Warn), watch.TellNothing},
		"it rises":                   {day, watch.Happening{Level: watch.Alarm}, told(time.Minute, watch.Warn), watch.TellRises},
		"it falls":                   {day, watch.Happening{Level: watch.Warn}, told(time.Minute, watch.Alarm), watch.TellFalls},
		"it goes on":                 {day, watch.Happening{Level: watch.Warn}, told(time.Hour, watch.Warn), watch.TellGoesOn},
		"somebody has seen it":       {day, watch.Happening{Level: watch.Warn, Seen: true}, told(time.Hour, watch.Warn), watch.TellNothing},
		"seen, and it rises":         {day, watch.Happening{Level: watch.Alarm, Seen: true}, told(time.Hour, watch.Warn), watch.TellRises},
		"silenced":                   {day, watch.Happening{Level: watch.Alarm, Silenced: true}, watch.Told{}, watch.TellNothing},
		"a warning at night":         {night, watch.Happening{Level: watch.Warn}, watch.Told{}, watch.TellNothing},
		"an alarm at night":          {night, watch.Happening{Level: watch.Alarm}, watch.Told{}, watch.TellBegins},
		"its end":                    {day, watch.Happening{}, told(time.Minute, watch.Warn), watch.TellEnds},
		"its end at night, silenced": {night, watch.Happening{Silenced: true}, told(time.Minute, watch.Warn), watch.TellEnds},
		"its end was told":           {day, watch.Happening{}, watch.Told{At: day, Ended: true}, watch.TellNothing},
		"nobody knew of it":          {day, watch.Happening{}, watch.Told{}, watch.TellNothing},
	} {
		assert.Equal(t, c.wanted, telling.Due(c.now, c.is, c.told), name)
	}
	w.RepeatMS = 0
	telling, err = watch.NewTelling(&w)
	require.NoError(t, err)
	assert.Equal(t, watch.TellNothing, telling.Due(day, watch.Happening{Level: watch.Warn}, told(1000*time.Hour, watch.Warn)), "never again")
}

// Quiet hours are those of the place, over the nights in which its clocks are changed too.
func TestQuietHours(t *testing.T) {
	telling, err := watch.NewTelling(&setting.Watch{Quiet: "22:00..06:30 Europe/Lisbon"})
	require.NoError(t, err)
	lisbon, err := time.LoadLocation("Europe/Lisbon")
	require.NoError(t, err)
	for text, quiet := range map[string]bool{
		"2026-03-28 21:59": false, "2026-03-28 22:00": true, "2026-03-29 00:30": true, "2026-03-29 02:30": true, "2026-03-29 06:29": true, "2026-03-29 06:30": false,
		"2026-10-24 22:00": true, "2026-10-25 01:30": true, "2026-10-25 06:29": true, "2026-10-25 06:30": false, "2026-10-25 12:00": false,
	} {
		at, err := time.ParseInLocation("2006-01-02 15:04", text, lisbon)
		require.NoError(t, err)
		assert.Equal(t, quiet, telling.Due(at, watch.Happening{Level: watch.Warn}, watch.Told{}) == watch.TellNothing, text)
	}
	day, err := watch.NewTelling(&setting.Watch{Quiet: "12:00..13:00 UTC"})
	require.NoError(t, err)
	assert.Equal(t, watch.TellNothing, day.Due(time.Date(2026, 1, 1, 12, 59, 0, 0, time.UTC), watch.Happening{Level: watch.Warn}, watch.Told{}))
	for _, text := range []string{"22:00", "22:00..06:30", "22..6 UTC", "22:00..22:00 UTC", "22:00..06:30 Nowhere/City", "22:00..06:30 Local", "x"} {
		_, err := watch.NewTelling(&setting.Watch{Quiet: text})
		assert.ErrorContains(t, err, "HH:MM..HH:MM and a zone", text)
	}
}
