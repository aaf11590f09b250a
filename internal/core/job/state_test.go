package job

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestWhatMayBeAskedOfAJob(t *testing.T) {
	for _, c := range []struct {
		is, wish State
		back     bool
		becomes  State
		refused  string
	}{
		{Running, Paused, false, Paused, ""},
		{Paused, Running, true, Running, ""},
		{Paused, "", false, Paused, ""},
		{Running, Running, false, Running, ""},
		{Running, Cancelled, false, Cancelled, ""},
		{Running, Cancelled, true, Cancelling, ""},
		{Paused, Cancelled, true, Cancelling, ""},
		{Cancelling, Running, true, Cancelling, "being cancelled"},
		{Cancelling, Cancelled, true, Cancelling, "being cancelled"},
		{Done, Running, false, Done, "it is done"},
		{Halted, "", false, Halted, "it is halted"},
		{Running, Done, false, Running, `state is "done"`},
		{Running, "tired", false, Running, `state is "tired"`},
	} {
		became, err := c.is.Ask(c.wish, c.back)
		assert.Equal(t, c.becomes, became, "%s asked to be %s", c.is, c.wish)
		if c.refused == "" {
			assert.NoError(t, err)
		} else {
			assert.ErrorContains(t, err, c.refused)
		}
	}
	assert.Equal(t, Done, Running.Finish())
	assert.Equal(t, Cancelled, Cancelling.Finish())
	for _, s := range []State{Done, Cancelled, Halted, Failed} {
		assert.True(t, s.Ended(), s)
	}
}
