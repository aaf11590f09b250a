package group

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

const day = 24 * time.Hour

// base is a group that reads 10 messages a second as they come.
func base(change func(*Place)) Place {
	p := Place{First: 1000, End: 100_000, Committed: 100_000, ArrivalRate: 10, CommitRate: 10, Held: true, Members: 2, Retain: 7 * day, RetainBytes: 10 << 30, ByteRate: 1000}
	change(&p)
	if p.UnreadBytes == 0 {
		p.UnreadBytes = 100 * p.Lag()
	}
	return p
}

func TestVerdicts(t *testing.T) {
	for name, c := range map[string]struct {
		place Place
		want  string
		loses time.Duration
	}{
		"all read":            {base(func(p *Place) {}), "keeping up", -1},
		"a moment behind":     {base(func(p *Place) { p.Committed -= 40; p.OldestAge = 4 * time.Second }), "keeping up", -1},
		"twice as fast":       {base(func(p *Place) { p.Committed -= 6000; p.OldestAge = 10 * time.Minute; p.CommitRate = 20 }), "catching up, 10m to go", -1},
		"half as fast":        {base(func(p *Place) { p.Committed -= 6000; p.OldestAge = 10 * time.Minute; p.CommitRate = 5 }), "falling behind", 2 * (7*day - 10*time.Minute)},
		"as fast, far behind": {base(func(p *Place) { p.Committed -= 6000; p.OldestAge = 10 * time.Minute }), "not getting nearer", -1},
		"stands still": {base(func(p *Place) {
			p.Committed -= 6000
			p.OldestAge = 10 * time.Minute
			p.CommitRate = 0
			p.Quiet = time.Minute
		}), "stopped", 7*day - 10*time.Minute},
		"nobody there":     {base(func(p *Place) { p.Committed -= 6000; p.OldestAge = 10 * time.Minute; p.CommitRate = 0; p.Members = 0 }), "no members", 7*day - 10*time.Minute},
		"nobody, all read": {base(func(p *Place) { p.Members = 0 }), "no members", -1},
		"paused":           {base(func(p *Place) { p.Committed -= 600; p.OldestAge = time.Minute; p.CommitRate = 0; p.Paused = true }), "paused", 7*day - time.Minute},
		"idle topic":       {base(func(p *Place) { p.ArrivalRate, p.CommitRate, p.ByteRate = 0, 0, 0 }), "keeping up", -1},
		"retention comes near": {base(func(p *Place) {
			p.Committed -= 60_000
			p.OldestAge = 7*day - 3*time.Hour
			p.CommitRate, p.Members = 0, 0
		}), "will lose data in 3h", 3 * time.Hour},
		"near, but it gets away": {base(func(p *Place) {
			p.Committed -= 60_000
			p.OldestAge = 7*day - 3*time.Hour
			p.CommitRate = 20
		}), "catching up, 1h 40m to go", -1},
		"pauses with room left": {base(func(p *Place) {
			p.Committed -= 600
			p.OldestAge, p.CommitRate, p.Quiet = time.Minute, 0, 45*time.Second
			p.Retain = 5 * time.Hour
		}), "stopped", 5*time.Hour - time.Minute},
		"gone, in a short retention": {base(func(p *Place) {
			p.Committed -= 600
			p.OldestAge, p.CommitRate, p.Quiet = 20*time.Minute, 0, 20*time.Minute
			p.Retain = 5 * time.Hour
		}), "will lose data in 4h 40m", 4*time.Hour + 40*time.Minute},
		"by bytes": {base(func(p *Place) {
			p.Committed -= 6000
			p.OldestAge, p.CommitRate, p.Members = 10*time.Minute, 0, 0
			p.RetainBytes, p.UnreadBytes = 8_000_000, 800_000
		}), "will lose data in 2h", 2 * time.Hour},
		"held": {base(func(p *Place) {
			p.Committed -= 6000
			p.OldestAge, p.CommitRate, p.Members = 30*day, 0, 0
			p.Retain, p.RetainBytes, p.ByteRate = 0, 1<<40, 0
		}), "no members", -1},
		"lost one":  {base(func(p *Place) { p.Committed = 999; p.OldestAge = 7 * day }), "has lost 1 message", 0},
		"lost many": {base(func(p *Place) { p.Committed = 0; p.OldestAge = 7 * day; p.Members = 0 }), "has lost 1,000 messages", 0},
		"empty":     {Place{Members: 1}, "keeping up", -1},
	} {
		v := c.place.Judge()
		assert.Equal(t, c.want, v.Text(), name)
		if v.Lost == 0 && c.loses >= 0 {
			assert.InDelta(t, c.loses.Seconds(), v.LosesIn.Seconds(), 1, name)
		} else if v.Lost == 0 {
			assert.Negative(t, v.LosesIn, name)
		}
	}
	p := base(func(p *Place) { p.Committed = 400 })
	assert.EqualValues(t, 99_000, p.Lag(), "only what is kept can still be read")
	assert.EqualValues(t, 600, p.Lost())
}

func TestTheVerdictOfAGroupIsThatOfItsWorstPartition(t *testing.T) {
	fine := base(func(*Place) {})
	lost := base(func(p *Place) { p.Committed = 990 })
	v := Worst([]Place{fine, lost, fine}, []Verdict{fine.Judge(), lost.Judge(), fine.Judge()})
	assert.Equal(t, "has lost 10 messages", v.Text())
	assert.EqualValues(t, 99_000, v.Messages)

	// One partition after the other: as a whole it gets nearer.
	waits := base(func(p *Place) {
		p.Committed -= 1000
		p.OldestAge = time.Minute
		p.CommitRate = 0
		p.Quiet = 5 * time.Second
	})
	reads := base(func(p *Place) { p.Committed -= 1000; p.OldestAge = time.Minute; p.CommitRate = 60 })
	assert.Equal(t, FallingBehind, waits.Judge().State)
	v = Worst([]Place{waits, reads}, []Verdict{waits.Judge(), reads.Judge()})
	assert.Equal(t, "catching up, 50s to go", v.Text())
	assert.Equal(t, KeepingUp, Worst(nil, nil).State)
}

func TestSteps(t *testing.T) {
	for name, c := range map[string]struct {
		committed, to, want, again, skipped int64
		note                                string
	}{
		"back":              {500, 200, 200, 300, 0, ""},
		"on":                {500, 900, 900, 0, 400, ""},
		"nowhere":           {500, 500, 500, 0, 0, ""},
		"before all":        {500, 10, 100, 400, 0, NoteBefore},
		"behind the end":    {500, 2000, 1000, 0, 500, NoteBehind},
		"from what is lost": {20, 300, 300, 0, 200, ""},
	} {
		s := SeekTo(3, 100, 1000, c.committed, c.to)
		assert.Equal(t, Step{Partition: 3, First: 100, End: 1000, From: c.committed, To: c.want, Again: c.again, Skipped: c.skipped, Note: c.note}, s, name)
	}
	now := time.Unix(1_800_000_000, 0)
	oldest := now.Add(-time.Hour)
	s := SeekTo(0, 100, 1000, 500, 100)
	assert.Equal(t, NoteEarly, s.AtTime(now.Add(-2*time.Hour), oldest, now).Note)
	assert.Equal(t, NoteFuture, s.AtTime(now.Add(time.Second), oldest, now).Note)
	assert.Empty(t, s.AtTime(now.Add(-time.Minute), oldest, now).Note)
}

func TestRough(t *testing.T) {
	for d, want := range map[time.Duration]string{-1: "never", 1500 * time.Millisecond: "2s", 90 * time.Second: "1m", 3 * time.Hour: "3h", 3*time.Hour + 5*time.Minute: "3h 5m", 30 * time.Hour: "30h", 50 * time.Hour: "2d"} {
		assert.Equal(t, want, Rough(d))
	}
}
