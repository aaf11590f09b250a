package watch_test

import (
	"fmt"
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/address"
	"steadyferry/internal/core/watch"
)

// The page lists the watches that come by themselves as they are.
func TestThePageHasTheSensibleWatches(t *testing.T) {
	b, err := os.ReadFile("../../../docs/watches.md")
	require.NoError(t, err)
	row := func(name string, s watch.Sensible) string {
		level := func(text string) string {
			if v := watch.Named(s.Value); text != "" && v.Unit() == "/s" {
				text += "/s"
			}
			if text == "" {
				return "|"
			}
			return "| " + text
		}
		return fmt.Sprintf("| `%s` | `%s` %s %s | %s | %s |", name, s.Value, level(s.Warn), level(s.Alarm), address.FormatDuration(s.For), s.Reason)
	}
	for _, s := range watch.OfSpaces {
		assert.Contains(t, string(b), row(s.Name, s))
	}
	for _, s := range watch.OfNodes {
		assert.Contains(t, string(b), row("nodes/"+s.Name, s))
	}
}
