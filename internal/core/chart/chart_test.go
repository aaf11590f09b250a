package chart

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/form"
)

func thing(id, kind string) form.ChartThing {
	return form.ChartThing{ID: id, Kind: kind, Name: id, Space: "coldchain", State: "ready", Level: calm}
}

// chain is a publisher, a topic and readers of it, so many times.
func chain(times, readers int) *form.Chart {
	c := &form.Chart{}
	for i := range times {
		topic := fmt.Sprintf("coldchain/t%d", i)
		c.Things = append(c.Things, thing(topic, "topic"))
		for r := range readers {
			id := fmt.Sprintf("%s@r%d", topic, r)
			c.Things = append(c.Things, thing(id, "group"))
			c.Links = append(c.Links, form.ChartLink{From: topic, To: id, Rate: 2})
		}
	}
	return c
}

func ids(c *form.Chart) (all []string) {
	for _, t := range c.Things {
		all = append(all, t.ID)
	}
	slices.Sort(all)
	return all
}

func TestAroundKeepsWhatIsNear(t *testing.T) {
	links := []form.ChartLink{{From: "a", To: "b"}, {From: "b", To: "c"}, {From: "c", To: "d"}, {From: "x", To: "c"}}
	for _, one := range []struct {
		of    string
		steps int
		want  []string
	}{
		{"b", 0, []string{"b"}},
		{"b", 1, []string{"a", "b", "c"}},
		{"b", 2, []string{"a", "b", "c", "d", "x"}},
		{"none", 3, nil},
	} {
		c := &form.Chart{Links: slices.Clone(links)}
		for _, id := range []string{"a", "b", "c", "d", "x", "alone"} {
			c.Things = append(c.Things, thing(id, "topic"))
		}
		Around(c, one.of, one.steps)
		assert.Equal(t, one.want, ids(c), "%s within %d", one.of, one.steps)
		for _, l := range c.Links {
			assert.Contains(t, one.want, l.From)
			assert.Contains(t, one.want, l.To)
		}
	}
}

func TestLikeThingsAreFoldedAndTroubleIsNot(t *testing.T) {
	c := chain(100, 2)
	bad := slices.IndexFunc(c.Things, func(t form.ChartThing) bool { return t.ID == "coldchain/t7@r1" })
	c.Things[bad].Level = "alarm"
	Fold(c, 60, nil)
	assert.Equal(t, 300, c.Whole)
	assert.LessOrEqual(t, len(c.Things), 60)
	all := ids(c)
	assert.Contains(t, all, "coldchain/t7@r1")
	assert.Contains(t, all, "coldchain/t7", "where it lies is seen")
	rate := 0.0
	for _, l := range c.Links {
		rate += l.Rate
	}
	assert.InDelta(t, 400, rate, 1e-9, "no message goes out of sight")

	few := chain(10, 1)
	Fold(few, 60, nil)
	assert.Len(t, few.Things, 20, "what is few is drawn")
}

func TestWhatIsOpenStaysApart(t *testing.T) {
	c := chain(40, 1)
	Fold(c, 50, nil)
	var folded string
	for _, one := range c.Things {
		if len(one.Folded) > 0 {
			folded = one.ID
			assert.Equal(t, "40 "+one.Kind+"s", one.Name)
		}
	}
	require.NotEmpty(t, folded)
	again := chain(40, 1)
	Fold(again, 50, map[string]bool{folded: true})
	assert.NotContains(t, ids(again), folded)
}

// Whatever hangs together: nothing is lost or doubled, and the order in which things come does
// not matter.
func TestFoldingKeepsAll(t *testing.T) {
	for seed := range uint64(60) {
		rnd := rand.New(rand.NewPCG(seed, 3))
		c := &form.Chart{}
		n := 20 + rnd.IntN(80)
		for i := range n {
			one := thing(fmt.Sprintf("coldchain/n%d", i), []string{"topic", "queue", "group"}[rnd.IntN(3)])
			if rnd.IntN(15) == 0 {
				one.Level = "warn"
			}
			c.Things = append(c.Things, one)
		}
		for range rnd.IntN(2 * n) {
			l := form.ChartLink{From: c.Things[rnd.IntN(n)].ID, To: c.Things[rnd.IntN(n)].ID, Rate: 1}
			if !slices.Contains(c.Links, l) {
				c.Links = append(c.Links, l)
			}
		}
		want := ids(c)
		links := len(c.Links)
		mixed := &form.Chart{Things: slices.Clone(c.Things), Links: slices.Clone(c.Links)}
		rnd.Shuffle(n, func(i, j int) { mixed.Things[i], mixed.Things[j] = mixed.Things[j], mixed.Things[i] })
		Fold(c, 25, nil)
		Fold(mixed, 25, nil)
		Sort(c)
		Sort(mixed)
		a, _ := json.Marshal(c)
		b, _ := json.Marshal(mixed)
		require.JSONEq(t, string(a), string(b))
		have, rate := []string{}, 0.0
		for _, one := range c.Things {
			if len(one.Folded) > 0 {
				assert.GreaterOrEqual(t, len(one.Folded), leastFolded)
				have = append(have, one.Folded...)
			} else {
				have = append(have, one.ID)
			}
		}
		slices.Sort(have)
		require.Equal(t, want, have)
		for _, l := range c.Links {
			rate += l.Rate
		}
		require.InDelta(t, float64(links), rate, 1e-9)
	}
}
