package test

import (
	"os/exec"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/test/harness"
)

// A client that was written from the document alone gets on with the service.
func TestAClientWrittenFromTheDocument(t *testing.T) {
	python, err := exec.LookPath("python3")
	require.NoError(t, err, "scripts/setup tests installs it")
	n := harness.Start(t)
	out, err := exec.Command(python, "python/client.py", n.URL, n.Token).CombinedOutput()
	require.NoError(t, err, string(out))
	assert.Equal(t, "done\n", string(out))
}
