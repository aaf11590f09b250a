package main

import (
	"context"
	"math"
	"time"

	"steadyferry/client"
)

// The demo's past: an hour, told in steps of ten seconds, and its last minutes
// in steps of one, as finely as charts show them.
const (
	past       = time.Hour
	coarseStep = 10 * time.Second
	finePast   = 5 * time.Minute
	fineStep   = time.Second
)

// livePast lets the depot live the time until now within a few seconds, at the times
// at which it was, so that there is something to look through and no chart
// begins with a spike.
func (d *depot) livePast(ctx context.Context) error {
	reading, stop := context.WithCancel(ctx)
	readers := d.startPastReaders(reading)
	defer readers.Wait()
	defer stop()
	var settled []client.Settlement
	worked := 0
	begin := d.now().Truncate(coarseStep).Add(coarseStep)
	step := coarseStep
	for at := begin; at.Before(time.Now()); at = at.Add(step) {
		d.goTo(at)
		lived := at.Sub(begin)
		if d.ago <= finePast {
			step = fineStep
		}
		some, rounds := d.awake(), int(step/measureEvery)
		if rounds == 0 { // half of them measure in a second
			some, rounds = some[int(lived/fineStep)%2*len(some)/2:][:len(some)/2], 1
		}
		if err := d.measure(ctx, some, rounds); err != nil {
			return err
		}
		if lived%(5*time.Second) == 0 {
			if err := d.depart(ctx); err != nil {
				return err
			}
		}
		if orders := int(lived / inspectionEvery); orders > worked {
			if err := d.publishWarm(ctx, orders-worked); err != nil {
				return err
			}
			worked = orders
		}
		var err error
		if settled, err = d.workPast(ctx, settled); err != nil {
			return err
		}
	}
	if len(settled) == 0 { // nothing was waiting at last
		return nil
	}
	_, err := d.api.Work(ctx, d.inspections, client.WorkRequest{Member: "inspector-1", Settle: settled})
	return err
}

// awake returns the boxes that measured then: more and more are on their way,
// in waves.
func (d *depot) awake() []box {
	ago := d.ago.Seconds() / past.Seconds()
	return d.boxes[:int(boxes*(1-0.25*ago-0.2*ago*math.Pow(math.Sin(9*ago), 2)))]
}

// goTo sets the time of the demo's world.
func (d *depot) goTo(at time.Time) {
	d.ago = max(time.Since(at), 0)
	d.shift(-d.ago)
}

// workPast settles what the inspectors worked on, and leases what they work on
// next.
func (d *depot) workPast(ctx context.Context, settle []client.Settlement) ([]client.Settlement, error) {
	w, err := d.api.Work(ctx, d.inspections, client.WorkRequest{Member: "inspector-1", Settle: settle, Max: 30})
	if err != nil {
		return nil, err
	}
	var next []client.Settlement
	for i := range w.Leased {
		next = append(next, outcomeOf(&w.Leased[i], d.inspect))
	}
	return next, nil
}
