package declares_test

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/access/accesstest"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/declare"
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/engine/logbook"
	"steadyferry/internal/engine/postgres/testdb"
	"steadyferry/internal/node/nodetest"
)

func TestMain(m *testing.M) { testdb.Main(m) }

func nobody(form.DeclareChange) error { return nil }

// thing is one as it comes over the network.
func thing(kind, at string, settings map[string]any) form.Thing {
	one := form.Thing{Kind: kind, Address: at, Settings: map[string]any{}}
	b, err := json.Marshal(settings)
	if err == nil && settings != nil {
		err = json.Unmarshal(b, &one.Settings)
	}
	if err != nil {
		panic(err) // what a test says
	}
	return one
}

func everything(string) bool { return true }

// apply applies, and returns what was done.
func apply(t *testing.T, n *nodetest.Node, name, revision string, things ...form.Thing) *form.DeclarePlan {
	t.Helper()
	p, err := n.Declares.Apply(accesstest.Owner(t), "owner", name, form.Declare{Things: things, Revision: revision}, nobody)
	require.NoError(t, err)
	require.True(t, p.Done)
	return p
}

func plan(t *testing.T, n *nodetest.Node, name string, things ...form.Thing) *form.DeclarePlan {
	t.Helper()
	p, err := n.Declares.Plan(accesstest.Owner(t), "owner", name, form.Declare{Things: things})
	require.NoError(t, err)
	return p
}

// what are the changes in short.
func what(p *form.DeclarePlan) (all []string) {
	for _, c := range p.Changes {
		all = append(all, c.State+" "+c.Op+" "+c.Address)
	}
	return all
}

// state is a random set-up that a node of its own can have; partitions only become
// more with the step.
func state(rnd *rand.Rand, step int) []form.Thing {
	pick := func(all ...any) any { return all[rnd.IntN(len(all))] }
	all := []form.Thing{thing("nodes", declare.Nodes, map[string]any{"spreadLeaders": rnd.IntN(2) == 0})}
	for s := range 2 {
		space := fmt.Sprintf("space-%d", s)
		all = append(all, thing("space", space, map[string]any{"description": pick("one", "two", ""), "labels": map[string]any{"team": pick("vans", "boats"), fmt.Sprintf("l%d", rnd.IntN(3)): "x"}}))
		for c := range 4 {
			if rnd.IntN(3) == 0 {
				continue
			}
			if at := fmt.Sprintf("%s/channel-%d", space, c); c == 3 {
				all = append(all, thing("queue", at, map[string]any{"lease": pick("10s", "20s"), "attemptLimit": float64(1 + rnd.IntN(5)), "paused": rnd.IntN(2) == 0}))
			} else {
				all = append(all, thing("topic", at, map[string]any{"partitionCount": float64(step), "retain": pick("1h", "2d"), "retainBytes": pick("8MiB", "1GiB")}))
				for g := range rnd.IntN(3) {
					all = append(all, thing("group", fmt.Sprintf("%s@group-%d", at, g), map[string]any{"expire": pick("0s", "7d")}))
				}
			}
		}
	}
	return all
}

// From any set-up to another: what the diff says is done, each change once in the
// logbook under the declaration's name, and then nothing differs.
func TestAnApplyMakesItSoAndSaysItOnce(t *testing.T) {
	n := nodetest.Open(t)
	rnd := rand.New(rand.NewPCG(12, 1))
	done := map[string]int{}
	for step := 1; step <= 12; step++ {
		things := state(rnd, step)
		remove := step%2 == 0
		in := form.Declare{Things: things, Revision: fmt.Sprintf("r%d", step), Remove: remove}
		said, err := n.Declares.Plan(accesstest.Owner(t), "owner", "northlight", in)
		require.NoError(t, err)
		in.Basis = said.Basis
		told := 0
		p, err := n.Declares.Apply(accesstest.Owner(t), "owner", "northlight", in, func(c form.DeclareChange) error {
			told++
			assert.Equal(t, "done", c.State)
			return nil
		})
		require.NoError(t, err)
		require.Equal(t, len(said.Changes), told, "each change is told")
		assert.True(t, p.Done)
		again, err := n.Declares.Plan(accesstest.Owner(t), "owner", "northlight", in)
		require.NoError(t, err)
		require.Empty(t, what(again), "step %d", step)
		for _, c := range p.Changes {
			done[fmt.Sprintf("r%d %s %s", step, c.Op, c.Address)]++
		}

		// What is there is written, and what is written declares what is there.
		files := declare.Write("northlight", n.Declares.There(everything), false)
		d, issues, err := declare.Read(inMemory(files), func(string) (string, bool) { return "", false })
		require.NoError(t, err)
		require.Empty(t, issues)
		var written []form.Thing
		for _, one := range d.Things {
			written = append(written, thing(one.Kind, one.Address, one.Settings))
		}
		assert.Empty(t, what(plan(t, n, "northlight", written...)), "step %d", step)
		drift, err := n.Declares.Drift(accesstest.Owner(t))
		require.NoError(t, err)
		assert.Empty(t, drift)
	}
	entries := map[string]int{}
	var before int64
	for {
		page, err := logbook.Entries(accesstest.Owner(t), n.Catalog, logbook.Asked{Before: before, Limit: 200})
		require.NoError(t, err)
		if len(page) == 0 {
			break
		}
		for _, e := range page {
			before = e.ID
			if _, revision, ok := strings.Cut(string(e.After), `"northlight r`); ok {
				revision, _, _ = strings.Cut(revision, `"`)
				verb := map[string]string{"new": "create", "set": "set", "remove": "remove"}[strings.Fields(e.Action)[0]]
				entries[fmt.Sprintf("r%s %s %s", revision, verb, e.Address)]++
			}
		}
	}
	assert.Equal(t, done, entries)
}

type inMemory map[string]string

func (m inMemory) List() (names []string, err error) {
	for name := range m {
		names = append(names, name)
	}
	return names, nil
}
func (m inMemory) Read(name string) ([]byte, error) { return []byte(m[name]), nil }

func TestWhatCannotBeIsSaidAndNothingIsDone(t *testing.T) {
	n := nodetest.Open(t)
	n.Channel(setting.Topic, "coldchain/readings", setting.Change{"partitionCount": 3})
	for name, one := range map[string]struct {
		things []form.Thing
		says   string
	}{
		"of the other kind":        {[]form.Thing{thing("queue", "coldchain/readings", nil)}, "coldchain/readings is a topic, and declared as a queue"},
		"fewer partitions":         {[]form.Thing{thing("topic", "coldchain/readings", map[string]any{"partitionCount": 1})}, "cannot become fewer"},
		"too many replicas":        {[]form.Thing{thing("topic", "coldchain/new", map[string]any{"replicas": 3})}, "1 to 1 now"},
		"no space":                 {[]form.Thing{thing("topic", "nowhere/new", nil)}, "there is no space nowhere, and none is declared"},
		"a route from nowhere":     {[]form.Thing{thing("route", "coldchain/none@r", map[string]any{"to": "coldchain/readings"})}, "there is no topic or queue coldchain/none, and none is declared"},
		"a route to nowhere":       {[]form.Thing{thing("route", "coldchain/readings@r", map[string]any{"to": "coldchain/none"})}, "there is no channel or endpoint coldchain/none, and none is declared"},
		"a route without a target": {[]form.Thing{thing("route", "coldchain/readings@r", nil)}, "coldchain/readings@r leads nowhere"},
		"no topic of a group":      {[]form.Thing{thing("group", "coldchain/none@g", nil)}, "there is no topic coldchain/none, and none is declared"},
		"a value":                  {[]form.Thing{thing("topic", "coldchain/readings", map[string]any{"retain": "soon"})}, "retain"},
		"a setting":                {[]form.Thing{thing("queue", "coldchain/new", map[string]any{"retain": "1h"})}, "retain"},
		"a kind":                   {[]form.Thing{thing("stream", "coldchain/new", nil)}, `coldchain/new is a "stream"`},
		"an address":               {[]form.Thing{thing("topic", "coldchain", nil)}, "coldchain is the address of a space, and declared as a topic"},
		"twice":                    {[]form.Thing{thing("topic", "coldchain/a", nil), thing("queue", "coldchain/a", nil)}, "coldchain/a is declared twice"},
	} {
		t.Run(name, func(t *testing.T) {
			in := form.Declare{Things: append([]form.Thing{thing("space", "other", nil)}, one.things...)}
			p, err := n.Declares.Plan(accesstest.Owner(t), "owner", "northlight", in)
			if err == nil {
				last := p.Changes[len(p.Changes)-1]
				assert.Equal(t, "refused", last.State)
				assert.Contains(t, last.Problem, one.says)
			} else {
				assert.ErrorContains(t, err, one.says)
			}
			_, err = n.Declares.Apply(accesstest.Owner(t), "owner", "northlight", in, nobody)
			assert.ErrorContains(t, err, one.says)
			assert.Nil(t, n.Catalog.View().Spaces["other"], "nothing is done")
		})
	}
	_, err := n.Declares.Plan(accesstest.Owner(t), "owner", "No Name", form.Declare{})
	assert.ErrorContains(t, err, "the declaration")
}

// Two at once: one is done whole, the other says that one is under way or what has
// changed.
func TestOfTwoAppliesAtOnceOneWins(t *testing.T) {
	n := nodetest.Open(t)
	for round := range 5 {
		var things [2][]form.Thing
		var basis [2]string
		for i := range things {
			for c := range 6 {
				things[i] = append(things[i], thing("topic", fmt.Sprintf("coldchain/r%d-c%d", round, c), map[string]any{"retain": []string{"1h", "2h"}[i]}))
			}
			basis[i] = plan(t, n, "northlight", things[i]...).Basis
		}
		var all sync.WaitGroup
		var errs [2]error
		for i := range things {
			all.Go(func() {
				_, errs[i] = n.Declares.Apply(accesstest.Owner(t), "owner", "northlight", form.Declare{Things: things[i], Basis: basis[i]}, nobody)
			})
		}
		all.Wait()
		winner := 0
		if errs[0] != nil {
			winner = 1
		}
		require.NoError(t, errs[winner])
		var p *problem.Problem
		require.True(t, errors.As(errs[1-winner], &p), "%v", errs)
		assert.Equal(t, problem.Conflict, p.Kind)
		assert.Regexp(t, "another declaration is applied at this moment|what is there has changed since the diff: 6 changes.*new topic by owner", p.Error())
		assert.Empty(t, what(plan(t, n, "northlight", things[winner]...)))
	}
}

// An apply that ends before its end says what was done and what is left, and again
// it comes to the same.
func TestAnApplyThatEndsInTheMiddleIsDoneAgain(t *testing.T) {
	n := nodetest.Open(t)
	things := []form.Thing{thing("space", "one", nil), thing("queue", "one/q", nil), thing("topic", "one/t", nil), thing("group", "one/t@a", nil), thing("group", "one/t@b", nil)}
	for stop := 1; stop < 4; stop++ {
		ctx, cancel := context.WithCancel(accesstest.Owner(t))
		told := 0
		p, err := n.Declares.Apply(ctx, "owner", "northlight", form.Declare{Things: things}, func(form.DeclareChange) error {
			if told++; told == 1 {
				cancel()
			}
			return nil
		})
		cancel()
		require.Error(t, err)
		require.NotNil(t, p)
		assert.False(t, p.Done)
		states := map[string]int{}
		for _, c := range p.Changes {
			states[c.State]++
		}
		assert.NotZero(t, states["done"], "%v: %+v", err, p.Changes)
		assert.Zero(t, states["planned"], "what was not begun is left")
		left := plan(t, n, "northlight", things...)
		assert.LessOrEqual(t, len(left.Changes), len(p.Changes)-states["done"])
		if len(left.Changes) < 2 {
			break
		}
	}
	apply(t, n, "northlight", "", things...)
	assert.Empty(t, what(plan(t, n, "northlight", things...)))
}

func TestWhoDeclaredItAndWhatDriftedSince(t *testing.T) {
	n := nodetest.Open(t)
	readings := thing("topic", "coldchain/readings", map[string]any{"retain": "2d", "labels": map[string]any{"team": "vans"}})
	apply(t, n, "northlight", "7f3a", readings, thing("queue", "coldchain/alarms", nil))
	of := n.Declares.Of(accesstest.Owner(t), "coldchain/readings")
	require.NotNil(t, of)
	assert.Equal(t, []string{"northlight", "7f3a"}, []string{of.Declaration, of.Revision})
	assert.Equal(t, []string{"labels", "retain"}, of.Settings)
	assert.Nil(t, n.Declares.Of(accesstest.Owner(t), "coldchain"), "nobody has declared the space")
	assert.Equal(t, []string{}, n.Declares.Of(accesstest.Owner(t), "coldchain/alarms").Settings, "it is declared, and none of its settings")

	a, err := address.ParseChannel("coldchain/readings")
	require.NoError(t, err)
	p, err := n.Manage.SetChannel(accesstest.Owner(t), "helper", a, setting.Change{"maxBody": int64(1000)}, nil, false)
	require.NoError(t, err)
	assert.NotContains(t, strings.Join(p.Effects, "; "), "northlight", "what is not declared may be changed")
	p, err = n.Manage.SetChannel(accesstest.Owner(t), "helper", a, setting.Change{"retain": time.Hour, "labels": map[string]string{"tier": "1"}}, nil, false)
	require.NoError(t, err)
	assert.Contains(t, p.Effects, "labels, retain: declared by northlight, so this is drift until its files say the same or it is set back (ferry diff -drift)")

	drift, err := n.Declares.Drift(accesstest.Owner(t))
	require.NoError(t, err)
	require.Len(t, drift, 2)
	byName := map[string]form.Drift{}
	for _, d := range drift {
		byName[d.Setting] = d
		assert.Equal(t, "helper", d.Who)
	}
	assert.Equal(t, [2]string{"2d", "1h"}, byName["retain"].Texts)
	assert.Equal(t, "retain: 1h  # 1m to 36500d", byName["retain"].Line)
	assert.Equal(t, form.Settings{"retain": "2d"}, byName["retain"].Back)
	assert.Equal(t, form.Settings{"labels": map[string]string{"team": "vans", "tier": ""}}, byName["labels"].Back)

	p, err = n.Manage.SetChannel(accesstest.Owner(t), "owner", a, settings(t, byName["labels"].Back), nil, false)
	require.NoError(t, err)
	assert.NotContains(t, strings.Join(p.Effects, "; "), "northlight", "setting it back is no drift")

	// Another declaration takes it over, and says so; what the first no longer
	// declares is not its own.
	said := plan(t, n, "other", thing("topic", "coldchain/readings", map[string]any{"retain": "3d"}))
	assert.Contains(t, said.Changes[0].Effects, "declared by northlight until now; other takes it over")
	apply(t, n, "other", "", thing("topic", "coldchain/readings", map[string]any{"retain": "3d"}))
	assert.Equal(t, "other", n.Declares.Of(accesstest.Owner(t), "coldchain/readings").Declaration)
	drift, err = n.Declares.Drift(accesstest.Owner(t))
	require.NoError(t, err)
	assert.Empty(t, drift)
	// So does one that changes nothing of it, once.
	northlight := []form.Thing{thing("topic", "coldchain/readings", map[string]any{"retain": "3d"}), thing("space", "coldchain", nil)}
	said = plan(t, n, "northlight", northlight...)
	require.Equal(t, []string{"planned take-over coldchain/readings"}, what(said))
	assert.Equal(t, []string{"declared by other until now; northlight takes it over"}, said.Changes[0].Effects)
	assert.Equal(t, []string{"done take-over coldchain/readings"}, what(apply(t, n, "northlight", "", northlight...)))
	assert.Equal(t, "northlight", n.Declares.Of(accesstest.Owner(t), "coldchain/readings").Declaration)
	assert.Empty(t, plan(t, n, "northlight", northlight...).Changes)
	gone, err := n.Declares.Plan(accesstest.Owner(t), "owner", "other", form.Declare{Things: []form.Thing{thing("space", "coldchain", nil)}, Remove: true})
	require.NoError(t, err)
	for _, c := range gone.Changes {
		if c.Address == "coldchain/readings" {
			assert.Contains(t, c.Effects, "it is declared by northlight")
		}
	}
	assert.Nil(t, n.Declares.Of(accesstest.Owner(t), "coldchain/alarms"))

	// What is gone has drifted too.
	_, err = n.Manage.RemoveChannel(accesstest.Owner(t), "helper", a, false)
	require.NoError(t, err)
	drift, err = n.Declares.Drift(accesstest.Owner(t))
	require.NoError(t, err)
	require.Len(t, drift, 1)
	assert.Equal(t, "", drift[0].Setting)
	assert.Nil(t, drift[0].Back)
}

// Routes are declared like groups, and made after what they lead to.
func TestRoutesAreDeclared(t *testing.T) {
	n := nodetest.Open(t)
	things := []form.Thing{thing("topic", "coldchain/readings", nil), thing("route", "coldchain/readings@warm", map[string]any{"to": "coldchain/warm", "where": "body.celsius > 8.0", "edits": []any{"set header.a=b"}}), thing("topic", "coldchain/warm", nil)}
	apply(t, n, "northlight", "", things...)
	assert.Empty(t, plan(t, n, "northlight", things...).Changes, "they are as declared")
	things[1].Settings["where"] = "body.celsius > 9.0"
	p := plan(t, n, "northlight", things...)
	require.Equal(t, []string{"planned set coldchain/readings@warm"}, what(p))
	assert.Contains(t, p.Changes[0].Effects, "it holds for messages that come from now on; what waits is decided by the condition it came under")
	apply(t, n, "northlight", "", things...)
	things[1].Settings["to"] = "coldchain/readings"
	refused := plan(t, n, "northlight", things...)
	assert.Contains(t, refused.Changes[0].Problem, "coldchain/readings@warm leads to coldchain/warm, and stays so")
	things[1] = thing("group", "coldchain/readings@warm", nil)
	assert.Contains(t, plan(t, n, "northlight", things...).Changes[0].Problem, "coldchain/readings@warm is a route, and declared as a group")
}

// A queue may have routes too, of what waits in it; groups it has none.
func TestRoutesOfQueuesAreDeclared(t *testing.T) {
	n := nodetest.Open(t)
	all := thing("route", "coldchain/orders@all", map[string]any{"to": "coldchain/dispatches"})
	things := []form.Thing{thing("queue", "coldchain/orders", nil), thing("topic", "coldchain/dispatches", nil), all}
	p := plan(t, n, "northlight", things...)
	assert.Contains(t, p.Changes[len(p.Changes)-1].Effects, "it starts at first")
	apply(t, n, "northlight", "", things...)
	assert.Empty(t, plan(t, n, "northlight", things...).Changes, "they are as declared")
	things = append(things, thing("route", "coldchain/orders@north", map[string]any{"to": "coldchain/dispatches", "where": `body.region == "north"`}))
	assert.Equal(t, []string{"planned create coldchain/orders@north"}, what(plan(t, n, "northlight", things...)), "of a queue that is there")
	apply(t, n, "northlight", "", things...)

	files := declare.Write("northlight", n.Declares.There(everything), false)
	assert.Contains(t, strings.Join(slices.Collect(maps.Values(files)), "\n"), "    routes:\n      all:\n        to: coldchain/dispatches\n", "%v", files)

	things = append(things, thing("topic", "coldchain/archive", nil), thing("route", "coldchain/orders/dead@archive", map[string]any{"to": "coldchain/archive"}),
		thing("route", "coldchain/orders@north/dead@archive", map[string]any{"to": "coldchain/archive"}))
	p = plan(t, n, "northlight", things...)
	assert.Equal(t, []string{"planned create coldchain/archive", "planned create coldchain/orders/dead@archive", "planned create coldchain/orders@north/dead@archive"}, what(p))
	assert.Contains(t, p.Changes[1].Effects, "it starts at end")
	apply(t, n, "northlight", "", things...)
	assert.Empty(t, plan(t, n, "northlight", things...).Changes, "they are as declared")
	files = declare.Write("northlight", n.Declares.There(everything), false)
	assert.Contains(t, strings.Join(slices.Collect(maps.Values(files)), "\n"), "      dead@archive:\n        to: coldchain/archive\n", "%v", files)

	refused := plan(t, n, "northlight", append(things, thing("group", "coldchain/orders@readers", nil), thing("route", "coldchain/orders@late", map[string]any{"to": "coldchain/dispatches"}))...)
	assert.Contains(t, refused.Changes[0].Problem, "there is no topic coldchain/orders, and none is declared")
	assert.Empty(t, refused.Changes[1].Problem)
}

// What was looked at and what is done are the same, or nothing is done.
func TestAnApplyOfAnOldDiffIsRefused(t *testing.T) {
	n := nodetest.Open(t)
	topic := n.Channel(setting.Topic, "coldchain/readings", nil)
	in := form.Declare{Things: []form.Thing{thing("topic", "coldchain/readings", map[string]any{"retain": "2d"}), thing("queue", "coldchain/alarms", nil)}}
	in.Basis = plan(t, n, "northlight", in.Things...).Basis
	_, err := n.Manage.SetChannel(accesstest.Owner(t), "helper", topic.Address(), setting.Change{"retain": time.Hour}, nil, false)
	require.NoError(t, err)
	_, err = n.Declares.Apply(accesstest.Owner(t), "owner", "northlight", in, nobody)
	require.ErrorContains(t, err, "what is there has changed since the diff: 2 changes are to be made now; set topic by helper: coldchain/readings")
	assert.Nil(t, n.Catalog.View().Channels["coldchain/alarms"], "nothing is done")
	in.Basis = plan(t, n, "northlight", in.Things...).Basis
	p, err := n.Declares.Apply(accesstest.Owner(t), "owner", "northlight", in, nobody)
	require.NoError(t, err)
	assert.Equal(t, []string{"done set coldchain/readings", "done create coldchain/alarms"}, what(p))
}

// What others create meanwhile, such as what an apply that was cut off had begun, is
// as good as created when it is as declared, and else a failure.
func TestWhatIsCreatedMeanwhileIsDoneWhenItIsAsDeclared(t *testing.T) {
	n := nodetest.Open(t)
	for retain, wanted := range map[string]string{"2d": "", "3d": "exists already"} {
		space := "other-" + retain
		in := form.Declare{Things: []form.Thing{thing("space", space, nil), thing("topic", space+"/readings", map[string]any{"retain": "2d"})}}
		p, err := n.Declares.Apply(accesstest.Owner(t), "owner", "northlight", in, func(c form.DeclareChange) error {
			if c.Kind == "space" {
				n.Channel(setting.Topic, space+"/readings", settings(t, map[string]any{"retain": retain}))
			}
			return nil
		})
		if wanted == "" {
			require.NoError(t, err)
			assert.True(t, p.Done)
			continue
		}
		require.ErrorContains(t, err, wanted)
		assert.Equal(t, []string{"done create " + space, "failed create " + space + "/readings"}, what(p))
	}
}

// settings is a change as it comes over the network.
func settings(t *testing.T, values map[string]any) setting.Change {
	t.Helper()
	raw := map[string]json.RawMessage{}
	for name, value := range values {
		b, err := json.Marshal(value)
		require.NoError(t, err)
		raw[name] = b
	}
	change, err := setting.Channels.Read(raw)
	require.NoError(t, err)
	return change
}

func TestEndpointsAreDeclaredWithoutTheirSecrets(t *testing.T) {
	n := nodetest.Open(t)
	hook := thing("endpoint", "coldchain/clinic-hook", map[string]any{"url": "http://127.0.0.1:9/", "headers": map[string]any{"x-depot": "north", "x-more": "1"}, "parallel": 4})
	things := []form.Thing{thing("space", "coldchain", nil), thing("topic", "coldchain/recalls", nil), hook, thing("route", "coldchain/recalls@hook", map[string]any{"to": "coldchain/clinic-hook"})}
	p := apply(t, n, "northlight", "1", things...)
	assert.Contains(t, what(p), "done create coldchain/clinic-hook")
	a, err := address.Parse("coldchain/clinic-hook")
	require.NoError(t, err)
	_, err = n.Endpoints.Set(accesstest.Owner(t), "owner", a, nil, map[string]string{"signing": "northlight-clinics-know-this"}, false)
	require.NoError(t, err)
	assert.Empty(t, plan(t, n, "northlight", things...).Changes, "a secret is no drift")

	// A header that is not declared any more goes.
	things[2] = thing("endpoint", "coldchain/clinic-hook", map[string]any{"url": "http://127.0.0.1:9/", "headers": map[string]any{"x-depot": "south"}})
	apply(t, n, "northlight", "2", things...)
	e, err := n.Endpoints.Of(accesstest.Owner(t), a)
	require.NoError(t, err)
	assert.Equal(t, map[string]string{"x-depot": "south"}, e.Headers)
	names, _ := n.Endpoints.SecretNames(e)
	assert.Equal(t, []string{"signing"}, names, "and it has its secret")

	files := declare.Write("northlight", n.Declares.There(everything), false)
	assert.Contains(t, files["coldchain.yaml"], "endpoints:\n  clinic-hook:\n    url: \"http://127.0.0.1:9/\"  # ")
	assert.NotContains(t, fmt.Sprint(files), "know-this")
	read, issues, err := declare.Read(inMemory(files), func(string) (string, bool) { return "", false })
	require.NoError(t, err)
	assert.Empty(t, issues)
	assert.Equal(t, len(byHand(n)), len(read.Things))
	_, err = n.Declares.Apply(accesstest.Owner(t), "owner", "northlight", form.Declare{Things: things[:2], Revision: "3", Remove: true}, nobody)
	require.NoError(t, err)
	_, err = n.Endpoints.Of(accesstest.Owner(t), a)
	assert.Error(t, err, "the route goes first, then the endpoint")
}
