package proof

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestAProofIsForOneHolderAndOneThing(t *testing.T) {
	k := New("secret", "leases")
	lana := k.Given("lana", 1, 2)
	p := lana.Of(3, 4)
	assert.True(t, lana.Is(p, 3, 4))
	assert.Equal(t, p, lana.Of(3, 4), "it is the same again")
	assert.Equal(t, p, New("secret", "leases").Given("lana", 1, 2).Of(3, 4), "each node makes the same")
	assert.False(t, lana.Is(0, 3, 4))
	for name, other := range map[string]*Given{
		"another holder":    k.Given("other", 1, 2),
		"nobody":            k.Given("", 1, 2),
		"another place":     k.Given("lana", 2, 1),
		"another partition": k.Given("lana", 1, 0),
		"another cluster":   New("another", "leases").Given("lana", 1, 2),
		"another use":       New("secret", "members").Given("lana", 1, 2),
	} {
		assert.False(t, other.Is(p, 3, 4), name)
	}
	for _, c := range [][2]uint64{{0, 4}, {3, 0}, {4, 3}} {
		assert.False(t, lana.Is(p, c[0], c[1]), c)
	}
	for bit := range 64 {
		assert.False(t, lana.Is(p^1<<bit, 3, 4), bit)
	}
}

func TestProofsDoNotMeet(t *testing.T) {
	lana := New("secret", "leases").Given("lana", 1, 2)
	seen := map[uint64]bool{}
	for i := range uint64(100_000) {
		p := lana.Of(i, i*i)
		assert.NotZero(t, p)
		seen[p] = true
	}
	assert.Len(t, seen, 100_000)
}

func BenchmarkOf(b *testing.B) {
	lana := New("secret", "leases").Given("lana", 1, 2)
	b.ReportAllocs()
	for b.Loop() {
		lana.Of(3, 4)
	}
}
