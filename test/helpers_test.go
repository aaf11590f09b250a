package test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"

	"steadyferry/test/harness"
)

func TestMain(m *testing.M) { harness.Main(m) }

// signalAll sends a signal to a process and its children.
func signalAll(t *testing.T, pid int, signal syscall.Signal) {
	t.Helper()
	syscall.Kill(pid, signal)
	stats, err := filepath.Glob("/proc/[0-9]*/stat")
	require.NoError(t, err)
	for _, path := range stats {
		b, err := os.ReadFile(path)
		if err != nil {
			continue // it has ended
		}
		text := string(b)
		var child, parent int
		var state string
		fmt.Sscan(text, &child)
		fmt.Sscan(text[strings.LastIndex(text, ")")+1:], &state, &parent)
		if parent == pid {
			syscall.Kill(child, signal)
		}
	}
}
