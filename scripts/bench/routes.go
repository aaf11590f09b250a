package main

import (
	"fmt"
	"net/http"
	"os"
	"slices"
	"time"

	"golang.org/x/sync/errgroup"

	"steadyferry/client"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/message"
)

// routeMessages is how many messages a route copies in one measurement.
const routeMessages = 1_200_000

// measureRoutes measures what routes copy against a publisher and a reader side by
// side, of the same messages.
func (b *bench) measureRoutes(rounds int) error {
	for round := range rounds {
		fmt.Fprintf(os.Stderr, "routes, round %d of %d\n", round+1, rounds)
		name := fmt.Sprintf("routes-%d", round)
		if err := b.newTopic(name, 6); err != nil {
			return err
		}
		if err := b.sideBySide(name); err != nil {
			return err
		}
		for _, r := range []struct{ name, where string }{
			{"header", `headers["region"] == "north"`},
			{"key", `key.startsWith("box-")`},
			{"json, little fits", `body.celsius > 11.8 && body.battery == 7`},
			{"json, all fits", `body.celsius >= 0.0`},
			{"no condition", ""},
		} {
			if err := b.copyBy(name, r.name, r.where, 6); err != nil {
				return err
			}
		}
		if err := b.copyBy(name, "whole batches", "", 1); err != nil {
			return err
		}
		if err := b.routeLatency(round); err != nil {
			return err
		}
	}
	if err := b.idleRoutes(); err != nil {
		return err
	}
	both := b.median("side by side")
	fmt.Printf("\nroutes, %d messages of 6 partitions; medians of this run\n\n", routeMessages)
	row := func(name, value, compared string) { fmt.Printf("%-44s %18s   %s\n", name, value, compared) }
	row("reference: a publisher and a reader", fmt.Sprintf("%.0f/s", both), "")
	for _, name := range []string{"header", "key", "json, all fits", "json, little fits", "no condition", "whole batches"} {
		row("route, "+name, fmt.Sprintf("%.0f/s", b.median("route "+name)), fmt.Sprintf("%.0f%% of the reference, %.0f/s looked at for each core used", 100*b.median("route "+name)/both, b.median("route core "+name)))
	}
	row("source commit to target commit at 1,000/s", fmt.Sprintf("p99 %.1f ms", b.median("route p99")), fmt.Sprintf("p50 %.1f ms", b.median("route p50")))
	row("1,000 routes of which 990 do nothing", fmt.Sprintf("%.1f%% of a core", 100*b.median("routes idle")), fmt.Sprintf("of 10 routes %.1f%%, at 100 messages/s %.1f%% and %.1f%%", 100*b.median("routes idle few"), 100*b.median("routes busy"), 100*b.median("routes busy few")))
	return nil
}

// routed are the messages that are copied, by partition, in batches of 1,000.
func routed(partition, count int, send func(batch []byte) error) error {
	var b message.Builder
	for i := range count {
		b.Add(&message.Message{Key: fmt.Sprintf("box-%04d", i%48), ContentType: "application/json", Body: []byte(reading(i)), Headers: []message.Header{{Name: "region", Value: "north"}}})
		if b.Count() == 1000 || i == count-1 {
			if err := send(b.Build(message.Plain, nil)); err != nil {
				return err
			}
		}
	}
	return nil
}

// sideBySide fills a topic while one reader reads it.
func (b *bench) sideBySide(name string) error {
	a := address.Channel("bench", name)
	began := time.Now()
	var both errgroup.Group
	for p := range 6 {
		both.Go(func() error {
			publisher := b.api.FastPublisher(a)
			return routed(p, routeMessages/6, func(batch []byte) error { return publisher.Publish(p, batch) })
		})
	}
	both.Go(func() error {
		_, err := b.load(a.String(), "-publishers", "0", "-readers", "1", "-count", fmt.Sprint(routeMessages))
		return err
	})
	err := both.Wait()
	b.note("side by side", routeMessages/time.Since(began).Seconds())
	return err
}

// copyBy has a route copy all that a topic has, and measures until it has.
func (b *bench) copyBy(source, name, where string, partitions int) error {
	from, to := address.Channel("bench", source), source+"-"+fmt.Sprint(len(b.values["route "+name]))+"-"+fmt.Sprint(len(name))+fmt.Sprint(partitions)
	if partitions == 1 {
		// Batches pass whole when all go to one partition.
		if err := b.newTopic(source+"-whole", 1); err != nil {
			return err
		}
		from = address.Channel("bench", source+"-whole")
		publisher := b.api.FastPublisher(from)
		if err := routed(0, routeMessages, func(batch []byte) error { return publisher.Publish(0, batch) }); err != nil {
			return err
		}
	}
	if err := b.newTopic(to, partitions); err != nil {
		return err
	}
	before, began := processorTime(b.ferryd.Process.Pid), time.Now()
	path := client.ChannelPath(from) + "/groups"
	var g client.Group
	err := b.api.Call(b.ctx, http.MethodPost, path, nil, client.NewGroup{Group: "copy", Kind: "route", From: "first", Settings: client.Settings{"to": "bench/" + to, "where": where}}, &g)
	for decided := int64(0); err == nil && decided < routeMessages; time.Sleep(20 * time.Millisecond) {
		if err = b.api.Call(b.ctx, http.MethodGet, path+"/copy", nil, nil, &g); err != nil {
			break
		}
		decided = 0
		for _, w := range g.Work {
			decided += w.Decided
		}
	}
	if err != nil {
		return err
	}
	b.note("route "+name, routeMessages/time.Since(began).Seconds())
	b.note("route core "+name, routeMessages/(processorTime(b.ferryd.Process.Pid)-before).Seconds())
	return b.api.Call(b.ctx, http.MethodDelete, path+"/copy", nil, nil, nil)
}

// routeLatency measures from the commit in the source to that in the target, at 1,000
// messages a second, by the times at which the logs have them.
func (b *bench) routeLatency(round int) error {
	names := []string{fmt.Sprintf("route-from-%d", round), fmt.Sprintf("route-to-%d", round)}
	for _, name := range names {
		if err := b.newTopic(name, 1); err != nil {
			return err
		}
	}
	from, to := address.Channel("bench", names[0]), address.Channel("bench", names[1])
	if err := b.api.Call(b.ctx, http.MethodPost, client.ChannelPath(from)+"/groups", nil,
		client.NewGroup{Group: "copy", Kind: "route", From: "first", Settings: client.Settings{"to": to.String(), "where": `key == "k"`}}, nil); err != nil {
		return err
	}
	const total = 5000
	publisher := b.api.FastPublisher(from)
	began := time.Now()
	var builder message.Builder
	for i := range total {
		time.Sleep(time.Until(began.Add(time.Duration(i) * time.Millisecond)))
		builder.Add(&message.Message{Key: "k", Body: make([]byte, 100)})
		if err := publisher.Publish(0, builder.Build(message.Plain, nil)); err != nil {
			return err
		}
	}
	stamps := func(a address.Address) (all []time.Time, err error) {
		for end := time.Now().Add(10 * time.Second); len(all) < total && time.Now().Before(end); {
			all = nil
			err = b.api.Browse(b.ctx, a, client.Query{From: "first", Limit: total}, func(e client.Event) error {
				if e.Message != nil {
					all = append(all, e.Message.Time)
				}
				return nil
			})
			if err != nil {
				return nil, err
			}
		}
		return all, nil
	}
	came, err := stamps(from)
	if err != nil {
		return err
	}
	went, err := stamps(to)
	if err != nil || len(went) != len(came) {
		return fmt.Errorf("%d of %d came: %w", len(went), len(came), err)
	}
	took := make([]time.Duration, len(went))
	for i := range went {
		took[i] = went[i].Sub(came[i])
	}
	slices.Sort(took)
	b.note("route p50", float64(took[len(took)/2].Microseconds())/1000)
	b.note("route p99", float64(took[len(took)*99/100].Microseconds())/1000)
	return nil
}

// idleRoutes measures what 990 routes cost that send nothing, while nothing comes and
// while 100 messages a second do.
func (b *bench) idleRoutes() error {
	for _, name := range []string{"idle", "idle-to"} {
		if err := b.newTopic(name, 1); err != nil {
			return err
		}
	}
	from := address.Channel("bench", "idle")
	made := 0
	make := func(count int, where string) error {
		for range count {
			made++
			if err := b.api.Call(b.ctx, http.MethodPost, client.ChannelPath(from)+"/groups", nil,
				client.NewGroup{Group: fmt.Sprintf("r%d", made), Kind: "route", Settings: client.Settings{"to": "bench/idle-to", "where": where}}, nil); err != nil {
				return err
			}
		}
		return nil
	}
	publisher := b.api.FastPublisher(from)
	cost := func(name string, rate int) error {
		time.Sleep(2 * time.Second)
		before, began := processorTime(b.ferryd.Process.Pid), time.Now()
		var builder message.Builder
		for time.Since(began) < 5*time.Second {
			if rate == 0 {
				time.Sleep(100 * time.Millisecond)
				continue
			}
			builder.Add(&message.Message{Key: "k", Body: []byte("{}")})
			if err := publisher.Publish(0, builder.Build(message.Plain, nil)); err != nil {
				return err
			}
			time.Sleep(time.Second / time.Duration(rate))
		}
		b.note(name, (processorTime(b.ferryd.Process.Pid)-before).Seconds()/time.Since(began).Seconds())
		return nil
	}
	for _, step := range []func() error{
		func() error { return make(10, `key == "k"`) },
		func() error { return cost("routes idle few", 0) }, func() error { return cost("routes busy few", 100) },
		func() error { return make(990, `key == "none"`) },
		func() error { return cost("routes idle", 0) }, func() error { return cost("routes busy", 100) },
	} {
		if err := step(); err != nil {
			return err
		}
	}
	return nil
}
