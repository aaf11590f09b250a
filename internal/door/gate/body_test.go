package gate

import (
	"bytes"
	"context"
	"errors"
	"io"
	"math/rand/v2"
	"net/http/httptest"
	"testing"
	"testing/iotest"

	"github.com/gin-gonic/gin"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/admit"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/engine/part"
)

const (
	testRoom  = 12
	testLimit = 2 << 20
)

// testBody reads content as the body of a request; announced says whether its
// length is known before.
func testBody(content io.Reader, length int64, hold *admit.Hold) ([]byte, error) {
	c, _ := gin.CreateTestContext(httptest.NewRecorder())
	c.Request = httptest.NewRequest("POST", "/", content)
	c.Request.ContentLength = length
	return ReadBody(context.Background(), c, part.Hold{Hold: hold}, testRoom, testLimit)
}

func someBytes(size int) []byte {
	b := make([]byte, size)
	rng := rand.New(rand.NewPCG(uint64(size), 1))
	for i := range b {
		b[i] = byte(rng.Uint32())
	}
	return b
}

// TestABodyComesWhole reads bodies about every size at which the buffer
// changes, in pieces of every kind, with and without an announced length.
func TestABodyComesWhole(t *testing.T) {
	all := admit.NewBytes(1<<30, 1<<30, 0)
	var kept, wanted [][]byte
	for _, around := range []int{0, 16 << 10, 128 << 10, 1 << 20, testLimit} {
		for size := max(0, around-testRoom-1); size <= min(around+1, testLimit); size++ {
			content := someBytes(size)
			for _, reader := range []io.Reader{bytes.NewReader(content), iotest.HalfReader(bytes.NewReader(content)), iotest.DataErrReader(bytes.NewReader(content))} {
				length := int64(size)
				if size%2 == 1 {
					length = -1
				}
				hold := all.Hold("caller")
				got, err := testBody(reader, length, hold)
				require.NoError(t, err, "%d bytes", size)
				require.Len(t, got, testRoom+size)
				if !bytes.Equal(content, got[testRoom:]) {
					t.Fatalf("a body of %d bytes came changed", size)
				}
				hold.Release()
				kept, wanted = append(kept, got), append(wanted, content)
			}
		}
	}
	for i := range kept {
		require.True(t, bytes.Equal(wanted[i], kept[i][testRoom:]), "a later request wrote into an earlier body of %d bytes", len(wanted[i]))
	}
}

// TestABodyHoldsWhatHasCome stops bodies that announce much after a few bytes.
func TestABodyHoldsWhatHasCome(t *testing.T) {
	for came, most := range map[int]int64{1: 16 << 10, 16 << 10: 128 << 10, 128 << 10: 1 << 20} {
		all := admit.NewBytes(1<<30, 1<<30, 0)
		hold := all.Hold("caller")
		stalled := io.MultiReader(bytes.NewReader(someBytes(came)), iotest.ErrReader(errors.New("stalled")))
		_, err := testBody(stalled, testLimit, hold)
		require.EqualError(t, err, "stalled")
		require.LessOrEqual(t, all.Held(), most, "after %d bytes", came)
		hold.Release()
		require.Zero(t, all.Held())
	}
}

// TestABodyThatIsNotWhatItSays refuses bodies that are too long or too short.
func TestABodyThatIsNotWhatItSays(t *testing.T) {
	hold := admit.NewBytes(1<<30, 1<<30, 0).Hold("caller")
	var tooLong *problem.Problem
	_, err := testBody(bytes.NewReader(nil), testLimit+1, hold)
	require.ErrorAs(t, err, &tooLong, "an announced length beyond the limit")
	_, err = testBody(bytes.NewReader(someBytes(testLimit+1)), -1, hold)
	require.ErrorAs(t, err, &tooLong, "more than the limit, not announced")
	_, err = testBody(bytes.NewReader(someBytes(100)), 101, hold)
	require.ErrorIs(t, err, io.ErrUnexpectedEOF)
}
