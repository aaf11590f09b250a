package postgres_test

import (
	"context"
	"net/url"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/engine/postgres"
	"steadyferry/internal/engine/postgres/testdb"
)

func TestMain(m *testing.M) { testdb.Main(m) }

// A server is reached on loopback with its password, until that ends.
func TestAServerOnLoopback(t *testing.T) {
	_, address := testdb.New(t)
	ctx, end := context.WithCancel(t.Context())
	host, err := postgres.Loopback(ctx, address)
	require.NoError(t, err)
	u, err := url.Parse(address)
	require.NoError(t, err)
	password, _ := u.User.Password()
	connect := func(password string) (*pgx.Conn, error) {
		to := url.URL{Scheme: "postgres", User: url.UserPassword(u.User.Username(), password), Host: host, Path: u.Path, RawQuery: "sslmode=disable"}
		return pgx.Connect(t.Context(), to.String())
	}
	conn, err := connect(password)
	require.NoError(t, err)
	var one int
	require.NoError(t, conn.QueryRow(t.Context(), "SELECT 1").Scan(&one))
	assert.Equal(t, 1, one)
	_, err = connect("not the password")
	assert.ErrorContains(t, err, "28P01")
	end()
	assert.Error(t, conn.QueryRow(t.Context(), "SELECT 1").Scan(&one), "what is open ends")
	_, err = connect(password)
	assert.Error(t, err)
	_, err = postgres.Loopback(t.Context(), "postgres://x@/y?host="+t.TempDir())
	assert.ErrorContains(t, err, "no server listens in")
}
