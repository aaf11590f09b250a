package main

import (
	"context"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"time"

	"github.com/HdrHistogram/hdrhistogram-go"
	"github.com/jackc/pgx/v5/pgxpool"
	"golang.org/x/sync/errgroup"

	"steadyferry/client"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/message"
)

// Sizes of the measurements of queues.
const (
	cycleSpan    = 4 * time.Second
	cycleWorkers = 8      // publishers, and as many members
	cycleAhead   = 20_000 // messages that publishers may be ahead
	oneMembers   = 64
	standing     = 1_000_000
	standingDead = 100_000
)

// cycle counts messages that were accepted while publishers go on.
type cycle struct {
	published, accepted atomic.Int64
}

// run lets publishers and members work for the span and returns what was
// accepted in a second.
func (c *cycle) run(ctx context.Context, publishers, members int, span time.Duration, publish func(ctx context.Context, worker int) (int, error), work func(ctx context.Context, member int) error) (float64, error) {
	ctx, cancel := context.WithTimeout(ctx, span)
	defer cancel()
	var group errgroup.Group
	for i := range publishers {
		group.Go(func() error {
			for ctx.Err() == nil {
				if c.published.Load()-c.accepted.Load() > cycleAhead {
					time.Sleep(time.Millisecond)
					continue
				}
				n, err := publish(ctx, i)
				if err != nil && ctx.Err() == nil {
					return err
				}
				c.published.Add(int64(n))
			}
			return nil
		})
	}
	for i := range members {
		group.Go(func() error {
			if err := work(ctx, i); err != nil && ctx.Err() == nil {
				return err
			}
			return nil
		})
	}
	began := time.Now()
	before := c.accepted.Load()
	err := group.Wait()
	return float64(c.accepted.Load()-before) / time.Since(began).Seconds(), err
}

func (b *bench) measureQueues(rounds int) error {
	for round := range rounds {
		fmt.Fprintf(os.Stderr, "queues, round %d of %d\n", round+1, rounds)
		for _, size := range []int{1, 10, 100} {
			for _, step := range []func(int) error{b.tableCycle, b.queueCycle} {
				if err := step(size); err != nil {
					return err
				}
			}
		}
		for _, size := range []int{10, 100} {
			if err := b.stream(fmt.Sprintf("stream %d", size), cycleWorkers, cycleWorkers, size); err != nil {
				return err
			}
		}
		for _, step := range []func() error{b.queueOne, func() error { return b.stream("stream", 1, oneMembers, 1) }, b.leaseLatency} {
			if err := step(); err != nil {
				return err
			}
		}
	}
	if err := b.deadLetters(); err != nil {
		return err
	}
	if err := b.standing(); err != nil {
		return err
	}
	if err := b.replicated(); err != nil {
		return err
	}
	row := func(name, value, compared string) { fmt.Printf("%-52s %14s   %s\n", name, value, compared) }
	fmt.Println()
	for _, size := range []int{100, 10, 1} {
		table, own := b.median(fmt.Sprintf("table %d", size)), b.median(fmt.Sprintf("queue %d", size))
		row(fmt.Sprintf("reference: a table with SKIP LOCKED, batches of %d", size), fmt.Sprintf("%.0f/s", table), "8+8 connections")
		row(fmt.Sprintf("publish, lease, accept in batches of %d, a call each", size), fmt.Sprintf("%.0f/s", own), fmt.Sprintf("%.1f times the table", own/table))
		if size > 1 {
			own = b.median(fmt.Sprintf("stream %d", size))
			row("the same over streams", fmt.Sprintf("%.0f/s", own), fmt.Sprintf("%.1f times the table", own/table))
		}
	}
	row("batches of 100, a call each, three replicas", fmt.Sprintf("%.0f/s", b.median("replicated")), fmt.Sprintf("%.0f%% of one replica in turn with it", 100*b.median("replicated")/b.median("alone")))
	one := b.median("table 1")
	row("lease and accept one by one, 64 members over HTTP", fmt.Sprintf("%.0f/s", b.median("one")), fmt.Sprintf("%.1f times the table one by one", b.median("one")/one))
	row("the same over streams", fmt.Sprintf("%.0f/s", b.median("stream")), fmt.Sprintf("%.1f times the table one by one", b.median("stream")/one))
	row("publish to lease at 1,000/s", fmt.Sprintf("%.1f ms", b.median("latency p99")), fmt.Sprintf("p99; p50 %.1f ms", b.median("latency p50")))
	row("1,000,000 dead letters by cause", fmt.Sprintf("%.0f ms", b.median("causes")), "")
	row("return of 100,000 dead letters", fmt.Sprintf("%.1f s", b.median("return")), "")
	row("memory for 1,000,000 waiting", fmt.Sprintf("%.0f MiB", b.median("memory")), "more than before they came")
	row("batches of 100, first 5 s, nothing standing", fmt.Sprintf("%.0f/s", b.median("fresh rate")), "")
	row("after 60 s, 1M waiting, 1M delayed, 100k dead", fmt.Sprintf("%.0f/s", b.median("standing rate")), fmt.Sprintf("%.0f%% of it; %.0f%% of an empty queue in turn with it", 100*b.median("standing rate")/b.median("fresh rate"), 100*b.median("standing rate")/b.median("empty rate")))
	return nil
}

// tableCycle is the reference: a table of PostgreSQL as a queue.
func (b *bench) tableCycle(size int) error {
	url, err := os.ReadFile(filepath.Join(b.dir, "database.url"))
	if err != nil {
		return err
	}
	config, err := pgxpool.ParseConfig(strings.TrimSpace(string(url)))
	if err != nil {
		return err
	}
	config.MaxConns = 2 * cycleWorkers
	pool, err := pgxpool.NewWithConfig(b.ctx, config)
	if err != nil {
		return err
	}
	defer pool.Close()
	if _, err := pool.Exec(b.ctx, `DROP TABLE IF EXISTS reference_queue; CREATE TABLE reference_queue (id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY, leased_until timestamptz, body bytea)`); err != nil {
		return err
	}
	defer pool.Exec(b.ctx, `DROP TABLE reference_queue`)
	body := make([]byte, 100)
	bodies := make([][]byte, size)
	for i := range bodies {
		bodies[i] = body
	}
	var c cycle
	rate, err := c.run(b.ctx, cycleWorkers, cycleWorkers, cycleSpan, func(ctx context.Context, _ int) (int, error) {
		_, err := pool.Exec(ctx, `INSERT INTO reference_queue (body) SELECT unnest($1::bytea[])`, bodies)
		return size, err
	}, func(ctx context.Context, _ int) error {
		for ctx.Err() == nil {
			rows, err := pool.Query(ctx, `UPDATE reference_queue SET leased_until = now() + interval '30 s' WHERE id IN
				(SELECT id FROM reference_queue WHERE leased_until IS NULL ORDER BY id LIMIT $1 FOR UPDATE SKIP LOCKED) RETURNING id, body`, size)
			if err != nil {
				return err
			}
			var ids []int64
			for rows.Next() {
				var id int64
				var got []byte
				if err := rows.Scan(&id, &got); err != nil {
					return err
				}
				ids = append(ids, id)
			}
			if err := rows.Err(); err != nil {
				return err
			}
			if len(ids) == 0 {
				time.Sleep(time.Millisecond)
				continue
			}
			if _, err := pool.Exec(ctx, `DELETE FROM reference_queue WHERE id = ANY($1)`, ids); err != nil {
				return err
			}
			c.accepted.Add(int64(len(ids)))
		}
		return nil
	})
	b.note(fmt.Sprintf("table %d", size), rate)
	return err
}

func (b *bench) newQueue(name string, settings client.Settings) (address.Address, error) {
	a := address.Channel("bench", fmt.Sprintf("%s-%d", name, time.Now().UnixNano()))
	return a, b.api.Call(b.ctx, http.MethodPost, "/channels", nil, client.NewChannel{Address: a.String(), Kind: "queue", Settings: settings}, nil)
}

func batchOf(count int, terms *message.Terms) []byte {
	var builder message.Builder
	for range count {
		builder.Add(&message.Message{Body: make([]byte, 100), Terms: terms})
	}
	return append([]byte(nil), builder.Build(message.Plain, nil)...)
}

// publishStreams is publishBatches over a publish stream for each publisher.
func (b *bench) publishStreams(a address.Address, size int) (func(context.Context, int) (int, error), error) {
	var workers [cycleWorkers]*client.PublishStream
	for i := range workers {
		var err error
		if workers[i], err = b.api.OpenPublish(b.ctx, a); err != nil {
			return nil, err
		}
	}
	return func(_ context.Context, worker int) (int, error) {
		_, err := workers[worker].Publish(b.ctx, 0, batchOf(size, nil))
		return size, err
	}, nil
}

// publishBatches returns what publishes batches of a size.
func (b *bench) publishBatches(a address.Address, size int) func(context.Context, int) (int, error) {
	var workers [cycleWorkers]*client.FastPublisher
	for i := range workers {
		workers[i] = b.api.FastPublisher(a)
	}
	return func(_ context.Context, worker int) (int, error) {
		return size, workers[worker].Publish(0, batchOf(size, nil))
	}
}

// workBatches settles and leases in one call.
func (b *bench) workBatches(c *cycle, a address.Address, size int) func(context.Context, int) error {
	return func(ctx context.Context, member int) error {
		var settle []client.Settlement
		for {
			w := client.WorkRequest{Member: fmt.Sprint("m", member), Settle: settle, Max: size, Wait: "1s"}
			if ctx.Err() != nil {
				w.Max, w.Wait = 0, ""
			}
			if w.Max == 0 && len(settle) == 0 {
				return nil
			}
			answer, err := b.api.Work(b.ctx, a, w)
			if err != nil {
				return err
			}
			for _, s := range answer.Settled {
				if s.Result != client.ResultDone {
					return fmt.Errorf("lease %s: %s", s.Lease, s.Result)
				}
			}
			c.accepted.Add(int64(len(settle)))
			settle = settle[:0]
			for i := range answer.Leased {
				settle = append(settle, client.Settlement{Lease: answer.Leased[i].Lease, Outcome: client.OutcomeAccept})
			}
		}
	}
}

func (b *bench) queueCycle(size int) error {
	rate, err := b.cycleOf(size)
	b.note(fmt.Sprintf("queue %d", size), rate)
	return err
}

// cycleOf publishes, leases and accepts in batches of a size, a call each, and
// returns the messages accepted in a second.
func (b *bench) cycleOf(size int) (float64, error) {
	a, err := b.newQueue("cycle", client.Settings{})
	if err != nil {
		return 0, err
	}
	var c cycle
	return c.run(b.ctx, cycleWorkers, cycleWorkers, cycleSpan, b.publishBatches(a, size), b.workBatches(&c, a, size))
}

// queueOne leaves publishing to one publisher with batches, and has 64 members
// take and accept messages one at a time.
func (b *bench) queueOne() error {
	a, err := b.newQueue("one", client.Settings{})
	if err != nil {
		return err
	}
	var c cycle
	rate, err := c.run(b.ctx, 1, oneMembers, cycleSpan, b.publishBatches(a, 100), b.workBatches(&c, a, 1))
	b.note("one", rate)
	return err
}

// stream has members take messages over work streams and accept so many at a
// time. Their credit is twice as many, so that the next ones are on their way.
func (b *bench) stream(name string, publishers, members, size int) error {
	a, err := b.newQueue("stream", client.Settings{})
	if err != nil {
		return err
	}
	var c cycle
	batch, credit := size, 2*size
	if size == 1 {
		batch, credit = 100, 16
	}
	publish, err := b.publishStreams(a, batch)
	if err != nil {
		return err
	}
	rate, err := c.run(b.ctx, publishers, members, cycleSpan, publish, func(ctx context.Context, member int) error {
		s, err := b.api.OpenWork(b.ctx, a, fmt.Sprint("m", member), credit)
		if err != nil {
			return err
		}
		var settle []client.Settlement
		for {
			d, err := s.Next(ctx)
			if ctx.Err() != nil {
				closing, cancel := context.WithTimeout(b.ctx, 10*time.Second)
				defer cancel()
				return s.Close(closing)
			}
			if err != nil {
				return err
			}
			settle = append(settle, client.Settlement{Lease: d.Lease, Outcome: client.OutcomeAccept})
			if len(settle) == size {
				s.Settle(settle...)
				c.accepted.Add(int64(size))
				settle = settle[:0]
			}
		}
	})
	b.note(name, rate)
	return err
}

// leaseLatency publishes 1,000 messages a second, and measures how long each
// takes to a member that waits.
func (b *bench) leaseLatency() error {
	a, err := b.newQueue("latency", client.Settings{})
	if err != nil {
		return err
	}
	h := hdrhistogram.New(1, 10_000_000, 3)
	times := make(chan time.Duration, 10_000)
	ctx, cancel := context.WithTimeout(b.ctx, 5*time.Second)
	defer cancel()
	var group errgroup.Group
	group.Go(func() error {
		tick := time.NewTicker(time.Millisecond)
		defer tick.Stop()
		p := b.api.FastPublisher(a)
		for {
			select {
			case <-ctx.Done():
				return nil
			case <-tick.C:
				var builder message.Builder
				builder.Add(&message.Message{Body: make([]byte, 100), Time: time.Now()})
				if err := p.Publish(0, builder.Build(message.Plain, nil)); err != nil {
					return err
				}
			}
		}
	})
	for i := range 4 {
		group.Go(func() error {
			s, err := b.api.OpenWork(b.ctx, a, fmt.Sprint("m", i), 16)
			if err != nil {
				return err
			}
			for {
				d, err := s.Next(ctx)
				if ctx.Err() != nil {
					return nil
				}
				if err != nil {
					return err
				}
				times <- time.Since(d.Message.Time)
				s.Settle(client.Settlement{Lease: d.Lease, Outcome: client.OutcomeAccept})
			}
		})
	}
	err = group.Wait()
	close(times)
	for d := range times {
		h.RecordValue(d.Microseconds())
	}
	b.note("latency p99", float64(h.ValueAtQuantile(99))/1000)
	b.note("latency p50", float64(h.ValueAtQuantile(50))/1000)
	return err
}

// reject makes dead letters of so many messages, with details that differ.
func (b *bench) reject(a address.Address, count int) error {
	var made atomic.Int64
	var group errgroup.Group
	for i := range 4 {
		group.Go(func() error {
			for made.Add(1000) <= int64(count) {
				if _, err := b.api.Publish(b.ctx, a, 0, client.BatchType, nil, batchOf(1000, nil)); err != nil {
					return err
				}
				answer, err := b.api.Work(b.ctx, a, client.WorkRequest{Member: fmt.Sprint("m", i), Max: 1000})
				if err != nil {
					return err
				}
				var settle []client.Settlement
				for n, d := range answer.Leased {
					settle = append(settle, client.Settlement{Lease: d.Lease, Outcome: client.OutcomeReject, Reason: fmt.Sprint("code-", n%3), Detail: fmt.Sprintf("box box-%d is %d degrees too warm", d.Lease.Offset, n%40)})
				}
				if _, err := b.api.Work(b.ctx, a, client.WorkRequest{Member: fmt.Sprint("m", i), Settle: settle}); err != nil {
					return err
				}
			}
			return nil
		})
	}
	return group.Wait()
}

func (b *bench) deadLetters() error {
	fmt.Fprintln(os.Stderr, "dead letters")
	a, err := b.newQueue("dead", client.Settings{})
	if err == nil {
		err = b.reject(a, standing)
	}
	if err != nil {
		return err
	}
	for range 3 {
		began := time.Now()
		var d client.DeadLetters
		if err := b.api.Call(b.ctx, http.MethodGet, client.QueuePath(a)+"/dead", nil, nil, &d); err != nil {
			return err
		}
		if d.Total != standing || len(d.Causes) != 3 {
			return fmt.Errorf("%d dead letters of %d causes", d.Total, len(d.Causes))
		}
		b.note("causes", float64(time.Since(began).Milliseconds()))
	}
	began := time.Now()
	var r client.QueueActionResult
	err = b.api.Call(b.ctx, http.MethodPost, client.QueuePath(a)+"/actions", nil, client.QueueAction{Action: "return", Choice: client.Choice{Limit: standingDead}}, &r)
	if err == nil && r.Messages != standingDead {
		err = fmt.Errorf("%d messages were returned", r.Messages)
	}
	b.note("return", time.Since(began).Seconds())
	if err != nil {
		return err
	}
	return b.api.Call(b.ctx, http.MethodDelete, client.ChannelPath(a), nil, nil, nil)
}
