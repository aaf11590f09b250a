package form

import (
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/address"
	"steadyferry/internal/core/message"
)

// A message whose contents are hidden says so, tells how large it is and nothing else of them, and
// is not taken for another one when it is sent again.
func TestWhatIsHiddenIsNamed(t *testing.T) {
	s := &message.Stored{Message: message.Message{ID: "m-1", Key: "box-0007", ContentType: "application/json", Headers: []message.Header{{Name: "box", Value: "secret"}}, Body: []byte(`{"box":"box-0007"}`)},
		Partition: 1, Offset: 12, StoredAt: time.Unix(0, 0).UTC()}
	hidden := MessageOf(address.Channel("coldchain", "readings"), s.Hide())
	b, err := json.Marshal(hidden)
	require.NoError(t, err)
	assert.JSONEq(t, `{"address":"coldchain/readings#1:12","partition":1,"offset":12,"time":"1970-01-01T00:00:00Z","key":"","id":"m-1","headers":{},"contentType":"application/json","size":18,"masked":["key","headers","body"]}`, string(b))
	_, err = ParseMessage(b)
	assert.ErrorContains(t, err, "were hidden")
	assert.Equal(t, "box-0007", s.Key, "the message itself stays")
	shown := MessageOf(address.Channel("coldchain", "readings"), s)
	assert.Empty(t, shown.Masked)
	assert.JSONEq(t, `{"box":"box-0007"}`, string(shown.Body))
}
