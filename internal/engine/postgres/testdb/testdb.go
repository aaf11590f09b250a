// Package testdb gives tests of one package a PostgreSQL server, and each test
// a database of its own on it.
package testdb

import (
	"context"
	"fmt"
	"net/url"
	"os"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/engine/postgres"
)

var server *postgres.Server

// Main is the TestMain of a package: it runs the tests beside a server.
func Main(m *testing.M) {
	dir, err := os.MkdirTemp("", "ferry-test-")
	if err == nil {
		err = os.Chmod(dir, 0o711)
	}
	if err == nil {
		server, err = postgres.StartForTests(context.Background(), dir)
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, "tests:", err)
		os.Exit(1)
	}
	code := m.Run()
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	server.Stop(ctx)
	cancel()
	os.RemoveAll(dir)
	os.Exit(code)
}

// URL is the address of the server, with a role that may make databases.
func URL() string { return server.URL() }

// New makes an empty database.
func New(t testing.TB) (name, address string) {
	t.Helper()
	name = "t" + uuid.NewString()[:8]
	Exec(t, URL(), "CREATE DATABASE "+name)
	u, err := url.Parse(URL())
	require.NoError(t, err)
	u.Path = "/" + name
	return name, u.String()
}

// Exec runs statements in a database.
func Exec(t testing.TB, address string, statements ...string) {
	t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	conn, err := pgx.Connect(ctx, address)
	require.NoError(t, err)
	defer conn.Close(ctx)
	for _, s := range statements {
		_, err := conn.Exec(ctx, s)
		require.NoError(t, err, s)
	}
}
