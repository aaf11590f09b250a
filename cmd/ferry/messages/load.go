package messages

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"math"
	"math/rand/v2"
	"net/http"
	"runtime"
	"sync"
	"sync/atomic"
	"time"

	"github.com/HdrHistogram/hdrhistogram-go"
	"github.com/google/uuid"
	"golang.org/x/sync/errgroup"

	"steadyferry/client"
	"steadyferry/cmd/ferry/term"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/message"
)

type loadFlags struct {
	messages, size, publishers, readers, batch int
	rate                                       float64
	time                                       time.Duration
	compress                                   bool
	key                                        bool
}

var loadVerb = verb{
	Name: "load", Args: "ADDRESS", Summary: "Publish and read test messages as fast as it goes, and measure",
	Details: "Readers begin at the end and measure the time from publishing to reading. With -publishers 0 they read what is kept, from its first message. What a node that goes away did not confirm is sent again, and is not kept twice.\n\n" +
		"    ferry load coldchain/trial -count 1000000 -body-size 100 -publishers 4 -readers 2",
	Define: func(fs *flag.FlagSet) func(*call) error {
		var f loadFlags
		fs.IntVar(&f.messages, "count", 1_000_000, "publish `N` messages in all, or read so many")
		fs.Var(term.DurationValue{D: &f.time}, "for", "publish for this `DURATION`, instead of a number of messages")
		fs.IntVar(&f.size, "body-size", 100, "bodies of `N` bytes")
		fs.IntVar(&f.publishers, "publishers", 4, "`N` connections that publish")
		fs.IntVar(&f.readers, "readers", 0, "`N` readers, each of which reads everything")
		fs.IntVar(&f.batch, "batch", 4000, "`N` messages in a request")
		fs.Var(term.RateValue{PerSecond: &f.rate}, "rate", "publish at most at this `RATE` in all, such as 1000/s")
		fs.BoolVar(&f.compress, "compress", false, "compress batches with zstd")
		fs.BoolVar(&f.key, "keys", false, "give every message a key")
		return func(c *call) error {
			a, err := c.OneChannel()
			if err != nil {
				return err
			}
			if f.messages < 1 || f.size < 0 || f.size > message.MaxBody || f.publishers < 0 || f.readers < 0 || f.batch < 1 || f.batch > message.MaxBatchCount || f.publishers+f.readers < 1 || f.publishers > 1024 || f.readers > 64 {
				return term.WrongUsage("out of range; allowed: -count and -batch from 1, -body-size up to 64 MiB, -publishers 0 to 1024, -readers 0 to 64, one of either at least")
			}
			return c.load(a, &f)
		}
	},
}

// load is one run of the generator.
type load struct {
	call       *call
	flags      *loadFlags
	address    address.Address
	partitions int
	started    time.Time

	given     atomic.Int64 // messages handed to publishers
	published atomic.Int64
	read      atomic.Int64
	readBytes atomic.Int64
	retries   atomic.Int64
	done      atomic.Bool  // with publishing
	lastKept  atomic.Int64 // Unix nanoseconds
	longest   atomic.Int64 // nanoseconds in which nothing was kept

	mu      sync.Mutex
	publish *hdrhistogram.Histogram // microseconds from request to answer
	arrive  *hdrhistogram.Histogram // microseconds from publishing to reading
}

// Latencies from a microsecond to a minute, to three digits.
func newHistogram() *hdrhistogram.Histogram { return hdrhistogram.New(1, 60_000_000, 3) }

func (c *call) load(a address.Address, f *loadFlags) error {
	var t client.Channel
	if err := c.API.Call(c.Ctx, http.MethodGet, client.ChannelPath(a), nil, nil, &t); err != nil {
		return err
	}
	l := &load{call: c, flags: f, address: a, partitions: t.Partitions, publish: newHistogram(), arrive: newHistogram()}
	ctx, cancel := context.WithCancel(c.Ctx)
	defer cancel()
	readers, readCtx := errgroup.WithContext(ctx)
	for range f.readers {
		for _, p := range t.Each {
			from, target := p.End, int64(f.messages)
			if f.publishers == 0 {
				from = p.First
			}
			readers.Go(func() error { return l.reader(readCtx, p.Partition, from, target) })
		}
	}
	l.started = term.Now()
	stopLine := l.line()
	publishers, publishCtx := errgroup.WithContext(ctx)
	for range f.publishers {
		publishers.Go(func() error { return l.publisher(publishCtx) })
	}
	err := publishers.Wait()
	l.done.Store(true)
	publishTime := time.Since(l.started)
	if err != nil {
		cancel()
	}
	if readErr := readers.Wait(); err == nil {
		err = readErr
	}
	readTime := time.Since(l.started)
	stopLine()
	if err != nil {
		return err
	}
	return l.report(publishTime, readTime)
}

// take hands out the next messages to publish, at the rate.
func (l *load) take(ctx context.Context) (int, error) {
	n := int64(l.flags.batch)
	before := l.given.Add(n) - n
	left := int64(l.flags.messages) - before
	if l.flags.time > 0 {
		left = n
	}
	if left <= 0 || l.flags.time > 0 && time.Since(l.started) >= l.flags.time {
		return 0, nil
	}
	if l.flags.rate > 0 {
		due := l.started.Add(time.Duration(float64(before) / l.flags.rate * float64(time.Second)))
		select {
		case <-time.After(time.Until(due)):
		case <-ctx.Done():
			return 0, ctx.Err()
		}
	}
	return int(min(n, left)), nil
}

func (l *load) publisher(ctx context.Context) error {
	body := make([]byte, l.flags.size)
	for i := range body {
		body[i] = "abcdefghijklmnopqrstuvwxyz0123456789"[rand.IntN(36)]
	}
	compression := message.Plain
	if l.flags.compress {
		compression = message.Zstd
	}
	publisher := l.call.API.FastPublisher(l.address)
	if err := publisher.Learn(ctx); err != nil {
		return err
	}
	id := uuid.New()
	sequences := make([]uint64, l.partitions)
	partition := rand.IntN(l.partitions)
	var b message.Builder
	latencies := newHistogram()
	defer func() {
		l.mu.Lock()
		defer l.mu.Unlock()
		l.publish.Merge(latencies)
	}()
	m := message.Message{Body: body, ContentType: "text/plain"}
	for {
		n, err := l.take(ctx)
		if n == 0 || err != nil {
			return err
		}
		sent := term.Now()
		for i := range n {
			m.Time = time.Time{}
			if i == 0 {
				m.Time = sent // in the batch's header, for the readers
			}
			if l.flags.key {
				m.Key = fmt.Sprintf("key-%d", rand.IntN(1000))
			}
			b.Add(&m)
		}
		partition = (partition + 1) % l.partitions
		sequences[partition]++ // from 1
		batch := b.Build(compression, &message.Publisher{ID: id, Sequence: sequences[partition]})
		sequences[partition] += uint64(n) - 1
		asked := term.Now()
		if err := l.send(ctx, publisher, partition, batch); err != nil {
			return err
		}
		latencies.RecordValues(max(time.Since(asked).Microseconds(), 1), int64(n))
		l.published.Add(int64(n))
	}
}

// send sends a batch until it is kept: its sequence keeps it from being kept
// twice.
func (l *load) send(ctx context.Context, p *client.FastPublisher, partition int, batch []byte) error {
	deadline := term.Now().Add(30 * time.Second)
	for pause := 10 * time.Millisecond; ; pause = min(2*pause, 500*time.Millisecond) {
		err := p.Publish(partition, batch)
		var refused *client.Problem
		if err == nil {
			l.paused(term.Now())
			return nil
		}
		if ctx.Err() != nil || term.Now().After(deadline) || errors.As(err, &refused) && refused.Status != http.StatusServiceUnavailable {
			return err
		}
		l.retries.Add(1)
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(pause/2 + rand.N(pause)):
		}
	}
}

// paused notes the longest time in which nothing was kept.
func (l *load) paused(now time.Time) {
	last := l.lastKept.Swap(now.UnixNano())
	for gap := now.UnixNano() - last; last > 0; {
		longest := l.longest.Load()
		if gap <= longest || l.longest.CompareAndSwap(longest, gap) {
			return
		}
	}
}

const loadFetchBytes = 4 << 20

func (l *load) reader(ctx context.Context, partition int, from, target int64) error {
	latencies := newHistogram()
	defer func() {
		l.mu.Lock()
		defer l.mu.Unlock()
		l.arrive.Merge(latencies)
	}()
	readers := int64(l.flags.readers)
	if l.flags.time > 0 {
		target = math.MaxInt64 / readers // until the publishers are done
	}
	target *= readers
	buffer := make([]byte, loadFetchBytes)
	position := address.Position{Kind: address.AtOffset, Offset: from}
	for l.read.Load() < target {
		f, err := l.call.API.Fetch(ctx, l.address, partition, position, loadFetchBytes, 200*time.Millisecond, buffer)
		if err != nil {
			return err
		}
		position.Offset = f.Next
		if l.flags.time > 0 && l.done.Load() {
			target = l.published.Load() * readers
		}
		for rest := f.Records; len(rest) > 0; {
			r, size, err := message.ReadRecord(rest)
			if err != nil {
				return err
			}
			batch, err := r.Batch()
			if err != nil {
				return err
			}
			bytes, err := batch.Bodies(nil)
			if err != nil {
				return err
			}
			if at := batch.Time(); !at.IsZero() {
				latencies.RecordValues(max(time.Since(at).Microseconds(), 1), int64(batch.Count()))
			}
			l.read.Add(int64(batch.Count()))
			l.readBytes.Add(int64(bytes))
			rest = rest[size:]
		}
		if f.Count == 0 && l.flags.publishers == 0 {
			return nil // all that is kept is read
		}
	}
	return nil
}

// line shows how far it is, twice a second, on a terminal.
func (l *load) line() (stop func()) {
	f := l.call.Err
	if _, ok := term.TerminalOf(f); !ok {
		return func() {}
	}
	done, ended := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(ended)
		ticker := time.NewTicker(500 * time.Millisecond)
		defer ticker.Stop()
		var lastPublished, lastRead int64
		for {
			select {
			case <-done:
				fmt.Fprint(f, term.ClearLine)
				return
			case <-ticker.C:
				published, read := l.published.Load(), l.read.Load()
				fmt.Fprintf(f, term.ClearLine+"%5.1f s   published %s (%s)   read %s (%s)", time.Since(l.started).Seconds(), term.Count(published), term.PerSecond(2*float64(published-lastPublished)),
					term.Count(read), term.PerSecond(2*float64(read-lastRead)))
				lastPublished, lastRead = published, read
			}
		}
	}()
	return func() { close(done); <-ended }
}

// direction is what a load did in one direction.
type direction struct {
	Messages  int64              `json:"messages"`
	Seconds   float64            `json:"seconds"`
	PerSecond float64            `json:"messagesPerSecond"`
	Bytes     float64            `json:"bytesPerSecond"` // of bodies
	Latency   map[string]float64 `json:"latencyMilliseconds,omitempty"`
}

var quantiles = []struct {
	name string
	at   float64
}{{"p50", 50}, {"p90", 90}, {"p99", 99}, {"p99.9", 99.9}, {"max", 100}}

func newDirection(messages, bytes int64, d time.Duration, h *hdrhistogram.Histogram) direction {
	r := direction{Messages: messages, Seconds: d.Seconds(), PerSecond: float64(messages) / d.Seconds(), Bytes: float64(bytes) / d.Seconds()}
	if h.TotalCount() > 0 {
		r.Latency = map[string]float64{}
		for _, q := range quantiles {
			r.Latency[q.name] = float64(h.ValueAtQuantile(q.at)) / 1000
		}
	}
	return r
}

func (l *load) report(publishTime, readTime time.Duration) error {
	published := newDirection(l.published.Load(), l.published.Load()*int64(l.flags.size), publishTime, l.publish)
	read := newDirection(l.read.Load(), l.readBytes.Load(), readTime, l.arrive)
	if l.call.JSON {
		return l.call.PrintJSON(map[string]any{"address": l.address.String(), "published": published, "read": read,
			"retries": l.retries.Load(), "longestPauseMilliseconds": float64(l.longest.Load()) / 1e6, "bodySize": l.flags.size, "batch": l.flags.batch, "publishers": l.flags.publishers, "readers": l.flags.readers, "cores": runtime.NumCPU()})
	}
	var rows [][]string
	for _, d := range []struct {
		name string
		direction
	}{{"published", published}, {"read", read}} {
		if d.Messages == 0 {
			continue
		}
		row := []string{d.name, term.Count(d.Messages), fmt.Sprintf("%.2f s", d.Seconds), term.PerSecond(d.PerSecond), term.SizePerSecond(d.Bytes)}
		for _, q := range quantiles {
			text := "–"
			if d.Latency != nil {
				text = fmt.Sprintf("%.2f ms", d.Latency[q.name])
			}
			row = append(row, text)
		}
		rows = append(rows, row)
	}
	if len(rows) == 0 {
		return errors.New("nothing was published or read")
	}
	if n := l.retries.Load(); n > 0 {
		defer fmt.Fprintf(l.call.Out, "%s batches were sent again; the longest time in which nothing was kept was %s; nothing was kept twice\n", term.Count(n), time.Duration(l.longest.Load()).Round(time.Millisecond))
	}
	l.call.Table(l.call.Out, []string{"", "messages", "time", "rate", "bodies", "p50", "p90", "p99", "p99.9", "slowest"}, rows, "messages", "time", "rate", "bodies", "p50", "p90", "p99", "p99.9", "slowest")
	return nil
}
