package route

import (
	"fmt"
	"os"
	"strconv"
	"testing"

	"github.com/stretchr/testify/require"
)

// sets are the events of the worlds that are tried.
var sets = map[string]events{
	"nothing":              {},
	"faults":               {faults: true},
	"several workers":      {faults: true, workers: 3},
	"growth":               {grow: true, faults: true, workers: 2},
	"changes":              {change: true, faults: true, workers: 2},
	"changes and growth":   {change: true, grow: true, faults: true, workers: 3},
	"seeks":                {seek: true, faults: true, workers: 2},
	"seeks and changes":    {seek: true, change: true, grow: true, faults: true, workers: 3},
	"a source set back":    {recoverSource: true, change: true, grow: true, faults: true, workers: 2},
	"targets set back":     {recoverTarget: true, faults: true, workers: 2},
	"targets and growth":   {recoverTarget: true, grow: true, change: true, faults: true, workers: 3},
	"restored records":     {restore: true, change: true, grow: true, faults: true, workers: 2},
	"remade":               {remake: true, change: true, faults: true, workers: 3},
	"crashes":              {crash: true, grow: true, change: true, faults: true, workers: 3},
	"all but lost targets": {grow: true, change: true, seek: true, recoverSource: true, restore: true, remake: true, crash: true, faults: true, workers: 3},
	"all":                  {grow: true, change: true, seek: true, recoverSource: true, recoverTarget: true, restore: true, remake: true, crash: true, faults: true, workers: 3},
}

// runs is how many schedules of each set are tried; ROUTE_RUNS sets it.
func runs(t *testing.T, usual int) int {
	n, err := strconv.Atoi(os.Getenv("ROUTE_RUNS"))
	if err != nil {
		if n = usual; testing.Short() {
			n /= 10
		}
	}
	return n
}

// Whatever happens, each message comes to each target once, in order.
func TestRandomWorlds(t *testing.T) {
	for name, set := range sets {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			for seed := range runs(t, 400) {
				w := newWorld(uint64(seed), set, nothing)
				if err := w.run(300); err != nil {
					require.NoError(t, err, "seed %d\n%s", seed, w.story())
				}
			}
		})
	}
}

// Each part of the protocol is needed: without it some world loses or doubles
// messages.
func TestEachPartIsNeeded(t *testing.T) {
	names := map[removed]string{directlyBehind: "directly behind", tombstones: "tombstones", sourceTombstone: "tombstones at the source", planBeforeEnd: "plan and end seen together",
		planInTheLog: "the plan in the log", expectedSeq: "expected sequence", timedVersions: "versions from time", epochs: "epochs", recoveries: "recoveries of targets"}
	where := map[removed][]string{directlyBehind: {"several workers", "seeks", "changes and growth"}, tombstones: {"remade"}, sourceTombstone: {"remade"}, planBeforeEnd: {"changes and growth"},
		planInTheLog: {"restored records"}, expectedSeq: {"seeks and changes"}, timedVersions: {"restored records"}, epochs: {"a source set back"}, recoveries: {"targets set back"}}
	for part := directlyBehind; part < removals; part++ {
		t.Run(names[part], func(t *testing.T) {
			t.Parallel()
			for seed := range 20_000 {
				for _, set := range where[part] {
					if fails(uint64(seed), sets[set], part) {
						return
					}
				}
			}
			t.Errorf("20,000 worlds went well without: %s", names[part])
		})
	}
}

func fails(seed uint64, e events, without removed) (failed bool) {
	defer func() {
		if p := recover(); p != nil {
			failed = true
		}
	}()
	return newWorld(seed, e, without).run(300) != nil
}

func Example() {
	// A message belongs to a place: recovery of the source, cut of the plan, offset.
	fmt.Println(Place{Cut: 1, Offset: 900}.Before(Place{Cut: 2, Offset: 40}))
	// Output: true
}
