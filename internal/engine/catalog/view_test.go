package catalog

import (
	"fmt"
	"sync"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Nobody has restored a backup because two who read the records at the same
// time end in another order than they began, and what was made stays seen.
func TestReadingWhileOthersChangeIsNoRestore(t *testing.T) {
	c, _, _, ch, _, _ := filled(t)
	ctx := t.Context()
	var readers, writers sync.WaitGroup
	var done atomic.Bool
	for range 3 {
		readers.Go(func() {
			for !done.Load() {
				assert.NoError(t, c.refresh(ctx))
			}
		})
	}
	for w := range 6 {
		writers.Go(func() {
			for i := range 30 {
				n := *ch
				n.Name = fmt.Sprintf("t-%d-%d", w, i)
				if !assert.NoError(t, c.NewChannel(ctx, &n, nil, nil)) {
					return
				}
				assert.NotNil(t, c.View().Channels["coldchain/"+n.Name], "made, and not seen")
			}
		})
	}
	writers.Wait()
	done.Store(true)
	readers.Wait()
	require.Zero(t, c.wentBack.Load(), "the version at which the records are said to have gone back")
}
