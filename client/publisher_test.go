package client

import (
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/address"
	"steadyferry/internal/core/message"
	"steadyferry/internal/core/topic"
)

// keeper is a service that keeps what it is sent as a partition does, and does
// with its answers what a test wants.
type keeper struct {
	mu         sync.Mutex
	publishers *topic.Publishers
	bodies     []string
	answer     func(w http.ResponseWriter, try int, up bool) bool // false: keep the batch, and answer that it is kept
	keeps      bool                                               // also what is answered otherwise
	tries      int
	up         bool // the first flush is over
}

func (k *keeper) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if r.Method == http.MethodGet {
		fmt.Fprint(w, `{"partitionCount":1}`)
		return
	}
	raw, _ := io.ReadAll(r.Body)
	k.tries++
	take := func() {
		batch, err := message.OpenBatch(raw)
		if err != nil {
			panic(err)
		}
		p := batch.Publisher()
		if _, repeat, err := k.publishers.Check(p.ID, p.Sequence, uint32(batch.Count())); err != nil || repeat {
			return
		}
		k.publishers.Note(p.ID, p.Sequence, uint32(batch.Count()), int64(len(k.bodies)))
		for m := range batch.Messages() {
			k.bodies = append(k.bodies, string(m.Body))
		}
	}
	if k.answer(w, k.tries, k.up) {
		if k.keeps {
			take()
		}
		return
	}
	take()
	fmt.Fprint(w, `{"accepted":1,"dropped":0,"receipts":[]}`)
}

func lost(w http.ResponseWriter) bool {
	c, _, _ := w.(http.Hijacker).Hijack()
	c.Close()
	return true
}

func problem(w http.ResponseWriter, status int) bool {
	w.Header().Set("Content-Type", ProblemType)
	w.WriteHeader(status)
	fmt.Fprintf(w, `{"type":"about:blank","title":"no","status":%d,"detail":"no"}`, status)
	return true
}

func TestABatchOfUnclearOutcomeIsKeptOnceAndTakesNoOtherDownWithIt(t *testing.T) {
	for name, c := range map[string]struct {
		answer func(w http.ResponseWriter, try int, up bool) bool
		keeps  bool
		fails  bool // the first flush
		want   []string
	}{
		"the answer is lost":        {func(w http.ResponseWriter, try int, up bool) bool { return !up && lost(w) }, true, true, []string{"one", "two"}},
		"the request is lost":       {func(w http.ResponseWriter, try int, up bool) bool { return !up && lost(w) }, false, true, []string{"one", "two"}},
		"it is refused for a while": {func(w http.ResponseWriter, try int, up bool) bool { return try <= 2 && problem(w, 503) }, false, false, []string{"one", "two"}},
		"it is refused":             {func(w http.ResponseWriter, try int, up bool) bool { return try == 1 && problem(w, 413) }, false, true, []string{"two"}},
		"kept, then refused, and it is not known": {func(w http.ResponseWriter, try int, up bool) bool {
			return try == 1 && lost(w) || try == 2 && problem(w, 409)
		}, true, true, []string{"one", "two"}},
		"lost, then refused, and it is not known": {func(w http.ResponseWriter, try int, up bool) bool {
			return try == 1 && lost(w) || try == 2 && problem(w, 409)
		}, false, true, []string{"two"}},
	} {
		t.Run(name, func(t *testing.T) {
			k := &keeper{publishers: topic.NewPublishers(), answer: c.answer, keeps: c.keeps}
			server := httptest.NewServer(k)
			defer server.Close()
			api, err := New(server.URL, "t")
			require.NoError(t, err)
			p, err := api.NewPublisher(t.Context(), address.Channel("coldchain", "readings"), message.Plain)
			require.NoError(t, err)
			p.Patience = 30 * time.Second
			if c.fails {
				p.Patience = 100 * time.Millisecond
			}
			require.NoError(t, p.Add(t.Context(), &message.Message{Body: []byte("one")}, 0))
			err = p.Flush(t.Context())
			assert.Equal(t, c.fails, err != nil, "%v", err)
			k.mu.Lock()
			k.up = true
			k.mu.Unlock()
			require.NoError(t, p.Add(t.Context(), &message.Message{Body: []byte("two")}, 0))
			p.Patience = 30 * time.Second
			for range 5 {
				if err = p.Flush(t.Context()); err == nil {
					break
				}
			}
			require.NoError(t, err)
			assert.Equal(t, c.want, k.bodies)
			assert.Zero(t, p.Unclear())
		})
	}
}
