// Package words puts numbers into sentences.
package words

import (
	"strconv"
	"strings"
)

// Integer is any type of whole numbers.
type Integer interface {
	~int | ~int32 | ~int64 | ~uint | ~uint32 | ~uint64
}

// Count writes a number with commas between the thousands: 1,204.
func Count[N Integer](n N) string {
	digits := strconv.FormatInt(int64(n), 10)
	var b strings.Builder
	for i, d := range digits {
		if i > 0 && (len(digits)-i)%3 == 0 && digits[i-1] != '-' {
			b.WriteByte(',')
		}
		b.WriteRune(d)
	}
	return b.String()
}

// Many writes so many of something: 1 message, 1,204 messages. A word whose
// plural is not one with an s comes with that: Many(n, "is kept", "are kept").
func Many[N Integer](n N, one string, many ...string) string {
	switch {
	case n == 1:
		return "1 " + one
	case len(many) > 0:
		return Count(n) + " " + many[0]
	}
	return Count(n) + " " + one + "s"
}

// Of writes a value for machines, such as a state, as people read it.
func Of(value string) string { return strings.ReplaceAll(value, "-", " ") }
