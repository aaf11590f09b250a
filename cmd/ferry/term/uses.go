package term

import (
	"fmt"
	"math"
	"strings"

	"steadyferry/client"
	"steadyferry/internal/core/form"
)

// usedAs says what is used, by the setting that bounds it.
var usedAs = map[string]string{
	"mostChannels": "channels", "mostPartitions": "partitions", "mostKept": "kept", "publishRate": "a second published", "readRate": "a second read",
	"requestRate": "requests a second", "mostStreams": "streams open",
}

// Uses prints what is used of what may be, a line each: 1.2 GiB of 2 GiB kept (60 %). What has no
// bound is left out.
func Uses(all []client.Quota) (lines []string) {
	for _, q := range all {
		if q.Most == 0 {
			continue
		}
		amount := func(x float64) string {
			if strings.HasPrefix(q.Unit, form.Bytes) {
				return Size(int64(math.Round(x)))
			}
			return Count(int64(math.Round(x)))
		}
		line := fmt.Sprintf("%s of %s %s (%d %%)", amount(q.Used), amount(q.Most), usedAs[q.Name], int64(math.Floor(100*q.Used/q.Most)))
		if q.Full != nil {
			line += ", all of it at " + q.Full.Local().Format("2006-01-02 15:04")
		}
		lines = append(lines, line)
	}
	return lines
}
