package api

import (
	"encoding/json"
	"sync"
	"time"

	"github.com/cespare/xxhash/v2"

	"steadyferry/internal/core/form"
)

// snapshot is the state at one moment, for all who ask.
type snapshot struct {
	at   time.Time
	live form.Live

	once sync.Once
	sums map[string]uint64 // of each channel and group, by its address
}

// sum returns a checksum of each channel and group, by which streams know what
// has changed without keeping what they have told.
func (s *snapshot) sum() map[string]uint64 {
	s.once.Do(func() {
		s.sums = make(map[string]uint64, len(s.live.Channels)+len(s.live.Groups))
		for i := range s.live.Channels {
			s.sums[s.live.Channels[i].Address] = sumOf(&s.live.Channels[i])
		}
		for i := range s.live.Groups {
			s.sums[s.live.Groups[i].Address] = sumOf(&s.live.Groups[i])
		}
	})
	return s.sums
}

func sumOf(v any) uint64 {
	b, err := json.Marshal(v)
	if err != nil {
		panic(err) // forms are plain
	}
	return xxhash.Sum64(b)
}

// told is what a stream has told of; nil before the first time.
type told struct{ sums map[string]uint64 }

// news returns what a stream has not told yet: all at first.
func (t *told) news(s *snapshot) form.Live {
	before, now := t.sums, s.sum()
	t.sums = now
	if before == nil {
		return s.live
	}
	out := s.live
	out.Whole, out.Channels, out.Groups = false, []form.Channel{}, []form.Group{}
	for _, topic := range s.live.Channels {
		if sum, known := before[topic.Address]; !known || sum != now[topic.Address] {
			out.Channels = append(out.Channels, topic)
		}
	}
	for _, g := range s.live.Groups {
		if sum, known := before[g.Address]; !known || sum != now[g.Address] {
			out.Groups = append(out.Groups, g)
		}
	}
	for address := range before {
		if _, still := now[address]; !still {
			out.Gone = append(out.Gone, address)
		}
	}
	return out
}
