package postgres

import (
	"bytes"
	"context"
	"io"
	"net"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func started(t *testing.T, dir string) *Server {
	t.Helper()
	s, err := Start(t.Context(), dir)
	require.NoError(t, err)
	t.Cleanup(func() {
		ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
		defer cancel()
		s.Stop(ctx)
	})
	return s
}

func directory(t *testing.T) string {
	t.Helper()
	dir, err := os.MkdirTemp("", "ferry-test-")
	require.NoError(t, err)
	require.NoError(t, os.Chmod(dir, 0o711))
	t.Cleanup(func() { os.RemoveAll(dir) })
	return dir
}

func TestTheDatabaseIsForItsRoleAlone(t *testing.T) {
	dir := directory(t)
	s := started(t, dir)
	ctx := t.Context()
	conn, err := pgx.Connect(ctx, s.URL())
	require.NoError(t, err)
	defer conn.Close(ctx)
	var super, makesRoles, makesDatabases bool
	require.NoError(t, conn.QueryRow(ctx, `SELECT rolsuper, rolcreaterole, rolcreatedb FROM pg_roles WHERE rolname = current_user`).Scan(&super, &makesRoles, &makesDatabases))
	assert.False(t, super || makesRoles || makesDatabases)
	var listens string
	require.NoError(t, conn.QueryRow(ctx, `SHOW listen_addresses`).Scan(&listens))
	assert.Empty(t, listens, "nothing listens on a port")
	_, err = conn.Exec(ctx, `COPY (SELECT 1) TO PROGRAM 'true'`)
	assert.ErrorContains(t, err, "42501", "insufficient privilege")

	for path, mode := range map[string]os.FileMode{"postgres": 0o700, "database.url": 0o600} {
		info, err := os.Stat(filepath.Join(dir, path))
		require.NoError(t, err)
		assert.Equal(t, mode, info.Mode().Perm(), path)
	}
	u, err := url.Parse(s.URL())
	require.NoError(t, err)
	for what, user := range map[string]*url.Userinfo{"a superuser": url.UserPassword(superuser, "x"), "a wrong password": url.UserPassword(role, "x"), "no password": url.User(role)} {
		as := *u
		as.User = user
		_, err := pgx.Connect(ctx, as.String())
		assert.Error(t, err, what)
	}
}

// Whoever holds the place of the server gets no password: it would have to
// know it.
func TestNobodyElseIsToldThePassword(t *testing.T) {
	dir := directory(t)
	l, err := net.Listen("unix", filepath.Join(dir, ".s.PGSQL.5432"))
	require.NoError(t, err)
	defer l.Close()
	said := make(chan []byte, 1)
	go func() {
		c, err := l.Accept()
		if err != nil {
			return
		}
		defer c.Close()
		c.SetDeadline(time.Now().Add(2 * time.Second))
		b := make([]byte, 1024)
		n, _ := c.Read(b)
		c.Write([]byte{'R', 0, 0, 0, 8, 0, 0, 0, 3}) // asks for the password in clear text
		rest, _ := io.ReadAll(c)
		said <- append(b[:n], rest...)
	}()
	s := &Server{dir: dir}
	ctx, cancel := context.WithTimeout(t.Context(), 5*time.Second)
	defer cancel()
	_, err = pgx.Connect(ctx, demanding(s.address("the-password", dir)))
	assert.Error(t, err)
	assert.False(t, bytes.Contains(<-said, []byte("the-password")))
}

// As root, which PostgreSQL refuses to be, it runs as another user, who may not
// enter root's own directories.
func TestItRunsBelowADirectoryThatIsClosedToOthers(t *testing.T) {
	dir := directory(t)
	require.NoError(t, os.Chmod(dir, 0o700))
	inner := filepath.Join(dir, "data")
	require.NoError(t, os.Mkdir(inner, 0o700))
	t.Chdir(dir)
	s := started(t, "data")
	conn, err := pgx.Connect(t.Context(), s.URL())
	require.NoError(t, err)
	require.NoError(t, conn.Close(t.Context()))
}

func TestALongPathGetsASocketOfItsOwn(t *testing.T) {
	dir := filepath.Join(directory(t), strings.Repeat("long-", 20))
	require.NoError(t, os.Mkdir(dir, 0o711))
	s := started(t, dir)
	conn, err := pgx.Connect(t.Context(), s.URL())
	require.NoError(t, err)
	conn.Close(t.Context())
}
