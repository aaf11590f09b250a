// Package ranges tells which messages something was about, by partition, in few words that can be read
// back.
package ranges

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
)

// Bounds of what is told of the messages that an action was about.
const (
	Most       = 10_000 // messages that are told
	mostRanges = 300
)

// Ranges is which messages an action was about, by partition, as ranges of offsets: what the logbook
// tells. It is bounded; beyond that it says that there were more.
type Ranges struct {
	ranges map[int][][2]int64 // first and last
	count  int
	all    int // ranges
	more   bool
}

// Add tells of some more of a partition.
func (m *Ranges) Add(partition int, offsets []int64) {
	if m.ranges == nil {
		m.ranges = map[int][][2]int64{}
	}
	for _, o := range offsets {
		of := m.ranges[partition]
		follows := len(of) > 0 && of[len(of)-1][1]+1 == o
		if m.count >= Most || !follows && m.all >= mostRanges {
			m.more = true
			return
		}
		m.count++
		if follows {
			of[len(of)-1][1] = o
			continue
		}
		m.all++
		m.ranges[partition] = append(of, [2]int64{o, o})
	}
}

// Told is that in words of the logbook: by the number of a partition ranges such as 12-40 and 44.
func (m *Ranges) Told() map[string]any {
	out := map[string]any{}
	for _, partition := range slices.Sorted(maps.Keys(m.ranges)) {
		var texts []string
		for _, r := range m.ranges[partition] {
			if text := strconv.FormatInt(r[0], 10); r[0] == r[1] {
				texts = append(texts, text)
			} else {
				texts = append(texts, text+"-"+strconv.FormatInt(r[1], 10))
			}
		}
		out[strconv.Itoa(partition)] = strings.Join(texts, " ")
	}
	if m.more {
		out["more"] = true
	}
	return out
}

// Parse reads what Told has told, by partition; ok is false when it does not tell of all.
func Parse(told map[string]any) (offsets map[int][]int64, ok bool) {
	offsets = map[int][]int64{}
	count := 0
	for name, value := range told {
		partition, err := strconv.Atoi(name)
		text, is := value.(string)
		if err != nil || !is {
			return nil, false
		}
		for _, one := range strings.Fields(text) {
			var first, last int64
			if n, _ := fmt.Sscanf(one, "%d-%d", &first, &last); n == 1 {
				last = first
			} else if n != 2 {
				return nil, false
			}
			if count += int(last - first + 1); last < first || last-first >= Most || count > Most {
				return nil, false
			}
			for o := first; o <= last; o++ {
				offsets[partition] = append(offsets[partition], o)
			}
		}
	}
	return offsets, count > 0
}
