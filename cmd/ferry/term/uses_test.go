package term

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"steadyferry/client"
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/setting"
)

func TestUsesAreTold(t *testing.T) {
	full := time.Date(2026, 3, 1, 12, 30, 0, 0, time.Local)
	assert.Equal(t, []string{
		"9 of 10 channels (90 %)",
		"1.5MiB of 2MiB kept (75 %), all of it at 2026-03-01 12:30",
		"64KiB of 64KiB a second published (100 %)",
		"1,999 of 2,000 requests a second (99 %)",
	}, Uses([]client.Quota{
		{Name: "mostChannels", Used: 9, Most: 10},
		{Name: "mostPartitions", Used: 9},
		{Name: "mostKept", Unit: form.Bytes, Used: 3 << 19, Most: 2 << 20, Full: &full},
		{Name: "publishRate", Unit: form.BytesASecond, Used: 65536, Most: 65536},
		{Name: "requestRate", Unit: form.ASecond, Used: 1999.4, Most: 2000},
	}))
	for name := range usedAs {
		assert.NotNil(t, setting.Spaces.Named(name), "%s is a setting", name)
	}
}
