package declare

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// inMemory are files of a declaration.
type inMemory map[string]string

func (m inMemory) List() ([]string, error) {
	var names []string
	for _, name := range slices.Sorted(maps.Keys(m)) {
		if name[0] != '_' { // what is only included
			names = append(names, name)
		}
	}
	return names, nil
}

func (m inMemory) Read(name string) ([]byte, error) {
	content, ok := m[name]
	if !ok {
		return nil, fmt.Errorf("there is no file %s", name)
	}
	return []byte(content), nil
}

func noEnv(string) (string, bool) { return "", false }

func readAll(t *testing.T, files inMemory) *Declaration {
	t.Helper()
	d, issues, err := Read(files, noEnv)
	require.NoError(t, err)
	require.Empty(t, issues, "%v", files)
	return d
}

const worlds = 300 // as many random pairs, of each kind of test

// What is written declares what is there: nothing differs, and where nothing was,
// the same files come out of it.
func TestWhatIsWrittenDeclaresWhatIsThere(t *testing.T) {
	for seed := range uint64(worlds) {
		rnd := rand.New(rand.NewPCG(seed, 1))
		here := world{}
		here.made(t, Compare(append(someThings(t, rnd), Thing{Kind: "space", Address: "one-more", Settings: map[string]any{}}), nil, false))
		there := here.things()
		for _, all := range []bool{false, true} {
			files := Write("northlight", there, all)
			d := readAll(t, files)
			assert.Equal(t, len(there), len(d.Things), "seed %d", seed)
			assert.Equal(t, "northlight", d.Name)
			assert.Empty(t, Compare(d.Things, there, true), "seed %d: %v", seed, files)

			elsewhere := world{}
			elsewhere.made(t, Compare(d.Things, nil, false))
			assert.Equal(t, files, Write("northlight", elsewhere.things(), all), "seed %d", seed)
			if t.Failed() {
				return
			}
		}
	}
}

// From any state to any other: what Compare says makes it so, in its order, and
// then nothing differs.
func TestChangesLeadFromOneStateToAnother(t *testing.T) {
	for seed := range uint64(worlds) {
		rnd := rand.New(rand.NewPCG(seed, 2))
		w := world{}
		w.made(t, Compare(someThings(t, rnd), nil, false))
		wanted := someThings(t, rnd)
		remove := rnd.IntN(2) == 0
		changes := Compare(wanted, w.things(), remove)
		before := len(w)
		w.made(t, changes)
		require.Empty(t, Compare(wanted, w.things(), remove), "seed %d", seed)
		if !remove {
			require.GreaterOrEqual(t, len(w), before, "seed %d: nothing goes that nobody asked to remove", seed)
		}
		seen := map[string]bool{}
		for _, c := range changes {
			require.False(t, seen[c.Address], "seed %d: %s is changed once", seed, c.Address)
			seen[c.Address] = true
		}
		for _, one := range wanted {
			for name, value := range one.Settings {
				require.Equal(t, value, w[one.key()].Settings[name], "seed %d: %s of %s", seed, name, one.Address)
			}
		}
	}
}

func TestWithRemoveOnlyDeclaredSpacesLoseWhatIsNotDeclared(t *testing.T) {
	there := []Thing{{Kind: "nodes", Address: Nodes}, {Kind: "space", Address: "a"}, {Kind: "topic", Address: "a/t"}, {Kind: "group", Address: "a/t@g"}, {Kind: "queue", Address: "a/q"}, {Kind: "space", Address: "b"}, {Kind: "topic", Address: "b/t"}}
	changes := Compare([]Thing{{Kind: "space", Address: "a"}, {Kind: "queue", Address: "a/q"}}, there, true)
	var what []string
	for _, c := range changes {
		what = append(what, c.Op+" "+c.Address)
	}
	assert.Equal(t, []string{"remove a/t@g", "remove a/t"}, what)
}

// Labels that are not declared any longer are taken away, and others stay.
func TestLabelsThatAreNotDeclaredGo(t *testing.T) {
	k := Named("topic")
	back := k.Back(map[string]any{"labels": map[string]string{"team": "vans"}, "retain": "3d"}, map[string]any{"labels": map[string]string{"team": "boats", "tier": "1"}, "retain": "1d"})
	assert.Equal(t, map[string]any{"labels": map[string]string{"team": "vans", "tier": ""}, "retain": "3d"}, back)
}

// What a thing costs does not grow with how many there are.
func BenchmarkDiff(b *testing.B) {
	for _, count := range []int{200, 2_000, 20_000} {
		b.Run(fmt.Sprintf("%d-channels", count), func(b *testing.B) {
			var things []Thing
			for i := range count {
				space := fmt.Sprintf("space-%d", i%20)
				if i < 20 {
					things = append(things, Thing{Kind: "space", Address: space, Settings: settingsOfNew("space")})
				}
				things = append(things, Thing{Kind: "topic", Address: fmt.Sprintf("%s/topic-%d", space, i), Settings: settingsOfNew("topic")})
			}
			files := inMemory(Write("many", things, false))
			for b.Loop() {
				d, issues, err := Read(files, noEnv)
				if err != nil || len(issues) > 0 || len(Compare(d.Things, things, true)) > 0 {
					b.Fatal(err, issues)
				}
			}
			b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(b.N)/float64(count), "ns/channel")
		})
	}
}
