package term

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Sessions are kept for each server, for their user's eyes alone.
func TestSessionsAreKeptForTheirUserAlone(t *testing.T) {
	t.Setenv("XDG_CONFIG_HOME", t.TempDir())
	servers := []string{"http://127.0.0.1:1", "http://127.0.0.1:2"}
	kept := func(servers ...string) string {
		token, err := keptSession(servers)
		require.NoError(t, err)
		return token
	}
	assert.Empty(t, kept(servers...))
	path, err := KeepSession(servers, "s-1")
	require.NoError(t, err)
	_, err = KeepSession([]string{"https://ferry.example"}, "s-2")
	require.NoError(t, err)
	assert.Equal(t, []string{"s-1", "s-1", "s-2", ""}, []string{kept(servers...), kept(servers[1]), kept("https://ferry.example"), kept("http://127.0.0.1:3")})
	for at, mode := range map[string]os.FileMode{path: 0o600, filepath.Dir(path): 0o700} {
		info, err := os.Stat(at)
		require.NoError(t, err)
		assert.Equal(t, mode, info.Mode().Perm(), at)
	}
	require.NoError(t, os.Chmod(path, 0o640))
	_, err = keptSession(servers)
	assert.ErrorContains(t, err, "chmod 600")
	require.NoError(t, os.Chmod(path, 0o600))
	token, err := ForgetSession(servers)
	require.NoError(t, err)
	assert.Equal(t, "s-1", token)
	token, err = ForgetSession(servers)
	require.NoError(t, err)
	assert.Empty(t, token)
	assert.Equal(t, "s-2", kept("https://ferry.example"))
	require.NoError(t, os.WriteFile(path, []byte("{"), 0o600))
	_, err = keptSession(servers)
	assert.ErrorContains(t, err, "is broken")
}
