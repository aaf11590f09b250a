package main

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestAFigureHasItsUnit(t *testing.T) {
	for unit, want := range map[string]string{"": "1,500", "/s": "1,501/s", "B": "1.5KiB", "B/s": "1.5KiB/s", "s": "25m0.5s"} {
		x := 1500.5
		if unit == "B" || unit == "B/s" {
			x = 1536
		}
		assert.Equal(t, want, figure(x, unit), unit)
	}
}
