package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"math"
	"math/rand/v2"
	"net/http"
	"os"
	"path/filepath"
	"time"

	"golang.org/x/sync/errgroup"

	"steadyferry/client"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/clock"
	"steadyferry/internal/core/endpoint"
	"steadyferry/internal/core/message"
)

// demo runs a node with the channels and the traffic of Northlight Cold
// Chain, a made-up company that keeps vaccine boxes cold on their way to
// clinics.
func demo(args []string) error {
	var c config
	fs := flags("demo", &c)
	fs.Lookup("dir").DefValue = "ferry-demo"
	c.dir = "ferry-demo"
	c.logLevel = slog.LevelWarn
	c.networks, c.schemes = endpoint.Loopback, "http,postgresql,smtp" // places outside are this machine
	nodes := fs.Int("nodes", 1, "`N` nodes, 1 to 9, each in a process of its own when there are several")
	if err := readConfig(fs, args); err != nil {
		return err
	}
	switch {
	case c.tlsCert != "":
		return &usageError{errors.New("-tls-cert: the demo serves plain HTTP on this machine")}
	case *nodes < 1 || *nodes > 9:
		return &usageError{fmt.Errorf("-nodes is %d; allowed: 1 to 9", *nodes)}
	case *nodes > 1:
		return c.demoCluster(*nodes)
	}
	if err := os.MkdirAll(c.dir, 0o711); err != nil {
		return err
	}
	places, err := c.listenOutside()
	if err != nil {
		return err
	}
	defer places.Close()
	return c.run(func(ctx context.Context, r running) error {
		outside, err := c.openOutside(ctx, places, r.database)
		if err != nil {
			return err
		}
		d, link, err := startDepot(ctx, r.url, r.token, outside, clock.Shift)
		if err != nil {
			return err
		}
		self, err := os.Executable()
		if err != nil {
			return err
		}
		fmt.Printf(`
Steady Ferry is running with the demo of Northlight Cold Chain.

  Console        %s
  Sign in        %s%s   (as owner, once, for 15 minutes; at the console as one of the people)
  Clinics' hook  %s   (a place outside, with a switch)
  Duty desk      %s   (who is told of incidents)
  Duty mail      %s   (a stand-in for a mail server)

Try in another terminal:

  export FERRY_SERVER=%s FERRY_TOKEN=$(cat %s/owner.token) PATH=%s:$PATH
  ferry list
  ferry tail coldchain/readings -where 'body.celsius > 8'
  ferry dead coldchain/inspections
  ferry send coldchain/readings -key box-0007 -body '{"box":"box-0007","celsius":9.5}'

Ctrl-C stops it; what was published stays in %s.
`, r.url, r.url, link, outside.hook, outside.hook+deskPath, outside.hook+mailPath, r.url, c.dir, filepath.Dir(self), c.dir)
		return d.run(ctx)
	})
}

// startDepot makes the demo's channels, and a link to sign in with.
func startDepot(ctx context.Context, servers, token string, outside *outside, shift func(time.Duration)) (d *depot, link string, err error) {
	api, err := client.New(servers, token)
	if err != nil {
		return nil, "", err
	}
	d = &depot{api: api, shift: shift, outside: outside, boxes: fleet(), readings: address.Channel("coldchain", "readings"), journeys: address.Channel("coldchain", "journeys"),
		inspections: address.Channel("coldchain", "inspections"), recalls: address.Channel("coldchain", "recalls"), orders: address.Channel("coldchain", "orders")}
	if err := d.prepare(ctx); err != nil {
		return nil, "", fmt.Errorf("set up the demo: %w", err)
	}
	var l client.Link
	err = api.Call(ctx, http.MethodPost, "/links", nil, nil, &l)
	return d, l.Path, err
}

// depot sends what the boxes measure and where they are.
type depot struct {
	api                  *client.Client
	readings, journeys   address.Address
	inspections, recalls address.Address
	orders               address.Address
	boxes                []box
	outside              *outside
	shift                func(time.Duration) // has the nodes' time of day be so much later
	ago                  time.Duration       // by how much it is earlier now
}

// program is the head of what a program of the depot publishes.
func program(name string) http.Header { return http.Header{client.HeaderProgram: {name}} }

// now is the time of the demo's world.
func (d *depot) now() time.Time { return time.Now().Add(-d.ago) }

type box struct {
	id      string
	celsius float64
	battery float64
	faulty  string // what its sensor does wrong, if anything
}

const (
	boxes        = 48
	measureEvery = 2 * time.Second // by each box
)

// fleet returns the boxes, of which two have sensors that are wrong.
func fleet() (all []box) {
	for i := range boxes {
		b := box{id: fmt.Sprintf("box-%04d", i+1), celsius: 3 + 3*rand.Float64(), battery: 40 + 60*rand.Float64()}
		switch i {
		case 16:
			b.faulty = "fahrenheit"
		case 29:
			b.faulty = "nameless"
		}
		all = append(all, b)
	}
	return all
}

func (d *depot) prepare(ctx context.Context) error {
	// What is made now begins an hour ago.
	d.goTo(time.Now().Add(-past))
	defer func() {
		d.ago = 0
		d.shift(0)
	}()
	isNew, err := d.make(ctx, []step{
		{"/spaces", map[string]any{"space": "coldchain", "description": "Vaccine boxes on their way to clinics", "labels": map[string]string{"team": "logistics"}, "mostChannels": 40, "mostKept": int64(20) << 30}},
		{"/channels", map[string]any{"address": d.readings.String(), "kind": "topic", "partitionCount": 6, "retain": "72h", "retainBytes": 8 << 20,
			"description": "What every box measures, every two seconds", "labels": map[string]string{"source": "boxes"}}},
		{"/channels", map[string]any{"address": d.journeys.String(), "kind": "topic", "partitionCount": 2, "retain": "30d",
			"description": "Departures and arrivals", "labels": map[string]string{"source": "depot"}}},
		{"/channels", map[string]any{"address": d.inspections.String(), "kind": "queue", "lease": "30s", "attemptLimit": 3, "backoff": "2s..20s",
			"description": "Boxes that were too warm, to be looked at", "labels": map[string]string{"team": "inspectors"}}},
		{"/channels", map[string]any{"address": d.recalls.String(), "kind": "queue", "lease": "1m", "order": "key",
			"description": "Boxes that must come back, one at a time for each", "labels": map[string]string{"team": "clinics"}}},
		{"/channels", map[string]any{"address": d.orders.String(), "kind": "queue", "description": "What clinics order", "labels": map[string]string{"source": "clinics"}}},
		{"/channels", map[string]any{"address": "coldchain/dispatches", "kind": "topic", "partitionCount": 2, "description": "Orders on their way to a depot"}},
		{"/channels", map[string]any{"address": "coldchain/north-depot", "kind": "queue", "description": "Orders that the north depot packs", "labels": map[string]string{"team": "packers"}}},
		{"/channels", map[string]any{"address": "coldchain/south-depot", "kind": "queue", "description": "Orders that the south depot packs", "labels": map[string]string{"team": "packers"}}},
		{"/channels", map[string]any{"address": "coldchain/failures", "kind": "topic", "retain": "90d", "description": "Copies of what inspectors could not judge, for the yearly audit"}},
	})
	if err != nil {
		return err
	}
	if err := d.outside.make(ctx, d.api); err != nil {
		return err
	}
	if _, err := d.make(ctx, []step{
		{client.ChannelPath(d.recalls) + "/groups", map[string]any{"group": "hook", "kind": "route", "to": clinicHook, "from": "first", "description": "Clinics are told of recalls"}},
		{client.ChannelPath(d.orders) + "/groups", map[string]any{"group": "all", "kind": "route", "to": "coldchain/dispatches", "from": "first", "description": "Every order goes on"}},
		{"/channels/coldchain/dispatches/groups", map[string]any{"group": "north", "kind": "route", "to": "coldchain/north-depot", "from": "first", "where": `body.region == "north"`}},
		{"/channels/coldchain/dispatches/groups", map[string]any{"group": "south", "kind": "route", "to": "coldchain/south-depot", "from": "first", "where": `body.region == "south"`}},
		{client.ChannelPath(d.readings) + "/groups", map[string]any{"group": "warm", "kind": "route", "to": d.inspections.String(), "from": "first",
			"where": `body.celsius > 8.0 || headers["alarm"] == "warm"`, "edits": []string{"set header.source=warm-boxes"}, "description": "Boxes above 8 degrees are looked at"}},
		{client.ChannelPath(d.inspections) + "/groups", map[string]any{"group": "dead@audit", "kind": "route", "to": "coldchain/failures", "from": "first", "description": "Every failure is kept for the audit"}},
	}); err != nil || !isNew {
		return err
	}
	if err := d.outside.watch(ctx, d.api, d.inspections); err != nil {
		return err
	}
	if err := d.livePast(ctx); err != nil {
		return err
	}
	if err := d.chores(ctx); err != nil {
		return err
	}
	if err := d.people(ctx); err != nil {
		return err
	}
	return d.outside.archive(ctx, d.api, d.readings)
}

// chores are what the depot has done by itself: orders that the register did not answer for
// go back while it does, and the duty gets a report each morning.
func (d *depot) chores(ctx context.Context) error {
	var dead client.DeadLetters
	if err := d.api.Call(ctx, http.MethodGet, client.ChannelPath(d.inspections)+"/dead", nil, nil, &dead); err != nil {
		return err
	}
	all := []step{{"/chores", map[string]any{"address": "coldchain/daily-report", "at": "0 6 * * *", "zone": "Europe/Lisbon", "do": "report", "of": "coldchain", "tell": []string{dutyMail}, "description": "What happened since yesterday"}}}
	for _, c := range dead.Causes {
		if c.Reason == "attempts-used-up" {
			all = append(all, step{"/chores", map[string]any{"address": "coldchain/return-unanswered", "at": "*/5 * * * *", "zone": "Europe/Lisbon", "do": "return", "of": d.inspections.String(), "cause": c.Cause, "rate": "20/s", "limit": 500,
				"tell": []string{dutyDesk}, "description": "The register of island-post rests for three of five minutes"}})
		}
	}
	_, err := d.make(ctx, all)
	return err
}

// step is something to make, by its path.
type step struct {
	path string
	body any
}

// leadersWithin is how long a step waits for partitions to have leaders.
const leadersWithin = 30 * time.Second

// make makes things, and reports whether one was not there from an earlier run.
func (d *depot) make(ctx context.Context, steps []step) (isNew bool, err error) {
	for _, s := range steps {
		var p *client.Problem
		err := d.api.Call(ctx, http.MethodPost, s.path, nil, s.body, nil)
		// After a start the nodes first choose who leads.
		for end := time.Now().Add(leadersWithin); errors.As(err, &p) && p.Status == http.StatusServiceUnavailable && time.Now().Before(end) && ctx.Err() == nil; {
			clock.Wait(ctx, 200*time.Millisecond)
			err = d.api.Call(ctx, http.MethodPost, s.path, nil, s.body, nil)
		}
		if errors.As(err, &p) && p.Status == http.StatusConflict {
			continue
		}
		if err != nil {
			return isNew, err
		}
		isNew = true
	}
	return isNew, nil
}

func (d *depot) run(ctx context.Context) error {
	readers := d.startReaders(ctx)
	defer readers.Wait()
	workers := d.startWorkers(ctx)
	defer workers.Wait()
	// A quarter of the boxes at a time, so that the flow is even.
	const parts = 4
	tick := time.NewTicker(measureEvery / parts)
	defer tick.Stop()
	for turn := 0; ; turn++ {
		from := turn % parts * boxes / parts
		if err := d.measure(ctx, d.boxes[from:from+boxes/parts], 1); err != nil && ctx.Err() == nil {
			fmt.Fprintln(os.Stderr, "demo:", err)
		}
		if turn%(5*parts) == 0 {
			if err := d.depart(ctx); err != nil && ctx.Err() == nil {
				fmt.Fprintln(os.Stderr, "demo:", err)
			}
		}
		select {
		case <-ctx.Done():
			return nil
		case <-tick.C:
		}
	}
}

// measure sends the last readings of each of some boxes.
func (d *depot) measure(ctx context.Context, some []box, rounds int) error {
	builders := map[int]*message.Builder{}
	for i := range rounds * len(some) {
		b := &some[i%len(some)]
		at := d.now().Add(-time.Duration(rounds-1-i/len(some)) * measureEvery)
		b.celsius += 0.4*rand.NormFloat64() + 0.05*(5-b.celsius)
		b.battery = max(b.battery-0.001, 3)
		m := &message.Message{Key: b.id, ContentType: "application/json", Time: at, Body: b.reading(at),
			Headers: []message.Header{{Name: "firmware", Value: []string{"4.2.1", "4.3.0"}[i%2]}}}
		p := message.PartitionOf(m.Key, 6)
		if builders[p] == nil {
			builders[p] = &message.Builder{}
		}
		builders[p].Add(m)
	}
	return d.publishReadings(ctx, builders)
}

// publishReadings publishes what was gathered for each partition.
func (d *depot) publishReadings(ctx context.Context, builders map[int]*message.Builder) error {
	sending, ctx := errgroup.WithContext(ctx)
	for p, b := range builders {
		sending.Go(func() error {
			_, err := d.api.Publish(ctx, d.readings, p, client.BatchType, program("box-gateway"), b.Build(message.Plain, nil))
			return err
		})
	}
	return sending.Wait()
}

func (b *box) reading(at time.Time) []byte {
	r := map[string]any{"box": b.id, "celsius": round(b.celsius), "battery": math.Round(b.battery), "at": at.UTC().Truncate(time.Second)}
	switch b.faulty {
	case "fahrenheit":
		r["celsius"] = fmt.Sprintf("%.1f F", b.celsius*9/5+32)
	case "nameless":
		delete(r, "box")
	}
	body, err := json.Marshal(r)
	if err != nil {
		panic(err) // plain values
	}
	return body
}

func round(f float64) float64 { return math.Round(f*10) / 10 }

func (d *depot) depart(ctx context.Context) error {
	b := d.boxes[rand.IntN(len(d.boxes))]
	clinics := []string{"harbour-clinic", "north-shore", "hill-road", "old-mill", "island-post"}
	body, err := json.Marshal(map[string]any{"box": b.id, "event": []string{"departed", "arrived"}[rand.IntN(2)],
		"clinic": clinics[rand.IntN(len(clinics))], "doses": 20 * (1 + rand.IntN(12)), "at": d.now().UTC().Truncate(time.Second)})
	if err != nil {
		return err
	}
	_, err = d.api.Publish(ctx, d.journeys, -1, "application/json", http.Header{"Ferry-Key": {b.id}, client.HeaderProgram: {"dispatch"}}, body)
	return err
}
