package cluster

import (
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"sync"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/message"
	"steadyferry/internal/engine/postgres"
	"steadyferry/test/harness"
)

// outsideFlags let the nodes of a cluster deliver to this machine.
func outsideFlags(t *testing.T) []string {
	t.Helper()
	keys := filepath.Join(t.TempDir(), "seal.keys")
	require.NoError(t, os.WriteFile(keys, []byte("AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA=\n"), 0o600))
	return []string{"-outside-networks", "loopback", "-outside-schemes", "http,postgresql", "-seal-keys", keys}
}

// hook is a place outside that keeps the last place of each lane, and so takes each message
// once.
type hook struct {
	*httptest.Server
	mu     sync.Mutex
	places map[string]message.Place
	bodies map[string]int
	again  int
	wrong  []string
}

func newHook(t *testing.T) *hook {
	t.Helper()
	h := &hook{places: map[string]message.Place{}, bodies: map[string]int{}}
	h.Server = httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		b, err := io.ReadAll(r.Body)
		place, placeErr := message.ParsePlace(r.Header.Get("Ferry-Place"))
		h.mu.Lock()
		defer h.mu.Unlock()
		lane := r.Header.Get("Ferry-Lane")
		switch {
		case err != nil:
		case placeErr != nil:
			h.wrong = append(h.wrong, placeErr.Error())
		case !h.places[lane].Before(place):
			if h.again++; h.bodies[string(b)] == 0 {
				h.wrong = append(h.wrong, "a message comes late: "+lane+" "+place.String())
			}
		default:
			h.places[lane] = place
			h.bodies[string(b)]++
		}
	}))
	t.Cleanup(h.Close)
	return h
}

// has checks that the hook took each of the bodies once.
func (h *hook) has(t *testing.T, kept map[string]int) {
	t.Helper()
	h.mu.Lock()
	defer h.mu.Unlock()
	assert.Empty(t, h.wrong)
	for body := range kept {
		assert.Equal(t, 1, h.bodies[body], "the hook took a message not once")
	}
	assert.Len(t, h.bodies, len(kept))
	t.Logf("the hook: %d messages, %d came again", len(h.bodies), h.again)
}

// rowsOf makes an endpoint in the database of the cluster's records, and its table, which
// counts its rows as they come.
func rowsOf(t *testing.T, c *harness.Cluster, address string) {
	t.Helper()
	host, err := postgres.Loopback(t.Context(), c.Database)
	require.NoError(t, err)
	u, err := url.Parse(c.Database)
	require.NoError(t, err)
	password := filepath.Join(t.TempDir(), "password")
	text, _ := u.User.Password()
	require.NoError(t, os.WriteFile(password, []byte(text), 0o600))
	to := url.URL{Scheme: "postgresql", User: url.User(u.User.Username()), Host: host, Path: u.Path, RawQuery: "sslmode=disable"}
	c.Nodes[0].Must("new", "endpoint", address, "-url", to.String(), "-password-from", password, "-table", "outside.rows", "-column", "source=partition", "-column", "body=body", "-backoff", "50ms..500ms")
	ask(t, c, `CREATE SCHEMA outside`)
	ask(t, c, `CREATE TABLE outside.rows (n bigserial, source int, body text)`)
	c.Nodes[0].Must("endpoint", "table", address, "-yes")
}

func ask(t *testing.T, c *harness.Cluster, query string) [][]any {
	t.Helper()
	conn, err := pgx.Connect(t.Context(), c.Database)
	require.NoError(t, err)
	defer conn.Close(t.Context())
	rows, err := conn.Query(t.Context(), query)
	require.NoError(t, err)
	all, err := pgx.CollectRows(rows, func(row pgx.CollectableRow) ([]any, error) { return row.Values() })
	require.NoError(t, err)
	return all
}

// rowsHave checks that the table has each of the bodies once, and in order.
func rowsHave(t *testing.T, c *harness.Cluster, kept map[string]int) {
	t.Helper()
	last, seen := map[int]int{}, map[string]bool{}
	for _, row := range ask(t, c, `SELECT body FROM outside.rows ORDER BY n`) {
		body := row[0].(string)
		require.False(t, seen[body], "the table has a message twice")
		require.NotZero(t, kept[body], "the table has a message that was not kept")
		seen[body] = true
		from, number := sourceOf(t, body)
		require.Greater(t, number, last[from], "the table is in order")
		last[from] = number
	}
	assert.Len(t, seen, len(kept), "the table lacks messages")
	t.Logf("the table: %d messages", len(seen))
}
