package test

import (
	"bytes"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/client"
	"steadyferry/test/harness"
)

// startDemo runs a demo in a directory, and returns what it says once it is up.
func startDemo(t *testing.T, dir string, args ...string) (said string) {
	t.Helper()
	demo := exec.Command(harness.Binary(t, "ferryd"), append([]string{"demo", "-database", harness.SharedDatabase(t)}, args...)...)
	demo.Dir = dir
	out, err := demo.StdoutPipe()
	require.NoError(t, err)
	var log bytes.Buffer
	demo.Stderr = &log
	require.NoError(t, demo.Start())
	t.Cleanup(func() {
		defer func() {
			if t.Failed() {
				t.Logf("it logged:\n%s", log.String())
			}
		}()
		demo.Process.Signal(os.Interrupt)
		demo.Wait()
	})
	for buffer := make([]byte, 4096); !strings.Contains(said, "Ctrl-C"); {
		n, err := out.Read(buffer)
		require.NoError(t, err, said)
		said += string(buffer[:n])
	}
	return said
}

// TestTheDemoBringsAPast looks at what a new demo tells of the hour before it
// was started: messages and dead letters at their times, and even rates.
func TestTheDemoBringsAPast(t *testing.T) {
	t.Parallel()
	t.Run("of one node", func(t *testing.T) { aPast(t, "-listen", "127.0.0.1:0") })
	t.Run("of three nodes", func(t *testing.T) { aPast(t, "-listen", "127.0.0.1:27450", "-nodes", "3") })
}

func aPast(t *testing.T, args ...string) {
	said := startDemo(t, harness.Dir(t), args...)
	token, err := os.ReadFile(regexp.MustCompile(`cat (\S+/owner\.token)`).FindStringSubmatch(said)[1])
	require.NoError(t, err)
	api, err := client.New(regexp.MustCompile(`FERRY_SERVER=(\S+)`).FindStringSubmatch(said)[1], strings.TrimSpace(string(token)))
	require.NoError(t, err)
	get := func(path string, out any) {
		t.Helper()
		require.NoError(t, api.Call(t.Context(), http.MethodGet, "/channels/coldchain/"+path, nil, nil, out))
	}
	anHourAgo := time.Now().Add(-time.Hour)
	var readings client.Channel
	get("readings", &readings)
	require.NotNil(t, readings.Oldest)
	assert.WithinDuration(t, anHourAgo, *readings.Oldest, 2*time.Minute)
	assert.Greater(t, readings.Messages, int64(50_000))

	var dead client.DeadLetters
	get("inspections/dead", &dead)
	require.NotEmpty(t, dead.Causes)
	for _, cause := range dead.Causes {
		assert.WithinDuration(t, anHourAgo, cause.FirstSeen, 15*time.Minute, cause.Reason)
		assert.WithinDuration(t, time.Now(), cause.LastSeen, 15*time.Minute, cause.Reason)
	}

	var rates client.Series
	require.NoError(t, api.Call(t.Context(), http.MethodGet, "/channels/coldchain/readings/rates", url.Values{"span": {"1h"}}, nil, &rates))
	var in []int64
	sum := int64(0)
	for _, flow := range rates.Flow[12:] { // the first two minutes may lie before it began
		in = append(in, flow.MessagesIn)
		sum += flow.MessagesIn
	}
	slices.Sort(in)
	median := in[len(in)/2]
	assert.Less(t, in[len(in)-1], 2*median, "no step stands out: %v", in[len(in)-10:])
	assert.Greater(t, in[0], median/3, "no step is empty: %v", in[:10])
	assert.InDelta(t, readings.Messages, sum, 0.05*float64(readings.Messages), "the rates tell of the messages that are there")
}
