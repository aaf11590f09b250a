package test

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/client"
	"steadyferry/test/harness"
)

// A call for the next whose answer was lost commits nothing of it: the next one names what
// has arrived, and gets the rest again.
func TestNextCommitsOnlyWhatHasArrived(t *testing.T) {
	n := harness.Start(t)
	n.Topic("coldchain/readings", 1)
	publishMany(t, n, "coldchain/readings", 30)
	const group = "/api/v1/channels/coldchain/readings/groups/compliance"
	n.Must("new", "group", "coldchain/readings@compliance")
	call := func(path string, body any, into any) harness.Answer {
		b, err := json.Marshal(body)
		require.NoError(t, err)
		answer := n.Ask("POST", group+path, string(b), "Content-Type", "application/json")
		if into != nil {
			require.Contains(t, []int{200, 201}, answer.Status, answer.Body)
			require.NoError(t, json.Unmarshal([]byte(answer.Body), into))
		}
		return answer
	}
	var m client.Membership
	call("/members", client.JoinGroup{Member: "one"}, &m)
	next := func(upTo string, commit bool) (p client.Given) {
		t.Helper()
		call("/members/"+m.MemberID+"/next", client.Next{Max: 10, Wait: "5s", UpTo: upTo, Commit: commit}, &p)
		return p
	}
	committed := func() int64 {
		t.Helper()
		var g client.Group
		require.NoError(t, json.Unmarshal([]byte(n.Ask("GET", group, "").Body), &g))
		return 30 - g.Lag
	}
	offsets := func(p client.Given) (all []int64) {
		for _, m := range p.Messages {
			all = append(all, m.Offset)
		}
		return all
	}
	first := next("", false)
	require.Len(t, first.Messages, 10)
	// Its answer is lost: the member asks as if it had never come.
	again := next("", false)
	assert.Equal(t, offsets(first), offsets(again), "they are handed out again")
	assert.EqualValues(t, 0, committed())

	second := next(again.UpTo, true)
	assert.EqualValues(t, 10, committed(), "what was named, and no more")
	require.Len(t, second.Messages, 10)
	assert.EqualValues(t, 10, second.Messages[0].Offset)
	// The second answer is lost as well.
	third := next(again.UpTo, true)
	assert.Equal(t, offsets(second), offsets(third))
	assert.EqualValues(t, 10, committed())

	refused := call("/members/"+m.MemberID+"/next", client.Next{Max: 1, Commit: true}, nil)
	assert.Equal(t, 400, refused.Status)
	assert.Contains(t, refused.Body, "upTo is missing")
	refused = call("/members/"+m.MemberID+"/next", client.Next{Max: 1, UpTo: "nonsense"}, nil)
	assert.Equal(t, 400, refused.Status)
}
