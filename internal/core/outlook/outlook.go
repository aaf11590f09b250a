// Package outlook foretells from what was measured: when a disk is full, what waits ever more,
// which loss and which end of a certificate comes near. It is arithmetic, and says nothing
// where the past is not clear.
package outlook

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"time"

	"steadyferry/internal/core/address"
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/watch"
	"steadyferry/internal/core/words"
)

// How near something is that is told, and at which it alarms.
const (
	lossNear, lossAlarm        = 3 * 24 * time.Hour, 12 * time.Hour
	diskNear, diskAlarm        = 7 * 24 * time.Hour, 24 * time.Hour
	roomNear, roomAlarm        = 7 * 24 * time.Hour, 24 * time.Hour
	certificateNear, certAlarm = 21 * 24 * time.Hour, 3 * 24 * time.Hour
	LeastWaiting               = 20   // messages, below which nobody is told that more wait
	clearFit                   = 0.65 // of the variance that a line explains, from which it is one
	leastFigures               = 12
	leastGrowth                = 0.2 // over what was measured, of what there is
)

// Trend is how a value went: a line through its figures.
type Trend struct {
	Last   float64
	Slope  float64 // a second
	Fit    float64 // share of the variance that the line explains, 0 to 1
	Length time.Duration
}

// TrendOf draws the line of least squares through figures that are a step apart, the last of
// them now; those that are not known are left out. Without enough of them it returns false.
func TrendOf(figures []float64, step time.Duration) (t Trend, ok bool) {
	var n, sx, sy, sxx, sxy, syy float64
	first := -1
	for i, y := range figures {
		if math.IsNaN(y) {
			continue
		}
		if first < 0 {
			first = i
		}
		x := float64(i) * step.Seconds()
		n, sx, sy, sxx, sxy, syy = n+1, sx+x, sy+y, sxx+x*x, sxy+x*y, syy+y*y
		t.Last, t.Length = y, time.Duration(i-first)*step
	}
	if n < leastFigures {
		return t, false
	}
	xx, xy, yy := sxx-sx*sx/n, sxy-sx*sy/n, syy-sy*sy/n
	if xx <= 0 {
		return t, false
	}
	t.Slope = xy / xx
	if yy > 0 {
		t.Fit = xy * xy / (xx * yy)
	}
	return t, true
}

// Disk foretells when the free bytes of a node come down to its reserve.
func Disk(at, node string, t Trend, reserve float64, now time.Time) *form.Foreseen {
	if t.Slope >= 0 || t.Fit < clearFit || t.Last <= reserve {
		return nil
	}
	left := time.Duration((t.Last - reserve) / -t.Slope * float64(time.Second))
	if left < 0 || left > diskNear {
		return nil
	}
	f := nearing("disk", at, left, diskAlarm, now)
	f.Says = fmt.Sprintf("the disk of %s is full in %s, at what it has lost in the last %s", node, span(left), address.FormatDuration(t.Length))
	f.Next = "ferry nodes"
	return f
}

// Room foretells when a space keeps all that it may, by the lines of what its channels keep.
func Room(space string, channels []Trend, most float64, now time.Time) *form.Foreseen {
	var all Trend
	for _, t := range channels {
		all.Last += t.Last
		if t.Fit >= clearFit {
			all.Slope += t.Slope
			all.Length = max(all.Length, t.Length)
		}
	}
	if all.Last >= most {
		f := nearing("space", space, 0, roomAlarm, now)
		f.Says, f.Next = fmt.Sprintf("space %s keeps all that it may, and takes nothing", space), "ferry show "+space
		return f
	}
	left := time.Duration((most - all.Last) / all.Slope * float64(time.Second))
	if all.Slope <= 0 || left < 0 || left > roomNear {
		return nil
	}
	f := nearing("space", space, left, roomAlarm, now)
	f.Says = fmt.Sprintf("space %s keeps all that it may in %s, at what it has grown in the last %s", space, span(left), address.FormatDuration(all.Length))
	f.Next = "ferry show " + space
	return f
}

// Waiting foretells that a queue is not worked off: more wait and more.
func Waiting(at string, t Trend) *form.Foreseen {
	growth := t.Slope * t.Length.Seconds()
	if t.Last < LeastWaiting || t.Fit < clearFit || growth < leastGrowth*t.Last {
		return nil
	}
	f := &form.Foreseen{Kind: "waiting", Address: at, Level: watch.Warn.String(), Next: "ferry show " + at}
	f.Says = fmt.Sprintf("%s: %s, and %s more each minute", at, words.Many(int(t.Last), "message waits", "messages wait"), words.Count(int64(math.Round(t.Slope*60))))
	return f
}

// Loss foretells when retention takes what a group has not read.
func Loss(at string, in time.Duration, now time.Time) *form.Foreseen {
	if in < 0 || in > lossNear {
		return nil
	}
	f := nearing("loss", at, in, lossAlarm, now)
	f.Says = fmt.Sprintf("%s begins to lose messages that it has not read in %s", at, span(in))
	f.Next = "ferry lag " + at
	return f
}

// Certificate foretells the end of a certificate.
func Certificate(at, of string, left time.Duration, now time.Time) *form.Foreseen {
	if left > certificateNear {
		return nil
	}
	f := nearing("certificate", at, max(left, 0), certAlarm, now)
	f.Says = fmt.Sprintf("the certificate of %s ends in %s", of, span(left))
	f.Next = "ferry show " + at
	if left <= 0 {
		f.Says = fmt.Sprintf("the certificate of %s has ended", of)
	}
	return f
}

// nearing is a forecast of something that comes in a while.
func nearing(kind, at string, in, alarm time.Duration, now time.Time) *form.Foreseen {
	when := now.Add(in).UTC().Truncate(time.Second)
	f := &form.Foreseen{Kind: kind, Address: at, Level: watch.Warn.String(), At: &when}
	if in <= alarm {
		f.Level = watch.Alarm.String()
	}
	return f
}

// span is a time to come for people.
func span(d time.Duration) string {
	switch {
	case d > 48*time.Hour:
		d = d.Round(time.Hour)
	case d > time.Hour:
		d = d.Round(time.Minute)
	default:
		d = d.Round(time.Second)
	}
	return address.FormatDuration(max(d, 0))
}

// Sort puts forecasts in order: alarms first, then by when; what has no time comes last.
func Sort(all []form.Foreseen) {
	when := func(f *form.Foreseen) int64 {
		if f.At == nil {
			return math.MaxInt64
		}
		return f.At.Unix()
	}
	slices.SortFunc(all, func(a, b form.Foreseen) int {
		return cmp.Or(cmp.Compare(a.Level, b.Level), cmp.Compare(when(&a), when(&b)), cmp.Compare(a.Address, b.Address))
	})
}

// BySource puts incidents of one source together, the worst first.
func BySource(all []form.Incident) []form.WrongSource {
	rank := func(i *form.Incident) int {
		if i.State == watch.Alarm.String() {
			return 0
		}
		return 1
	}
	slices.SortStableFunc(all, func(a, b form.Incident) int {
		return cmp.Or(cmp.Compare(rank(&a), rank(&b)), cmp.Compare(b.Number, a.Number))
	})
	out, at := []form.WrongSource{}, map[string]int{}
	for _, i := range all {
		n, known := at[i.Source]
		if !known {
			n = len(out)
			at[i.Source] = n
			out = append(out, form.WrongSource{Source: i.Source})
		}
		out[n].Incidents = append(out[n].Incidents, i)
	}
	return out
}
