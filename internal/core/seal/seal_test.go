package seal

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestWhatIsSealedOpensInItsPlaceAlone(t *testing.T) {
	one, two := NewKey(), NewKey()
	old, err := Parse([]byte("# the first key\n" + one + "\n"))
	require.NoError(t, err)
	both, err := Parse([]byte(two + "\n\n" + one))
	require.NoError(t, err)
	other, err := Parse([]byte(two))
	require.NoError(t, err)

	sealed := old.Seal("endpoints/7", []byte("a secret"))
	assert.NotContains(t, string(sealed), "secret")
	assert.NotEqual(t, sealed, old.Seal("endpoints/7", []byte("a secret")), "each time another nonce")
	for _, ring := range []Ring{old, both} {
		secret, err := ring.Open("endpoints/7", sealed)
		require.NoError(t, err)
		assert.Equal(t, "a secret", string(secret))
	}
	assert.True(t, old.Newest(sealed))
	assert.False(t, both.Newest(sealed))
	assert.True(t, both.Newest(both.Seal("x", nil)))

	_, err = old.Open("endpoints/8", sealed)
	assert.ErrorContains(t, err, "was changed since")
	_, err = other.Open("endpoints/7", sealed)
	assert.ErrorContains(t, err, "which this node does not have (it has "+other.Names()+")")
	for i := range sealed {
		broken := append([]byte{}, sealed...)
		broken[i] ^= 1
		_, err := old.Open("endpoints/7", broken)
		assert.Error(t, err, i)
	}
	for i := range sealed {
		_, err := old.Open("endpoints/7", sealed[:i])
		assert.Error(t, err, i)
	}
}

func TestWhichKeysAreRead(t *testing.T) {
	for text, wanted := range map[string]string{"": "there is no key", "# nothing\n": "there is no key", NewKey() + "\nshort\n": "line 2 is no key"} {
		_, err := Parse([]byte(text))
		assert.ErrorContains(t, err, wanted)
	}
}
