// Package gate is what every request goes through, whichever door it is for: whose
// host it names, who asks, what its query may have, how its body comes in and
// large answers go out, how much one caller may do at once, and how an error is
// told. It decides nothing of its own about messages or channels.
package gate

import (
	"net/http"
	"time"

	"golang.org/x/sync/semaphore"

	"steadyferry/internal/core/admit"
	"steadyferry/internal/core/cores"
	"steadyferry/internal/service"
)

// Gate is that of one node. It may be used at once by many.
type Gate struct {
	Node     *service.Services
	Wrong    *admit.Rates // secrets that are not in force, by address
	stopping chan struct{}
	queries  map[operation]map[string]string
	needs    map[operation]need
	names    []string // hosts that are this node
	origin   *http.CrossOriginProtection
	encoding *semaphore.Weighted // of those who turn large answers into JSON

	Handler http.Handler // of all requests, for what is done once more; set before the first
}

// Secrets that are not in force, of one address: so many at once, and then one
// every while.
const wrongBurst, wrongEvery = 30, 2 * time.Second

// New returns the gate of a node. The document is its OpenAPI document, which says
// which query parameters there are, and which verb each operation needs; names are the hosts under which callers may
// reach it, besides IP addresses and localhost.
func New(n *service.Services, document map[string]any, names []string) (*Gate, error) {
	needs, err := needsOf(document)
	return &Gate{needs: needs, Node: n, stopping: make(chan struct{}), queries: queriesOf(document), names: names, origin: http.NewCrossOriginProtection(),
		Wrong: admit.NewRates("secrets that are not in force", wrongBurst, wrongEvery), encoding: semaphore.NewWeighted(int64(cores.AllButOne()))}, err
}

// Stop ends the streams that would otherwise stay open.
func (g *Gate) Stop() { close(g.stopping) }
