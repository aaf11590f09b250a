package quotas

import (
	"math"
	"time"

	"steadyferry/internal/core/address"
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/core/words"
	"steadyferry/internal/engine/catalog"
)

// names of what is used so much of a second: the settings that bound it.
var names = [kinds]string{"publishRate", "readRate", "requestRate"}

// amount tells so much of a kind in words, and in so much a second.
func amount(kind int, x float64) string {
	if kind == request {
		return words.Many(int64(math.Ceil(x)), "request")
	}
	return address.FormatSize(int64(math.Ceil(x)))
}

func in(kind int, x float64) string { return amount(kind, x) + " a second" }

var doing = [kinds]string{"published", "read", "made"}

func tooFast(b *bound, kind int, after time.Duration) error {
	b.mu.Lock()
	most := rates(b.use)[kind]
	b.mu.Unlock()
	p := problem.New(problem.TooFast, "%s is %s ahead of the %s that may be %s", b.of, amount(kind, most*after.Seconds()), in(kind, most), doing[kind]).
		Next("try again in %s; who looks after the nodes can allow more: ferry %s -%s", address.FormatDuration(max(after.Round(100*time.Millisecond), 100*time.Millisecond)), b.set(), setting.Flag(names[kind]))
	p.After = after
	return p
}

func tooMany(b *bound, most int) error {
	p := problem.New(problem.TooFast, "%s has %d streams open, and may have no more", b.of, most).
		Next("end one; who looks after the nodes can allow more: ferry %s -most-streams", b.set())
	p.After = 5 * time.Second
	return p
}

func (o of) set() string {
	if o.Space {
		return "set " + o.Name
	}
	return "access set " + o.Name
}

func noRoom(space string, kept, more, most int64) error {
	return problem.New(problem.NoRoom, "space %s keeps %s of %s, and has no room for %s more", space, address.FormatSize(kept), address.FormatSize(most), address.FormatSize(more)).
		Next("keep less: ferry set CHANNEL -retain-bytes SIZE; who looks after the nodes can allow more: ferry set %s -most-kept SIZE", space)
}

// Bounded reports whether a space has a bound of any kind.
func Bounded(s *catalog.Space) bool {
	return s.MostChannels > 0 || s.MostPartitions > 0 || s.MostKept > 0 || s.Use != (setting.Use{})
}

// OfSpace tells what a space has and uses, of what it may: what it has always, what it uses a second
// where that has a bound.
func (q *Quotas) OfSpace(s *catalog.Space) []form.Quota {
	channels, partitions := 0, 0
	for _, t := range q.parts.ChannelsOf(s.Name) {
		if !t.OfGroup() {
			channels++
			partitions += t.Record().Partitions
		}
	}
	all := []form.Quota{
		{Name: "mostChannels", Used: float64(channels), Most: float64(s.MostChannels)},
		{Name: "mostPartitions", Used: float64(partitions), Most: float64(s.MostPartitions)},
		{Name: "mostKept", Unit: form.Bytes, Used: float64(q.keptIn(s.Name)), Most: float64(s.MostKept)},
	}
	return append(all, q.used(of{true, s.Name})...)
}

// OfPrincipal tells what a principal uses, where that has a bound.
func (q *Quotas) OfPrincipal(name string) []form.Quota { return q.used(of{false, name}) }

func (q *Quotas) used(o of) (all []form.Quota) {
	m := q.meter(o)
	if m == nil {
		return nil
	}
	m.mu.Lock()
	here := uses{o, m.asked, m.used, m.streams.Load()}
	u := m.use
	m.mu.Unlock()
	for _, other := range q.others.fresh(o, q.parts.OtherNodes()) {
		for k := range here.Used {
			here.Used[k] += other.Used[k]
		}
		here.Streams += other.Streams
	}
	for k, most := range rates(u) {
		if most > 0 {
			all = append(all, form.Quota{Name: names[k], Unit: []string{form.BytesASecond, form.BytesASecond, form.ASecond}[k], Used: here.Used[k], Most: most})
		}
	}
	if u.MostStreams > 0 {
		all = append(all, form.Quota{Name: "mostStreams", Used: float64(here.Streams), Most: float64(u.MostStreams)})
	}
	return all
}
