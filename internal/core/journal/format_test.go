package journal

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Logs of another format are refused, and stay as they are; an empty directory
// gets this one.
func TestLogsOfAnotherFormatAreRefused(t *testing.T) {
	fresh := filepath.Join(t.TempDir(), "logs")
	for range 2 {
		store, err := OpenStore(fresh)
		require.NoError(t, err)
		require.NoError(t, store.Close())
	}
	b, err := os.ReadFile(filepath.Join(fresh, formatName))
	require.NoError(t, err)
	assert.Equal(t, format+"\n", string(b))
	require.NoError(t, os.WriteFile(filepath.Join(fresh, formatName), []byte("7\n"), 0o600))
	_, err = OpenStore(fresh)
	assert.ErrorContains(t, err, `have format "7", and this version reads format 3`)

	old := t.TempDir()
	segment := filepath.Join(old, "1", "0", "00000000000000000001.seg")
	require.NoError(t, os.MkdirAll(filepath.Dir(segment), 0o700))
	require.NoError(t, os.WriteFile(segment, []byte("SFSEG1\n\x00"), 0o600))
	_, err = OpenStore(old)
	assert.ErrorContains(t, err, "of a version before format 3")
	assert.FileExists(t, segment)
	entries, err := os.ReadDir(old)
	require.NoError(t, err)
	assert.Len(t, entries, 1)
}
