package api_test

import (
	"bufio"
	"net/http"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/setting"
	"steadyferry/test/doortest"
)

// A stream ends within a second when what it needs is taken away.
func TestAStreamEndsWithTheRightToIt(t *testing.T) {
	d := doortest.Open(t)
	d.Channel(setting.Topic, "coldchain/readings", nil)
	token := rightsOf(t, d, map[string]access.Set{"looker": access.Of(access.SeeContent)})["looker"]
	q, err := http.NewRequestWithContext(t.Context(), "GET", d.URL+"/api/v1/channels/coldchain/readings/tail", nil)
	require.NoError(t, err)
	q.Header.Set("Authorization", "Bearer "+token)
	r, err := http.DefaultClient.Do(q)
	require.NoError(t, err)
	defer r.Body.Close()
	require.Equal(t, 200, r.StatusCode)
	ended := make(chan time.Time, 1)
	go func() {
		for lines := bufio.NewScanner(r.Body); lines.Scan(); {
		}
		ended <- time.Now()
	}()
	time.Sleep(300 * time.Millisecond)
	select {
	case <-ended:
		t.Fatal("it has ended before")
	default:
	}
	began := time.Now()
	require.NoError(t, d.Catalog.RemoveGrant(t.Context(), d.Catalog.View().Grants["grants/looker"].ID, nil))
	select {
	case at := <-ended:
		assert.Less(t, at.Sub(began), time.Second)
	case <-time.After(10 * time.Second):
		t.Fatal("it goes on")
	}
}
