package topic

import (
	"time"

	"steadyferry/internal/core/journal"
)

// Defaults and limits of a topic's settings.
const (
	DefaultRetain      = 7 * 24 * time.Hour
	DefaultRetainBytes = int64(10) << 30
	DefaultMaxBody     = int64(8) << 20
	MinRetain          = time.Minute
	MinRetainBytes     = int64(1) << 20
)

// Retention says how long and how much a partition keeps.
type Retention struct {
	Age   time.Duration
	Bytes int64
}

// Segments returns how a partition with this retention should cut its log:
// finely enough that what is kept is not far above what was asked for.
func (r Retention) Segments() journal.Options {
	return journal.Options{
		SegmentBytes: min(max(r.Bytes/16, 256<<10), 128<<20),
		SegmentAge:   max(r.Age/16, MinRetain/4),
	}
}

// Drop returns how many of the oldest segments retention takes at a time
// (microseconds): those whose newest record is too old, and those without
// which the rest still has the kept bytes. The last, active one never goes.
func (r Retention) Drop(segments []journal.SegmentInfo, now int64) int {
	var total int64
	for _, s := range segments {
		total += s.Bytes
	}
	n := 0
	for n < len(segments)-1 {
		s := segments[n]
		if s.LastTime >= now-r.Age.Microseconds() && total <= r.Bytes {
			break
		}
		total -= s.Bytes
		n++
	}
	return n
}

// HoldBack returns how many of the segments that retention would take may go
// while groups have read only below upTo: their unread messages stay, unless
// that keeps more than limit bytes. start returns the first offset of a
// segment.
func HoldBack(segments []journal.SegmentInfo, drop int, start func(n int) int64, upTo, limit int64) int {
	var kept int64
	for _, s := range segments[drop:] {
		kept += s.Bytes
	}
	for drop > 0 && start(drop) > upTo {
		if kept += segments[drop-1].Bytes; kept > limit {
			break
		}
		drop--
	}
	return drop
}

// ActiveIsOld reports whether all of the active segment is past the age, so
// that it should be ended to be dropped.
func (r Retention) ActiveIsOld(segments []journal.SegmentInfo, now int64) bool {
	last := segments[len(segments)-1]
	return !last.Empty && last.LastTime < now-r.Age.Microseconds()
}

// Forecast is how much a topic will hold when retention and today's rate are
// in balance.
type Forecast struct {
	BytesPerSecond    float64 // the rate it is based on
	MessagesPerSecond float64
	Bytes             int64         // on disk, all partitions and replicas
	Messages          int64         // kept, all partitions
	Span              time.Duration // how far back the kept messages reach
	LimitedBy         string        // "age" or "bytes"
}

// Predict computes the forecast for partitions that each get an equal part
// of the rates.
func (r Retention) Predict(bytesPerSecond, messagesPerSecond float64, partitions, replicas int) Forecast {
	f := Forecast{BytesPerSecond: bytesPerSecond, MessagesPerSecond: messagesPerSecond, Span: r.Age, LimitedBy: "age"}
	limit := float64(r.Bytes) * float64(partitions)
	kept := bytesPerSecond * r.Age.Seconds()
	if kept > limit {
		kept = limit
		f.LimitedBy = "bytes"
		f.Span = time.Duration(limit / bytesPerSecond * float64(time.Second)).Round(time.Second)
	}
	f.Bytes = int64(kept) * int64(replicas)
	f.Messages = int64(messagesPerSecond * f.Span.Seconds())
	return f
}

// Loss is what retention would take from a partition.
type Loss struct {
	Messages int64 `json:"messages"`
	Bytes    int64 `json:"bytes"`
}

// LossOf returns what retention would take from a log now.
func LossOf(j *journal.Journal, r Retention) (l Loss) {
	infos := j.SegmentInfos()
	drop := r.Drop(infos, time.Now().UnixMicro())
	for _, info := range infos[:drop] {
		l.Bytes += info.Bytes
	}
	l.Messages = j.SegmentStart(drop) - j.Bounds().First
	return l
}
