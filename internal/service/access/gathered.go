package access

import (
	"context"
	"errors"
	"log/slog"
	"strings"
	"sync"
	"time"
	"unicode"

	"steadyferry/internal/core/access"
	"steadyferry/internal/engine/catalog"
)

// Bounds of what is gathered before it is noted.
const (
	mostGathered = 500 // kinds of things that wait to be noted; those beyond are told as one
	maxNoted     = 300 // bytes of a text: some come from strangers

	// What was noted is noted again, with how often, only so much later.
	readEvery = 15 * time.Minute
)

// Gathered is something that happens too often to be noted each time.
type Gathered struct {
	Who     string
	Via     access.Via
	Action  string // what was done, or tried
	Address string
	Outcome string
	Says    string // why it was refused; of what was read, by which condition
}

// gathering is what is to be noted, so that whoever does a thing a thousand times does not bury
// the rest.
type gathering struct {
	mu    sync.Mutex // guards all below
	times map[Gathered]int
	since map[Gathered]time.Time
	noted map[Gathered]time.Time // when it was noted last, of what is read
}

// Nobody is who tried what takes somebody.
const Nobody = "nobody"

// ReadsContents is what reading messages is called.
const ReadsContents = "read contents"

// NoteRefusal has something that was refused be noted in the logbook.
func (s *Service) NoteRefusal(one Gathered) {
	one.Outcome = catalog.Refused
	s.gather(one)
}

// NoteRead has it be noted in the logbook that somebody has seen what is in messages at an
// address, by a condition if there was one.
func (s *Service) NoteRead(ctx context.Context, at, where string) {
	a, ok := access.In(ctx)
	if !ok || access.IsNode(a) {
		return
	}
	s.gather(Gathered{Who: a.Who(), Via: access.ViaIn(ctx), Action: ReadsContents, Address: at, Outcome: catalog.Done, Says: where})
}

func (s *Service) gather(one Gathered) {
	for _, text := range []*string{&one.Action, &one.Address, &one.Says} {
		*text = notable(*text)
	}
	g := &s.gathering
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.times == nil {
		g.times, g.since, g.noted = map[Gathered]int{}, map[Gathered]time.Time{}, map[Gathered]time.Time{}
	}
	if g.times[one] == 0 && len(g.times) >= mostGathered {
		one = Gathered{Who: Nobody, Action: "other things", Outcome: one.Outcome, Says: "there were too many different ones to tell each"}
	}
	if g.times[one]++; g.times[one] == 1 {
		g.since[one] = time.Now()
	}
}

// notable is a text as it can be kept.
func notable(text string) string {
	text = strings.Map(func(r rune) rune {
		if unicode.IsControl(r) {
			return ' '
		}
		return r
	}, text)
	return strings.ToValidUTF8(text[:min(len(text), maxNoted)], "")
}

// due takes out what is to be noted at a time: with all also what was noted lately.
func (g *gathering) due(now time.Time, all bool) map[Gathered]int {
	g.mu.Lock()
	defer g.mu.Unlock()
	out := map[Gathered]int{}
	for one, n := range g.times {
		if one.Outcome == catalog.Done {
			if last, lately := g.noted[one]; lately && now.Sub(last) < readEvery && !all {
				continue
			}
			g.noted[one] = now
		}
		out[one] = n
		delete(g.times, one)
	}
	for one, last := range g.noted {
		if now.Sub(last) >= readEvery && g.times[one] == 0 {
			delete(g.noted, one)
		}
	}
	return out
}

// NoteGathered writes what was gathered and is due; with all, the rest too, as before an end.
func (s *Service) NoteGathered(ctx context.Context, all bool) {
	g := &s.gathering
	for one, n := range g.due(time.Now(), all) {
		g.mu.Lock()
		since := g.since[one]
		g.mu.Unlock()
		after := map[string]any{}
		switch {
		case one.Outcome == catalog.Refused:
			after["why"] = one.Says
		case one.Says != "":
			after["where"] = one.Says
		}
		if n > 1 {
			after["times"], after["since"] = n, since.UTC().Truncate(time.Second)
		}
		err := s.catalog.Note(ctx, &catalog.Entry{Who: one.Who, Action: one.Action, Address: one.Address, Outcome: one.Outcome, After: after, Via: one.Via})
		g.mu.Lock()
		switch {
		case errors.Is(err, catalog.ErrAway): // it is tried again
			g.times[one] += n
			delete(g.noted, one)
		case g.times[one] == 0:
			delete(g.since, one)
		default:
			g.since[one] = time.Now()
		}
		g.mu.Unlock()
		if err != nil && !errors.Is(err, catalog.ErrAway) && ctx.Err() == nil {
			slog.Warn("what was gathered could not be noted in the logbook", "who", one.Who, "action", one.Action, "address", one.Address, "times", n, "error", err)
		}
	}
}
