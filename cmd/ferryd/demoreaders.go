package main

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"sync"
	"time"

	"steadyferry/client"
	"steadyferry/internal/core/message"
)

// startReaders lets the demo's groups read: dashboards keeps up, compliance
// lags in waves. A third, forecast, read once long ago (see livePast).
func (d *depot) startReaders(ctx context.Context) *sync.WaitGroup {
	var wg sync.WaitGroup
	for i := range 2 {
		wg.Go(func() { d.readAs(ctx, "dashboards", fmt.Sprintf("dashboards-%d", i+1), nil) })
	}
	wg.Go(func() { d.readAs(ctx, "compliance", "compliance-1", waves()) })
	return &wg
}

// startPastReaders reads during the demo's past, as fast as it goes; forecast
// did so once, at the beginning.
func (d *depot) startPastReaders(ctx context.Context) *sync.WaitGroup {
	var wg sync.WaitGroup
	for _, group := range []string{"dashboards", "compliance"} {
		wg.Go(func() { d.readAs(ctx, group, group+"-1", nil) })
	}
	wg.Go(func() {
		ctx, cancel := context.WithCancel(ctx)
		defer cancel()
		d.readAs(ctx, "forecast", "forecast-1", func(ctx context.Context, count int) { cancel() })
	})
	return &wg
}

// waves makes a reader work for a minute, faster than messages come in, and
// then not at all for a minute.
func waves() func(ctx context.Context, count int) {
	const half, perSecond = time.Minute, 70
	began := time.Now()
	return func(ctx context.Context, count int) {
		pause := time.Duration(count) * time.Second / perSecond
		if at := time.Since(began) % (2 * half); at > half {
			pause = 2*half - at
		}
		select {
		case <-ctx.Done():
		case <-time.After(pause):
		}
	}
}

// readAs reads as a member of a group until ctx ends; work takes the time that
// so many messages need.
func (d *depot) readAs(ctx context.Context, group, label string, work func(ctx context.Context, count int)) {
	for ctx.Err() == nil {
		err := d.readOnce(ctx, client.ReadOptions{JoinGroup: client.JoinGroup{From: "first", Member: label}, MaxBytes: 16 << 10}, group, work)
		if err != nil && ctx.Err() == nil && !errors.Is(err, context.Canceled) {
			fmt.Fprintf(os.Stderr, "demo: %s: %v\n", label, err)
		}
		select {
		case <-ctx.Done():
		case <-time.After(time.Second):
		}
	}
}

func (d *depot) readOnce(ctx context.Context, o client.ReadOptions, group string, work func(ctx context.Context, count int)) error {
	a := d.readings
	a.Group = group
	r, err := d.api.ReadGroup(ctx, a, o)
	if err != nil {
		return err
	}
	defer func() {
		closing, cancel := context.WithTimeout(context.Background(), 3*time.Second)
		defer cancel()
		r.Close(closing)
	}()
	for {
		b, err := r.Next(ctx)
		if err != nil {
			return err
		}
		count := 0
		var nameless []int64
		if err := b.Messages(func(s *message.Stored) error {
			count++
			if group == "compliance" && !bytes.Contains(s.Body, []byte(`"box"`)) && s.Offset%8 == 0 {
				nameless = append(nameless, s.Offset)
			}
			return nil
		}); err != nil {
			return err
		}
		for _, offset := range nameless {
			if err := r.Reject(ctx, b, offset, "box-missing", "field \"box\" is missing: the reading proves nothing"); err != nil {
				return err
			}
		}
		if work != nil {
			work(ctx, count)
		}
		r.Done(b, true)
	}
}
