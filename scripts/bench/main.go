// Command bench measures a node, and three of them, against plain references in the same run, and
// prints ratios: the machine may be noisy, so that figures of different runs
// do not compare.
//
//	go run ./scripts/bench [-rounds 3] [-part all] [-large]
package main

import (
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"log"
	"math/rand/v2"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"syscall"
	"time"

	"github.com/HdrHistogram/hdrhistogram-go"
	"github.com/gin-gonic/gin"
	"github.com/jackc/pgx/v5"
	"golang.org/x/sync/errgroup"
	"golang.org/x/sys/unix"

	"steadyferry/client"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/message"
)

func main() {
	rounds := flag.Int("rounds", 3, "measure each figure this `many` times and take the median")
	large := flag.Bool("large", false, "also fill a topic with 10 GB, and measure memory, starting and browsing over it")
	part := flag.String("part", "all", "what to `measure`: one node, groups, queues, a cluster of three, or all; one, groups, queues, cluster, all")
	dir := flag.String("dir", "", "`directory` for the data (default: a temporary one)")
	flag.Parse()
	if err := run(*rounds, *large, *part, *dir); err != nil {
		log.Fatal(err)
	}
}

// bench is one run of the measurements.
type bench struct {
	ctx    context.Context
	dir    string
	listen string
	api    *client.Client
	env    []string
	ferryd *exec.Cmd
	values map[string][]float64
}

func run(rounds int, large bool, part, dir string) error {
	if dir == "" {
		var err error
		if dir, err = os.MkdirTemp("", "ferry-bench-"); err != nil {
			return err
		}
		defer os.RemoveAll(dir)
	}
	if err := os.Chmod(dir, 0o711); err != nil {
		return err
	}
	b := &bench{ctx: context.Background(), dir: dir, listen: freePort(), values: map[string][]float64{}}
	if err := b.start(); err != nil {
		return err
	}
	defer b.stop()
	for _, topic := range []struct {
		name       string
		partitions int
	}{{"six", 6}, {"wide", 64}, {"small-six", 6}, {"small-wide", 64}, {"latency", 6}, {"json", 1}} {
		if err := b.newTopic(topic.name, topic.partitions); err != nil {
			return err
		}
	}
	if part == "groups" || part == "all" {
		if err := b.measureGroups(rounds); err != nil {
			return err
		}
	}
	if part == "queues" || part == "all" {
		if err := b.measureQueues(rounds); err != nil {
			return err
		}
	}
	if part == "one" || part == "all" {
		if err := b.measureOne(rounds); err != nil {
			return err
		}
		if large {
			if err := b.large(); err != nil {
				return err
			}
		}
		b.print()
	}
	if part == "cluster" || part == "all" {
		return b.measureCluster(rounds)
	}
	return nil
}

// freePort returns an address on loopback that nobody uses.
func freePort() string {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		log.Fatal(err)
	}
	defer l.Close()
	return l.Addr().String()
}

// measureOne measures a single node against the references.
func (b *bench) measureOne(rounds int) error {
	if err := b.fillJSON(); err != nil {
		return err
	}
	for round := range rounds {
		fmt.Fprintf(os.Stderr, "round %d of %d\n", round+1, rounds)
		for _, step := range []func() error{b.plainAppend, b.copyRows, b.publish, b.plainAppend, b.emptyHandler, b.oneByOne, b.fetch, b.latency, b.browse} {
			if err := step(); err != nil {
				return err
			}
		}
	}
	return nil
}

func (b *bench) start() error {
	b.ferryd = exec.Command("bin/ferryd", "serve", "-dir", b.dir, "-listen", b.listen, "-log-level", "WARN")
	b.ferryd.Stderr = os.Stderr
	if err := b.ferryd.Start(); err != nil {
		return err
	}
	for {
		response, err := http.Get("http://" + b.listen + "/readyz")
		if err == nil {
			response.Body.Close()
			if response.StatusCode == 200 {
				break
			}
		}
		time.Sleep(10 * time.Millisecond)
	}
	token, err := os.ReadFile(filepath.Join(b.dir, "owner.token"))
	if err != nil {
		return err
	}
	b.env = append(os.Environ(), "FERRY_SERVER="+b.listen, "FERRY_TOKEN="+strings.TrimSpace(string(token)))
	if b.api, err = client.New(b.listen, strings.TrimSpace(string(token))); err != nil {
		return err
	}
	b.api.Call(b.ctx, http.MethodPost, "/spaces", nil, map[string]string{"space": "bench"}, nil)
	return nil
}

func (b *bench) stop() {
	b.ferryd.Process.Signal(syscall.SIGTERM)
	b.ferryd.Wait()
}

func (b *bench) newTopic(name string, partitions int) error {
	bytes := int64(20) << 30
	return b.api.Call(b.ctx, http.MethodPost, "/channels", nil,
		client.NewChannel{Address: "bench/" + name, Kind: "topic", Settings: client.Settings{"partitions": partitions, "retainBytes": bytes}}, nil)
}

func (b *bench) note(name string, value float64) { b.values[name] = append(b.values[name], value) }

func (b *bench) median(name string) float64 {
	v := slices.Sorted(slices.Values(b.values[name]))
	if len(v) == 0 {
		return 0
	}
	return v[len(v)/2]
}

// loadResult is what ferry load -json prints.
type loadResult struct {
	Published, Read struct {
		PerSecond float64            `json:"messagesPerSecond"`
		Latency   map[string]float64 `json:"latencyMilliseconds"`
	}
}

func (b *bench) load(args ...string) (loadResult, error) {
	cmd := exec.CommandContext(b.ctx, "bin/ferry", append([]string{"load", "-json"}, args...)...)
	cmd.Env, cmd.Stderr = b.env, os.Stderr
	out, err := cmd.Output()
	if err != nil {
		return loadResult{}, err
	}
	var r loadResult
	return r, json.Unmarshal(out, &r)
}

// chunk is the bytes of a batch of 4,000 messages of 100 bytes.
const chunk = 4000*102 + message.BatchHeaderSize + message.StampSize + message.RecordPrefix

// plainAppend is the first reference: a file that grows by chunks of the size
// of a batch, each with an fdatasync.
func (b *bench) plainAppend() error {
	f, err := os.Create(filepath.Join(b.dir, "reference"))
	if err != nil {
		return err
	}
	defer os.Remove(f.Name())
	defer f.Close()
	data := make([]byte, chunk)
	for i := range data {
		data[i] = byte(rand.Uint32())
	}
	began := time.Now()
	const times = 1000
	for range times {
		if _, err := f.Write(data); err != nil {
			return err
		}
		if err := unix.Fdatasync(int(f.Fd())); err != nil {
			return err
		}
	}
	b.note("append", chunk*times/time.Since(began).Seconds())
	return nil
}

// copyRows is the second reference: COPY of 10,000 rows at a time into a log
// table of PostgreSQL.
func (b *bench) copyRows() error {
	url, err := os.ReadFile(filepath.Join(b.dir, "database.url"))
	if err != nil {
		return err
	}
	conn, err := pgx.Connect(b.ctx, strings.TrimSpace(string(url)))
	if err != nil {
		return err
	}
	defer conn.Close(b.ctx)
	if _, err := conn.Exec(b.ctx, `DROP TABLE IF EXISTS reference_log; CREATE TABLE reference_log (id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY, at timestamptz DEFAULT now(), body bytea)`); err != nil {
		return err
	}
	body := make([]byte, 100)
	rows := make([][]any, 10_000)
	for i := range rows {
		rows[i] = []any{body}
	}
	began := time.Now()
	const times = 60
	for range times {
		if _, err := conn.CopyFrom(b.ctx, pgx.Identifier{"reference_log"}, []string{"body"}, pgx.CopyFromRows(rows)); err != nil {
			return err
		}
	}
	b.note("copy", float64(times*len(rows))/time.Since(began).Seconds())
	_, err = conn.Exec(b.ctx, `DROP TABLE reference_log`)
	return err
}

func (b *bench) publish() error {
	for _, topic := range []string{"six", "wide"} {
		r, err := b.load("bench/"+topic, "-messages", "6000000", "-publishers", "4")
		if err != nil {
			return err
		}
		b.note("publish "+topic, r.Published.PerSecond)
	}
	return nil
}

// emptyHandler is the third reference: what one message a request reaches on a
// handler of the same HTTP library that only reads the body and answers.
func (b *bench) emptyHandler() error {
	gin.SetMode(gin.ReleaseMode)
	r := gin.New()
	r.POST("/api/v1/channels/:space/:channel/messages", func(c *gin.Context) {
		body := make([]byte, c.Request.ContentLength)
		if _, err := io.ReadFull(c.Request.Body, body); err != nil {
			c.Status(http.StatusBadRequest)
			return
		}
		c.Data(http.StatusOK, "application/json", []byte(`{"accepted":1}`))
	})
	server := &http.Server{Handler: r, ReadHeaderTimeout: 10 * time.Second, ReadTimeout: time.Minute}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	go server.Serve(l)
	defer server.Close()
	api, err := client.New(l.Addr().String(), "none")
	if err != nil {
		return err
	}
	var sent atomic.Int64
	var group errgroup.Group
	began := time.Now()
	const total = 120_000
	for range 64 {
		group.Go(func() error {
			publisher := api.FastPublisher(address.Channel("bench", "none"))
			var builder message.Builder
			for sent.Add(1) <= total {
				builder.Add(&message.Message{Body: make([]byte, 100)})
				if err := publisher.Publish(0, builder.Build(message.Plain, nil)); err != nil {
					return err
				}
			}
			return nil
		})
	}
	if err := group.Wait(); err != nil {
		return err
	}
	b.note("empty", total/time.Since(began).Seconds())
	return nil
}

func (b *bench) oneByOne() error {
	for _, topic := range []string{"small-six", "small-wide"} {
		r, err := b.load("bench/"+topic, "-messages", "120000", "-publishers", "64", "-batch", "1")
		if err != nil {
			return err
		}
		b.note("one by one "+topic, r.Published.PerSecond)
	}
	return nil
}

func (b *bench) fetch() error {
	r, err := b.load("bench/six", "-publishers", "0", "-readers", "1", "-messages", "6000000")
	if err != nil {
		return err
	}
	b.note("fetch", r.Read.PerSecond)
	return nil
}

var errEnough = errors.New("enough")

// latency measures from the moment of publishing to the tail at 1,000
// messages a second.
func (b *bench) latency() error {
	a := address.Channel("bench", "latency")
	ctx, cancel := context.WithTimeout(b.ctx, 20*time.Second)
	defer cancel()
	h := hdrhistogram.New(1, 60_000_000, 3)
	const total = 5000
	done := make(chan error, 1)
	ready := make(chan struct{})
	go func() {
		seen := 0
		done <- b.api.Tail(ctx, a, client.Query{}, func(e client.Event) error {
			if e.Message == nil {
				return nil
			}
			sent, err := strconv.ParseInt(string(e.Message.Bytes()), 10, 64)
			if err != nil {
				close(ready) // the one that shows that the tail is there
				return nil
			}
			h.RecordValue((time.Now().UnixNano() - sent) / 1000)
			if seen++; seen == total {
				return errEnough
			}
			return nil
		}, func(error, time.Duration) {})
	}()
	time.Sleep(300 * time.Millisecond)
	if _, err := b.api.Publish(ctx, a, 0, "text/plain", nil, []byte("ready")); err != nil {
		return err
	}
	<-ready
	began := time.Now()
	failed := make(chan error, 8)
	for w := range 8 {
		go func() {
			for i := w; i < total; i += 8 {
				time.Sleep(time.Until(began.Add(time.Duration(i) * time.Millisecond)))
				body := strconv.FormatInt(time.Now().UnixNano(), 10)
				if _, err := b.api.Publish(ctx, a, i%6, "text/plain", nil, []byte(body)); err != nil {
					failed <- err
					return
				}
			}
		}()
	}
	select {
	case err := <-failed:
		return err
	case err := <-done:
		if !errors.Is(err, errEnough) {
			return err
		}
	}
	b.note("tail p50", float64(h.ValueAtQuantile(50))/1000)
	b.note("tail p99", float64(h.ValueAtQuantile(99))/1000)
	return nil
}

const jsonMessages = 1_000_000

func (b *bench) fillJSON() error {
	p, err := b.api.NewPublisher(b.ctx, address.Channel("bench", "json"), message.Plain)
	if err != nil {
		return err
	}
	for i := range jsonMessages {
		body := fmt.Sprintf(`{"at":"2026-11-23T08:00:00Z","battery":%d,"box":"box-%04d","celsius":%.1f}`, i%100, i%48, float64(i%120)/10)
		if err := p.Add(b.ctx, &message.Message{Key: "k", ContentType: "application/json", Body: []byte(body)}, 0); err != nil {
			return err
		}
	}
	return p.Flush(b.ctx)
}

// browse looks through JSON bodies with a condition that finds little. The
// processor time of the node tells how much one core looks at.
func (b *bench) browse() error {
	before := processorTime(b.ferryd.Process.Pid)
	began := time.Now()
	err := b.api.Browse(b.ctx, address.Channel("bench", "json"), client.Query{Where: "body.celsius > 11.8 && body.battery == 7", Limit: 100_000}, func(client.Event) error { return nil })
	if err != nil {
		return err
	}
	b.note("browse", jsonMessages/time.Since(began).Seconds())
	b.note("browse core", jsonMessages/(processorTime(b.ferryd.Process.Pid)-before).Seconds())
	return nil
}

// processorTime returns the time that a process has had on processors.
func processorTime(pid int) time.Duration {
	stat, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		return 0
	}
	fields := strings.Fields(string(stat[strings.LastIndexByte(string(stat), ')')+1:]))
	user, _ := strconv.Atoi(fields[11])
	system, _ := strconv.Atoi(fields[12])
	return time.Duration(user+system) * 10 * time.Millisecond
}

// residentBytes returns the memory that a process has of its own.
func residentBytes(pid int) float64 {
	status, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	if err != nil {
		return 0
	}
	_, rest, _ := strings.Cut(string(status), "RssAnon:")
	kib, _ := strconv.ParseFloat(strings.Fields(rest)[0], 64)
	return kib * 1024
}

// large fills a topic with 10 GB and looks at it.
func (b *bench) large() error {
	if err := b.newTopic("large", 6); err != nil {
		return err
	}
	const messages = 9_500_000
	if _, err := b.load("bench/large", "-messages", strconv.Itoa(messages), "-size", "1100", "-batch", "500", "-publishers", "4"); err != nil {
		return err
	}
	b.note("large memory", residentBytes(b.ferryd.Process.Pid)/(1<<20))
	middle := time.Now().Add(-5 * time.Second).UTC().Format(time.RFC3339Nano)
	for _, clean := range []bool{true, false} {
		if clean {
			b.stop()
		} else {
			b.ferryd.Process.Kill()
			b.ferryd.Wait()
		}
		began := time.Now()
		if err := b.start(); err != nil {
			return err
		}
		name := "large start after kill -9"
		if clean {
			name = "large start after a stop"
		}
		b.note(name, float64(time.Since(began).Milliseconds()))
	}
	var failure error
	for name, q := range map[string]client.Query{"large browse by time": {From: "time:" + middle}, "large browse by offset": {Partitions: []int{3}, From: "offset:" + strconv.Itoa(messages/12)},
		"large browse newest": {Take: "recent", Order: "newest"}} {
		q.Limit = 500
		began := time.Now()
		found := 0
		err := b.api.Browse(b.ctx, address.Channel("bench", "large"), q, func(e client.Event) error {
			if e.Message != nil {
				found++
			}
			return nil
		})
		if err == nil && found != 500 {
			err = fmt.Errorf("%s: found %d", name, found)
		}
		failure = errors.Join(failure, err)
		b.note(name, float64(time.Since(began).Microseconds())/1000)
	}
	b.note("large memory after browsing", residentBytes(b.ferryd.Process.Pid)/(1<<20))
	return failure
}

func (b *bench) print() {
	six := b.median("publish six")
	stored := six * 102
	fmt.Printf("%d cores; medians of this run\n\n", runtime.NumCPU())
	row := func(name, value, compared string) { fmt.Printf("%-44s %18s   %s\n", name, value, compared) }
	perSecond := func(name string) string { return fmt.Sprintf("%.0f/s", b.median(name)) }
	row("reference: append 400 KB + fdatasync", fmt.Sprintf("%.0f MB/s", b.median("append")/1e6), "")
	row("reference: COPY of 10,000 rows", perSecond("copy"), "")
	row("publish, 6 partitions, batches", perSecond("publish six"), fmt.Sprintf("%.0f%% of the append's bytes, %.1f times COPY", 100*stored/b.median("append"), six/b.median("copy")))
	row("publish, 64 partitions, batches", perSecond("publish wide"), fmt.Sprintf("%.0f%% of 6 partitions", 100*b.median("publish wide")/six))
	row("reference: a handler that does nothing", perSecond("empty"), "")
	row("one message a request, 64 connections, 6", perSecond("one by one small-six"), fmt.Sprintf("%.0f%% of the empty handler", 100*b.median("one by one small-six")/b.median("empty")))
	row("one message a request, 64 connections, 64", perSecond("one by one small-wide"), fmt.Sprintf("%.0f%% of 6 partitions", 100*b.median("one by one small-wide")/b.median("one by one small-six")))
	row("publish to tail at 1,000/s", fmt.Sprintf("p99 %.1f ms", b.median("tail p99")), fmt.Sprintf("p50 %.1f ms", b.median("tail p50")))
	row("fetch", perSecond("fetch"), fmt.Sprintf("%.1f times publishing", b.median("fetch")/six))
	row("browse JSON bodies with a condition", perSecond("browse"), fmt.Sprintf("%.0f/s for each core used", b.median("browse core")))
	for _, name := range []string{"large start after a stop", "large start after kill -9", "large browse by time", "large browse by offset", "large browse newest"} {
		if len(b.values[name]) > 0 {
			row(name+", 10 GB", fmt.Sprintf("%.0f ms", b.median(name)), "")
		}
	}
	for _, name := range []string{"large memory", "large memory after browsing"} {
		if len(b.values[name]) > 0 {
			row(name+", 10 GB", fmt.Sprintf("%.0f MiB", b.median(name)), "")
		}
	}
}
