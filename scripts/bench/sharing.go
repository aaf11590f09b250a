package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/HdrHistogram/hdrhistogram-go"

	"steadyferry/client"
	"steadyferry/internal/core/address"
)

// What one space publishes while another one floods.
const (
	calmRate = 200 // messages a second, each in a request of its own
	calmSpan = 6 * time.Second
)

// floods are ways in which a space publishes as fast as it goes.
var floods = []struct {
	name string
	args []string
}{
	{"batches of 400 KB", []string{"-publishers", "4"}},
	{"one by one, 64 connections", []string{"-publishers", "64", "-batch", "1"}},
	{"bodies of 1 MB", []string{"-publishers", "8", "-batch", "1", "-body-size", "1000000"}},
}

// measureSharing compares how long publishing takes in one space alone with how long it takes while
// another space floods the node, and with how long a handler that does nothing takes then, in a process of
// its own: so much of it is the machine's.
func (b *bench) measureSharing(rounds int) error {
	if err := b.api.Call(b.ctx, http.MethodPost, "/spaces", nil, map[string]string{"space": "calm"}, nil); err != nil {
		return err
	}
	a := address.Channel("calm", "hatches")
	if err := b.api.Call(b.ctx, http.MethodPost, "/channels", nil, client.NewChannel{Address: a.String(), Kind: "topic", Settings: client.Settings{"partitionCount": 6}}, nil); err != nil {
		return err
	}
	s, err := newSink()
	if err != nil {
		return err
	}
	defer s.close()
	publish := func(ctx context.Context, i int) error {
		_, err := b.api.Publish(ctx, a, i%6, "text/plain", nil, []byte(strconv.Itoa(i)))
		return err
	}
	post := func(ctx context.Context, i int) error {
		r, err := http.NewRequestWithContext(ctx, http.MethodPost, s.url, strings.NewReader(strconv.Itoa(i)))
		if err != nil {
			return err
		}
		response, err := http.DefaultClient.Do(r)
		if err == nil {
			err = response.Body.Close()
		}
		return err
	}
	for round := range rounds {
		fmt.Fprintf(os.Stderr, "sharing, round %d of %d\n", round+1, rounds)
		for _, flood := range floods {
			if err := errors.Join(b.calm("alone", publish), b.calm("empty alone", post)); err != nil {
				return err
			}
			ended := make(chan error, 1)
			go func() { ended <- b.flood(flood.name, flood.args) }()
			time.Sleep(time.Second)
			if err := errors.Join(b.calm("beside "+flood.name, publish), b.calm("empty beside "+flood.name, post), <-ended); err != nil {
				return err
			}
			time.Sleep(2 * time.Second) // what it has left behind is synced
		}
	}
	fmt.Printf("publishing %d a second in one space; medians of this run\n\n", calmRate)
	for _, flood := range floods {
		fmt.Printf("while another space floods by %s, %.0f a second\n", flood.name, b.median("flood of "+flood.name))
		for _, p := range []string{"p50", "p99"} {
			for _, what := range []struct{ prefix, name string }{{"", "publishing"}, {"empty ", "reference: an empty handler"}} {
				alone, beside := b.median(what.prefix+"alone "+p), b.median(what.prefix+"beside "+flood.name+" "+p)
				fmt.Printf("  %-36s %8.2f ms   %.1f times the %.2f ms alone\n", p+", "+what.name, beside, beside/alone, alone)
			}
		}
	}
	return nil
}

// flood publishes to another space for as long as calm is called twice, by a process that leaves the
// processors to others: those who flood are elsewhere, as a rule.
func (b *bench) flood(name string, args []string) error {
	span := 2*calmSpan + 2*time.Second
	cmd := exec.CommandContext(b.ctx, "nice", append([]string{"-n", "15", "bin/ferry", "load", "-json", "bench/six", "-for", span.String()}, args...)...)
	cmd.Env, cmd.Stderr = b.env, os.Stderr
	out, err := cmd.Output()
	if err != nil {
		return err
	}
	var r loadResult
	if err := json.Unmarshal(out, &r); err != nil {
		return err
	}
	b.note("flood of "+name, r.Published.PerSecond)
	return nil
}

// calm does something at an even pace, whatever takes long, and notes how long each took from when it was
// begun.
func (b *bench) calm(name string, do func(ctx context.Context, i int) error) error {
	ctx, cancel := context.WithTimeout(b.ctx, calmSpan+20*time.Second)
	defer cancel()
	took := hdrhistogram.New(1, 60_000_000, 3)
	var mu sync.Mutex // guards what follows
	var failed error
	var all sync.WaitGroup
	began := time.Now()
	for i := range int(calmSpan.Seconds() * calmRate) {
		time.Sleep(time.Until(began.Add(time.Duration(i) * time.Second / calmRate)))
		all.Go(func() {
			at := time.Now()
			err := do(ctx, i)
			mu.Lock()
			defer mu.Unlock()
			took.RecordValue(max(time.Since(at).Microseconds(), 1))
			if err != nil {
				failed = err
			}
		})
	}
	all.Wait()
	b.note(name+" p50", float64(took.ValueAtQuantile(50))/1000)
	b.note(name+" p99", float64(took.ValueAtQuantile(99))/1000)
	return failed
}
