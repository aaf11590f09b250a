package form

import "time"

// Micros is a time in microseconds since 1970 as forms have it: null for 0.
func Micros(us int64) *time.Time {
	if us == 0 {
		return nil
	}
	at := time.UnixMicro(us).UTC()
	return &at
}
