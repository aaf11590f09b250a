package outside

import (
	"net/http"
	"net/http/httptest"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/endpoint"
	"steadyferry/internal/core/message"
	"steadyferry/internal/core/setting"
)

// Those that come while the place is still being asked keep its rate too.
func TestTheRateOfAPlaceHoldsForItsFirstDeliveries(t *testing.T) {
	const deliveries = 6
	var coming sync.WaitGroup
	coming.Add(deliveries)
	var posts, questions atomic.Int64
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method == http.MethodPost {
			posts.Add(1)
			return
		}
		questions.Add(1)
		coming.Wait()
		time.Sleep(50 * time.Millisecond) // each of them asks for its turn meanwhile
		w.Header().Set(headerAllowedOrigin, "*")
		w.Header().Set(headerAllowedRate, "600") // a minute
	}))
	defer server.Close()
	networks, err := endpoint.ParseNetworks(endpoint.Loopback)
	require.NoError(t, err)
	to := New(Config{Networks: networks, Origin: "ferry.example"}, Place{Endpoint: setting.Endpoint{URL: server.URL, Handshake: true, Parallel: deliveries, TimeLimitMS: 10_000, Format: setting.Raw}})
	defer to.Close()
	begun := time.Now()
	var all sync.WaitGroup
	for range deliveries {
		all.Go(func() {
			coming.Done()
			a, err := to.Send(t.Context(), &Lane{}, []Item{{Message: message.Message{ID: "m-1", Time: time.Now(), Body: []byte("box 17 is too warm")}}})
			if assert.NoError(t, err) {
				assert.Equal(t, endpoint.Done, a.Means, a.Says())
			}
		})
	}
	all.Wait()
	assert.GreaterOrEqual(t, time.Since(begun), (deliveries-1)*100*time.Millisecond, "ten a second, from the first one on")
	assert.EqualValues(t, deliveries, posts.Load())
	assert.EqualValues(t, 1, questions.Load())
}

func TestHowLongAPlaceAsksToBeLeftAlone(t *testing.T) {
	start := time.Date(2026, 11, 27, 8, 0, 0, 0, time.UTC)
	for text, wanted := range map[string]time.Duration{
		"": 0, "120": 2 * time.Minute, "-1": 0, "soon": 0, "99999999": maxAfter,
		"Fri, 27 Nov 2026 08:00:30 GMT": 30 * time.Second, "Fri, 27 Nov 2026 07:00:00 GMT": 0,
	} {
		assert.Equal(t, wanted, retryAfter(text, start), text)
	}
}
