package client

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/address"
)

// Wherever a connection breaks, within an event too, a tail hands over every
// message once.
func TestATailThatBreaksAnywhereLosesNothing(t *testing.T) {
	const messages = 12
	event := func(offset int) string {
		return fmt.Sprintf("id: 0:%d\ndata: {\"message\":{\"partition\":0,\"offset\":%d,\"body\":\"x\"}}\n\n", offset+1, offset)
	}
	cut := 0
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if !strings.HasSuffix(r.URL.Path, "/tail") {
			fmt.Fprint(w, `{}`)
			return
		}
		from := 0
		if id := r.Header.Get("Last-Event-ID"); id != "" {
			from, _ = strconv.Atoi(strings.TrimPrefix(id, "0:"))
		}
		var rest strings.Builder
		for offset := from; offset < messages; offset++ {
			rest.WriteString(event(offset))
		}
		w.Header().Set("Content-Type", "text/event-stream")
		text := rest.String()
		// It goes a little further each time, so that every place is one where it breaks.
		cut++
		fmt.Fprint(w, text[:min(len(text), 70+cut%67)])
		w.(http.Flusher).Flush()
	}))
	defer server.Close()
	c, err := New(server.URL, "t")
	require.NoError(t, err)
	a, err := address.ParseChannel("coldchain/readings")
	require.NoError(t, err)
	enough := errors.New("enough")
	ctx, cancel := context.WithTimeout(t.Context(), 30*time.Second)
	defer cancel()
	for round := range 5 {
		var got []int64
		cut = 13 * round
		err = c.Tail(ctx, a, Query{}, func(e Event) error {
			got = append(got, e.Message.Offset)
			if len(got) == messages {
				return enough
			}
			return nil
		}, func(error, time.Duration) {})
		require.ErrorIs(t, err, enough)
		for i, offset := range got {
			assert.EqualValues(t, i, offset, "round %d: %v", round, got)
		}
	}
}
