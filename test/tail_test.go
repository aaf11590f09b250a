package test

import (
	"bufio"
	"context"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/test/harness"
)

// Each event has the id of the place after it, so that a reader that goes on
// from it gets nothing again.
func TestEachEventOfATailHasItsPlace(t *testing.T) {
	n := harness.Start(t)
	n.Topic("coldchain/readings", 1)
	publishMany(t, n, "coldchain/readings", 30)
	ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
	defer cancel()
	read := func(last string, want []string) {
		request, err := http.NewRequestWithContext(ctx, "GET", n.URL+"/api/v1/channels/coldchain/readings/tail?from=first", nil)
		require.NoError(t, err)
		request.Header.Set("Authorization", "Bearer "+n.Token)
		if last != "" {
			request.Header.Set("Last-Event-ID", last)
		}
		response, err := http.DefaultClient.Do(request)
		require.NoError(t, err)
		defer response.Body.Close()
		var ids []string
		id := ""
		for lines := bufio.NewScanner(response.Body); len(ids) < len(want) && lines.Scan(); {
			if text, ok := strings.CutPrefix(lines.Text(), "id: "); ok {
				id = text
			} else if strings.HasPrefix(lines.Text(), "data: ") {
				ids = append(ids, id)
			}
		}
		assert.Equal(t, want, ids)
	}
	read("", []string{"0:1", "0:2", "0:3", "0:4"})
	read("0:17", []string{"0:18", "0:19"})
}
