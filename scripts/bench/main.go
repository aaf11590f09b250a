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
	"log"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"steadyferry/client"
	"steadyferry/internal/core/address"
)

func main() {
	rounds := flag.Int("rounds", 3, "measure each figure this `many` times and take the median")
	large := flag.Bool("large", false, "also fill a topic with 10 GB, and measure memory, starting and browsing over it")
	part := flag.String("part", "all", "what to `measure`: one node, groups, queues, routes, endpoints, spaces side by side, a cluster of three, or all; one, groups, queues, routes, endpoints, sharing, cluster, all")
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
	if part == "sink" {
		return serveSink()
	}
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
	if part == "routes" || part == "all" {
		if err := b.measureRoutes(rounds); err != nil {
			return err
		}
	}
	if part == "endpoints" || part == "all" {
		if err := b.measureEndpoints(rounds); err != nil {
			return err
		}
	}
	if part == "sharing" || part == "all" {
		if err := b.measureSharing(rounds); err != nil {
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
	b.ferryd = exec.Command("bin/ferryd", "serve", "-dir", b.dir, "-listen", b.listen, "-log-level", "WARN", "-outside-networks", "loopback", "-outside-schemes", "http,postgresql")
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
		client.NewChannel{Address: "bench/" + name, Kind: "topic", Settings: client.Settings{"partitionCount": partitions, "retainBytes": bytes}}, nil)
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
	if _, err := b.load("bench/large", "-count", strconv.Itoa(messages), "-body-size", "1100", "-batch", "500", "-publishers", "4"); err != nil {
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
