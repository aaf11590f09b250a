package test

import (
	"fmt"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"

	"steadyferry/test/harness"
)

// What one request has made, the next one finds, however many others change
// the records at the same time.
func TestWhatIsMadeIsThereAtOnce(t *testing.T) {
	n := harness.Start(t)
	n.Topic("coldchain/readings", 1)
	var wg sync.WaitGroup
	for w := range 8 {
		wg.Go(func() {
			for i := range 12 {
				name := fmt.Sprintf("t-%d-%d", w, i)
				made := n.Ask("POST", "/api/v1/channels", `{"address":"coldchain/`+name+`","kind":"topic"}`)
				assert.Equal(t, 201, made.Status, made.Body)
				sent := n.Ask("POST", "/api/v1/channels/coldchain/"+name+"/messages", "x")
				assert.Equal(t, 200, sent.Status, sent.Body)
			}
		})
	}
	wg.Wait()
}
