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

// mostRefusals is how many kinds of refusals wait to be noted; those beyond are told as one.
const mostRefusals = 500

// Refusal is something that was refused.
type Refusal struct {
	Who     string
	Via     access.Via
	Action  string // what was tried
	Address string
	Why     string
}

// refusals are those that are to be noted, gathered, so that whoever tries a thousand times does
// not bury the rest.
type refusals struct {
	mu    sync.Mutex // guards all below
	times map[Refusal]int
	since time.Time
}

// Nobody is who tried what takes somebody.
const Nobody = "nobody"

// NoteRefusal has something that was refused be noted in the logbook.
func (s *Service) NoteRefusal(one Refusal) {
	for _, text := range []*string{&one.Action, &one.Address, &one.Why} {
		*text = notable(*text)
	}
	r := &s.refusals
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.times == nil {
		r.times, r.since = map[Refusal]int{}, time.Now()
	}
	if r.times[one] == 0 && len(r.times) >= mostRefusals {
		one = Refusal{Who: Nobody, Action: "other things", Why: "too many different things were refused to tell each"}
	}
	r.times[one]++
}

// maxNoted is how many bytes of a text are noted: some come from strangers.
const maxNoted = 300

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

// NoteRefusals writes what was refused since the last time.
func (s *Service) NoteRefusals(ctx context.Context) {
	r := &s.refusals
	r.mu.Lock()
	times, since := r.times, r.since
	r.times = nil
	r.mu.Unlock()
	for one, n := range times {
		after := map[string]any{"why": one.Why}
		if n > 1 {
			after["times"], after["since"] = n, since.UTC().Truncate(time.Second)
		}
		err := s.catalog.Note(ctx, &catalog.Entry{Who: one.Who, Action: one.Action, Address: one.Address, Outcome: catalog.Refused, After: after, Via: one.Via})
		switch {
		case errors.Is(err, catalog.ErrAway): // it is tried again
			r.mu.Lock()
			if r.times == nil {
				r.times, r.since = map[Refusal]int{}, since
			}
			r.times[one] += n
			r.mu.Unlock()
		case err != nil && ctx.Err() == nil:
			slog.Warn("what was refused could not be noted in the logbook", "who", one.Who, "tried", one.Action, "address", one.Address, "times", n, "error", err)
		}
	}
}
