package gate

import (
	"net"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// deadlines is a connection that notes the deadlines that are set.
type deadlines struct {
	net.Conn
	set []time.Time
}

func (d *deadlines) SetWriteDeadline(t time.Time) error { d.set = append(d.set, t); return nil }
func (d *deadlines) SetDeadline(t time.Time) error      { d.set = append(d.set, t); return nil }

// TestHardlyLaterDeadlinesAreNotSet sets deadlines one after the other and
// looks at which of them a timer was set.
func TestHardlyLaterDeadlinesAreNotSet(t *testing.T) {
	now := time.Now()
	at := func(d time.Duration) time.Time { return now.Add(d) }
	for name, c := range map[string]struct{ asked, set []time.Time }{
		"far and hardly later":      {[]time.Time{at(time.Minute), at(time.Minute + 500*time.Millisecond)}, []time.Time{at(time.Minute)}},
		"they add up":               {[]time.Time{at(time.Minute), at(time.Minute + 700*time.Millisecond), at(time.Minute + 1400*time.Millisecond)}, []time.Time{at(time.Minute), at(time.Minute + 1400*time.Millisecond)}},
		"earlier":                   {[]time.Time{at(time.Minute), at(time.Minute - time.Millisecond)}, []time.Time{at(time.Minute), at(time.Minute - time.Millisecond)}},
		"near":                      {[]time.Time{at(2 * time.Second), at(2*time.Second + time.Millisecond)}, []time.Time{at(2 * time.Second), at(2*time.Second + time.Millisecond)}},
		"past, to end what is held": {[]time.Time{at(time.Minute), at(-time.Minute)}, []time.Time{at(time.Minute), at(-time.Minute)}},
		"none any more":             {[]time.Time{at(time.Minute), {}, at(time.Minute + time.Millisecond)}, []time.Time{at(time.Minute), {}, at(time.Minute + time.Millisecond)}},
	} {
		under := &deadlines{}
		conn := &counted{Conn: under}
		for _, d := range c.asked {
			require.NoError(t, conn.SetWriteDeadline(d))
		}
		require.Equal(t, c.set, under.set, name)
	}
	under := &deadlines{}
	conn := &counted{Conn: under}
	require.NoError(t, conn.SetWriteDeadline(at(time.Minute)))
	require.NoError(t, conn.SetDeadline(at(time.Second)))
	require.NoError(t, conn.SetWriteDeadline(at(time.Minute)))
	require.Len(t, under.set, 3, "a deadline for both replaces the one for writing")
}
