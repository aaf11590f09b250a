package look_test

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/access/accesstest"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/expr"
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/engine/part"
	"steadyferry/internal/engine/postgres/testdb"
	"steadyferry/internal/node/nodetest"
	"steadyferry/internal/service/look"
)

func TestMain(m *testing.M) { testdb.Main(m) }

func at(t *testing.T, text string) address.Position {
	t.Helper()
	p, err := address.ParsePosition(text)
	require.NoError(t, err)
	return p
}

func where(t *testing.T, text string) *expr.Condition {
	t.Helper()
	if text == "" {
		return nil
	}
	c, err := expr.Compile(text)
	require.NoError(t, err)
	return c
}

// browse returns the bodies that are found, in their order, and the last word
// of how far it came.
func browse(t *testing.T, n *nodetest.Node, s look.Selection) (string, form.Progress) {
	t.Helper()
	var found []string
	var last form.Progress
	require.NoError(t, n.Look.Browse(accesstest.Owner(t), s, func(e look.Event) error {
		if e.Message != nil {
			found = append(found, string(e.Message.Body))
		}
		if e.Progress != nil {
			last = *e.Progress
		}
		return nil
	}))
	return strings.Join(found, " "), last
}

// numbered publishes 0 to count-1, in turn to three partitions, one after the
// other.
func numbered(t *testing.T, n *nodetest.Node, count int) *part.Channel {
	t.Helper()
	topic := n.Channel(setting.Topic, "coldchain/readings", setting.Change{"partitionCount": 3})
	for i := range count {
		n.Publish(topic, i%3, fmt.Sprint(i))
		time.Sleep(time.Millisecond) // so that their times differ
	}
	return topic
}

func TestABrowseFindsWhatIsMeantInOrder(t *testing.T) {
	n := nodetest.Open(t)
	topic := numbered(t, n, 12)
	all := look.Selection{Topic: topic, From: at(t, "first"), To: at(t, "end"), Limit: 100}
	found, last := browse(t, n, all)
	assert.Equal(t, "0 1 2 3 4 5 6 7 8 9 10 11", found)
	assert.Equal(t, form.Progress{LookedAt: 12, Total: 12, Found: 12}, last)
	for name, c := range map[string]struct {
		change func(s *look.Selection)
		wanted string
	}{
		"newest first":        {func(s *look.Selection) { s.Newest = true }, "11 10 9 8 7 6 5 4 3 2 1 0"},
		"the first few":       {func(s *look.Selection) { s.Limit = 4 }, "0 1 2 3"},
		"the most recent few": {func(s *look.Selection) { s.Limit, s.Recent = 4, true }, "8 9 10 11"},
		"those, newest first": {func(s *look.Selection) { s.Limit, s.Recent, s.Newest = 4, true, true }, "11 10 9 8"},
		"of one partition":    {func(s *look.Selection) { s.Partitions = []int{1} }, "1 4 7 10"},
		"by a condition":      {func(s *look.Selection) { s.Where = where(t, "int(text) % 5 == 0") }, "0 5 10"},
		"a condition, recent": {func(s *look.Selection) { s.Where, s.Limit, s.Recent = where(t, "int(text) > 2"), 2, true }, "10 11"},
		"from an offset":      {func(s *look.Selection) { s.Partitions, s.From = []int{0}, at(t, "offset:2") }, "6 9"},
		"up to an offset":     {func(s *look.Selection) { s.Partitions, s.To = []int{0}, at(t, "offset:2") }, "0 3"},
		"nothing before":      {func(s *look.Selection) { s.To = at(t, "time:2001-01-01T00:00:00Z") }, ""},
		"of the last hour":    {func(s *look.Selection) { s.From = at(t, "ago:1h") }, "0 1 2 3 4 5 6 7 8 9 10 11"},
	} {
		s := all
		c.change(&s)
		found, _ := browse(t, n, s)
		assert.Equal(t, c.wanted, found, name)
	}
}

func TestABrowseEndsWithItsCallerAndItsReader(t *testing.T) {
	n := nodetest.Open(t)
	topic := numbered(t, n, 6)
	s := look.Selection{Topic: topic, From: at(t, "first"), To: at(t, "end"), Limit: 100}
	full := errors.New("the reader has enough")
	assert.ErrorIs(t, n.Look.Browse(accesstest.Owner(t), s, func(e look.Event) error { return full }), full)
	ctx, cancel := context.WithCancel(accesstest.Owner(t))
	cancel()
	assert.Error(t, n.Look.Browse(ctx, s, func(look.Event) error { return nil }))
	s.Where = where(t, `("a"+text).replace("a","aaaaaaaaaa").replace("a","aaaaaaaaaa").replace("a","aaaaaaaaaa").replace("a","aaaaaaaaaa").replace("a","aaaaaaaaaa").replace("a","aaaaaaaaaa").replace("a","aaaaaaaaaa").replace("a","aaaaaaaaaa").size() > 0`)
	assert.ErrorContains(t, n.Look.Browse(accesstest.Owner(t), s, func(look.Event) error { return nil }), "make the condition simpler")
}

// A tail tells what comes, where it stopped, and nothing twice when it goes on
// from there.
func TestATailTellsWhatComesAndGoesOn(t *testing.T) {
	n := nodetest.Open(t)
	topic := numbered(t, n, 3)
	tail := func(from string, resume look.TailPositions, most int) (bodies []string, last look.TailPositions) {
		t.Helper()
		ctx, cancel := context.WithTimeout(accesstest.Owner(t), 10*time.Second)
		defer cancel()
		var mu sync.Mutex
		err := n.Look.Tail(ctx, look.Selection{Topic: topic, From: at(t, from)}, resume, func(e look.Event, p look.TailPositions) error {
			mu.Lock()
			defer mu.Unlock()
			if e.Message != nil {
				bodies = append(bodies, string(e.Message.Body))
				last = look.TailPositions{}
				for k, v := range p {
					last[k] = v
				}
			}
			if len(bodies) == most {
				cancel()
			}
			return nil
		}, func(look.TailPositions) error {
			if most == 0 {
				cancel()
			}
			return nil
		})
		assert.ErrorIs(t, err, context.Canceled)
		return bodies, last
	}
	seen, positions := tail("first", nil, 3)
	assert.ElementsMatch(t, []string{"0", "1", "2"}, seen)
	go func() {
		time.Sleep(100 * time.Millisecond)
		n.Publish(topic, 1, "later")
	}()
	seen, _ = tail("first", positions, 1)
	assert.Equal(t, []string{"later"}, seen)
	seen, _ = tail("end", nil, 0)
	assert.Empty(t, seen)
	ended := make(chan error, 1)
	go func() {
		ended <- n.Look.Tail(accesstest.Owner(t), look.Selection{Topic: topic, From: at(t, "end")}, nil, func(look.Event, look.TailPositions) error { return nil }, func(look.TailPositions) error { return nil })
	}()
	time.Sleep(200 * time.Millisecond)
	_, err := n.Manage.RemoveChannel(accesstest.Owner(t), "owner", topic.Address(), false)
	require.NoError(t, err)
	select {
	case err := <-ended:
		assert.ErrorContains(t, err, "was removed")
	case <-time.After(10 * time.Second):
		require.Fail(t, "a tail of a removed topic goes on")
	}
}
