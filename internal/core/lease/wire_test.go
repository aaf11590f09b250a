package lease

import (
	"testing"

	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/queue"
)

// What a member sends is read or refused, and read again as it was.
func FuzzDecodeWork(f *testing.F) {
	w := Call{Member: "m", Partition: -1, Max: 3, Wait: 7, Leases: []ID{{1, 2, 3, 1 << 63}, {0, 9, 1, 7}}, Settle: []queue.Settlement{{Outcome: queue.Accept}, {Outcome: queue.Reject, Reason: "r", Detail: "d", Untouched: true}}}
	f.Add(w.Encode(nil))
	f.Add([]byte{})
	f.Fuzz(func(t *testing.T, b []byte) {
		w, err := DecodeWork(b)
		if err != nil {
			require.ErrorIs(t, err, queue.ErrCommand)
			return
		}
		again, err := DecodeWork(w.Encode(nil))
		require.NoError(t, err)
		require.Equal(t, w, again)
	})
}
