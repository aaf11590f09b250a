package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"net/http"
	"os"
	"strconv"
	"sync"
	"time"

	"steadyferry/client"
	"steadyferry/cmd/ferryd/clinic"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/message"
)

// Inspections of the demo: how many come, and how long one takes.
const (
	inspectionEvery = 700 * time.Millisecond
	inspectors      = 3
)

// warm is a reading of a box that is too warm. Some of them are wrong in ways that
// happen.
func (d *depot) warm() (key string, body []byte) {
	b := d.boxes[rand.IntN(len(d.boxes))]
	warm := 8 + 6*rand.Float64()
	order := map[string]any{"box": b.id, "celsius": round(warm), "battery": int(b.battery), "at": d.now().UTC().Truncate(time.Second)}
	switch n := rand.IntN(100); {
	case n < 14:
		order["celsius"] = fmt.Sprintf("%.1f F", warm*9/5+32)
	case n < 19:
		delete(order, "box")
	case n < 23:
		order["box"] = fmt.Sprintf("box-%04d", 9000+rand.IntN(100))
	case n < 26:
		order["clinic"] = "island-post" // whose register answers too late
	}
	body, err := json.Marshal(order)
	if err != nil {
		panic(err) // plain values
	}
	return b.id, body
}

// publishWarm sends readings of boxes that are too warm, which say so in a header:
// a route makes inspections of them.
func (d *depot) publishWarm(ctx context.Context, count int) error {
	builders := map[int]*message.Builder{}
	for range count {
		key, body := d.warm()
		p := message.PartitionOf(key, 6)
		if builders[p] == nil {
			builders[p] = &message.Builder{}
		}
		builders[p].Add(&message.Message{Key: key, ContentType: "application/json", Body: body, Headers: []message.Header{{Name: "alarm", Value: "warm"}}})
	}
	return d.publishReadings(ctx, builders)
}

// recall asks for a box back.
func (d *depot) recall(ctx context.Context) error {
	b := d.boxes[rand.IntN(8)]
	clinics := []string{"harbour-clinic", "north-shore", clinic.Refused, "old-mill", "island-post"}
	body, err := json.Marshal(map[string]any{"box": b.id, "clinic": clinics[rand.IntN(len(clinics))], "why": "too warm on its way", "at": d.now().UTC().Truncate(time.Second)})
	if err != nil {
		return err
	}
	_, err = d.api.Publish(ctx, d.recalls, 0, "application/json", http.Header{"Ferry-Key": {b.id}, client.HeaderProgram: {"recall-desk"}}, body)
	return err
}

// order is what a clinic orders; a region is that of its depot.
func (d *depot) order(ctx context.Context) error {
	clinic := []string{"harbour-clinic", "north-shore", "hill-road", "old-mill", "island-post"}[rand.IntN(5)]
	region := "south"
	if clinic == "harbour-clinic" || clinic == "north-shore" {
		region = "north"
	}
	body, err := json.Marshal(map[string]any{"clinic": clinic, "region": region, "doses": 20 * (1 + rand.IntN(12)), "at": d.now().UTC().Truncate(time.Second)})
	if err != nil {
		return err
	}
	_, err = d.api.Publish(ctx, d.orders, -1, "application/json", http.Header{"Ferry-Key": {clinic}, client.HeaderProgram: {"order-desk"}}, body)
	return err
}

// startWorkers lets inspectors and packers work on the queues.
func (d *depot) startWorkers(ctx context.Context) *sync.WaitGroup {
	var wg sync.WaitGroup
	for i := range inspectors {
		wg.Go(func() {
			d.workAs(ctx, d.inspections, fmt.Sprintf("inspector-%d", i+1), 150*time.Millisecond, d.inspect)
		})
	}
	for _, name := range []string{"north-depot", "south-depot"} {
		wg.Go(func() {
			d.workAs(ctx, address.Channel("coldchain", name), "packer-"+name, 400*time.Millisecond, func([]byte) error { return nil })
		})
	}
	wg.Go(func() {
		tick := time.NewTicker(inspectionEvery)
		defer tick.Stop()
		for n := 0; ; n++ {
			err := d.publishWarm(ctx, 1)
			if n%2 == 0 && err == nil {
				err = d.recall(ctx)
			}
			if n%3 == 0 && err == nil {
				err = d.order(ctx)
			}
			if err != nil && ctx.Err() == nil {
				fmt.Fprintln(os.Stderr, "demo:", err)
			}
			select {
			case <-ctx.Done():
				return
			case <-tick.C:
			}
		}
	})
	return &wg
}

// failure is why an inspector rejects an order; later asks for another try.
type failure struct {
	reason, detail string
	later          bool
}

func (f *failure) Error() string { return f.detail }

// answers reports whether the register of island-post does at a time: it rests for three of
// five minutes.
func answers(at time.Time) bool { return at.Minute()%5 < 2 }

// inspect is the inspectors' program in the demo's world, now.
func (d *depot) inspect(body []byte) error { return inspect(d.now(), body) }

// inspect is the inspectors' program: strict, and not very patient.
func inspect(now time.Time, body []byte) error {
	var order struct {
		Box     *string
		Celsius json.RawMessage
		Clinic  string
	}
	if err := json.Unmarshal(body, &order); err != nil {
		return &failure{reason: "not-json", detail: err.Error()}
	}
	if order.Box == nil {
		return &failure{reason: "box-missing", detail: "field \"box\" is missing: nobody knows which box to look at\n  at inspect (inspect.go:41)\n  at main (main.go:18)"}
	}
	var celsius float64
	if err := json.Unmarshal(order.Celsius, &celsius); err != nil {
		var text string
		_ = json.Unmarshal(order.Celsius, &text) // anything else prints as it is
		return &failure{reason: "celsius-not-a-number", detail: fmt.Sprintf("/celsius: want a number, got %q of %s\n  at inspect (inspect.go:52)", text, *order.Box)}
	}
	if number, err := strconv.Atoi((*order.Box)[len("box-"):]); err != nil || number > boxes {
		return &failure{reason: "unknown-box", detail: fmt.Sprintf("field box: %s is not in the register of %d boxes", *order.Box, boxes)}
	}
	if order.Clinic == "island-post" && !answers(now) {
		return &failure{reason: "register-timeout", detail: fmt.Sprintf("the register of island-post did not answer within %.1f s", 2+3*rand.Float64()), later: true}
	}
	return nil
}

// workAs works on a queue as a member until ctx ends.
func (d *depot) workAs(ctx context.Context, queue address.Address, member string, each time.Duration, work func([]byte) error) {
	for ctx.Err() == nil {
		err := d.workOnce(ctx, queue, member, each, work)
		if err != nil && ctx.Err() == nil && !errors.Is(err, context.Canceled) {
			fmt.Fprintf(os.Stderr, "demo: %s: %v\n", member, err)
		}
		select {
		case <-ctx.Done():
		case <-time.After(time.Second):
		}
	}
}

func (d *depot) workOnce(ctx context.Context, queue address.Address, member string, each time.Duration, work func([]byte) error) error {
	s, err := d.api.OpenWork(ctx, queue, member, 2)
	if err != nil {
		return err
	}
	defer func() {
		closing, cancel := context.WithTimeout(context.Background(), 3*time.Second)
		defer cancel()
		s.Close(closing)
	}()
	for {
		l, err := s.Next(ctx)
		if err != nil {
			return err
		}
		select {
		case <-ctx.Done():
		case <-time.After(each/2 + rand.N(each)):
		}
		s.Settle(outcomeOf(&l, work))
	}
}

// outcomeOf works on a message, and says what becomes of it.
func outcomeOf(l *client.Leased, work func([]byte) error) client.Settlement {
	outcome := client.Settlement{Lease: l.Lease, Outcome: client.OutcomeAccept}
	var f *failure
	if err := work(l.Message.Body); errors.As(err, &f) {
		outcome.Outcome, outcome.Reason, outcome.Detail = client.OutcomeReject, f.reason, f.detail
		if f.later {
			outcome.Outcome, outcome.After = client.OutcomeRelease, "auto"
		}
	}
	return outcome
}
