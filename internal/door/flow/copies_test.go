package flow_test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/form"
	"steadyferry/internal/core/message"
	"steadyferry/internal/core/setting"
	"steadyferry/test/doortest"
)

// A batch of a route elsewhere is taken once, directly behind what there is, and the answer
// says what there is.
func TestCopiesAreTakenOnce(t *testing.T) {
	d := doortest.Open(t)
	d.Channel(setting.Topic, "coldchain/copies", setting.Change{"partitionCount": 2, "maxBody": int64(1000)})
	id := uuid.NewString()
	path := func(partition int, route, query string) string {
		return fmt.Sprintf("/api/v1/channels/coldchain/copies/partitions/%d/copies/%s?source=3%s", partition, route, query)
	}
	batch := func(bodies ...string) string {
		var b message.Builder
		for _, body := range bodies {
			b.Add(&message.Message{Body: []byte(body)})
		}
		return string(b.Build(message.Plain, nil))
	}
	copied := func(r *http.Response, body string) (c form.Copied) {
		t.Helper()
		require.Equal(t, http.StatusOK, r.StatusCode, body)
		require.NoError(t, json.Unmarshal([]byte(body), &c))
		return c
	}
	kept := func() string {
		_, body := d.Do("GET", "/api/v1/channels/coldchain/copies/messages?from=first", "", "")
		return body
	}
	assert.Equal(t, form.Copied{Place: "0.0.0"}, copied(d.Do("GET", path(0, id, ""), "", "")))
	first := path(0, id, "&after=0.0.0&upTo=0.1.10")
	assert.Equal(t, form.Copied{Taken: true, Place: "0.1.10"}, copied(d.Do("POST", first, form.BatchType, batch("one", "two"))))
	assert.Equal(t, form.Copied{Place: "0.1.10"}, copied(d.Do("POST", first, form.BatchType, batch("one", "two"))), "it is there")
	assert.Equal(t, form.Copied{Place: "0.1.10"}, copied(d.Do("POST", path(0, id, "&after=0.1.12&upTo=0.1.20"), form.BatchType, batch("five"))), "something lacks")
	assert.Equal(t, form.Copied{Taken: true, Place: "0.1.20"}, copied(d.Do("POST", path(0, id, "&after=0.1.10&upTo=0.1.20"), form.BatchType, batch("three"))))
	assert.Equal(t, form.Copied{Place: "0.0.0"}, copied(d.Do("GET", path(1, id, ""), "", "")), "each partition for itself")
	assert.Equal(t, form.Copied{Place: "0.0.0"}, copied(d.Do("GET", path(0, uuid.NewString(), ""), "", "")), "each route for itself")
	for _, body := range []string{"one", "two", "three"} {
		assert.Contains(t, kept(), body)
	}
	assert.NotContains(t, kept(), "five")

	for name, c := range map[string]struct {
		path, body string
		status     int
		says       string
	}{
		"no batch":         {path(0, id, "&after=0.1.20&upTo=0.1.30"), "a text", 400, "batch"},
		"too large":        {path(0, id, "&after=0.1.20&upTo=0.1.30"), batch(string(make([]byte, 2000))), 413, "1000"},
		"no place":         {path(0, id, "&after=0.1&upTo=0.1.30"), batch("x"), 400, "three numbers with dots"},
		"not a number":     {path(0, id, "&after=0.1.20&upTo=0.1.x"), batch("x"), 400, `\"x\" is no number`},
		"backwards":        {path(0, id, "&after=0.1.20&upTo=0.1.20"), batch("x"), 400, "not behind"},
		"no route":         {path(0, "all", "&after=0.1.20&upTo=0.1.30"), batch("x"), 400, "not the id of a route"},
		"no partition":     {path(7, id, "&after=0.1.20&upTo=0.1.30"), batch("x"), 404, "partition"},
		"no source":        {"/api/v1/channels/coldchain/copies/partitions/0/copies/" + id + "?source=99999&after=0.1.20&upTo=0.1.30", batch("x"), 400, "source"},
		"recovered a text": {path(0, id, "&after=0.1.20&upTo=0.1.30&recovered=no"), batch("x"), 400, "recovered"},
	} {
		t.Run(name, func(t *testing.T) {
			r, body := d.Do("POST", c.path, form.BatchType, c.body)
			assert.Equal(t, c.status, r.StatusCode, body)
			assert.Contains(t, body, c.says)
		})
	}
}
