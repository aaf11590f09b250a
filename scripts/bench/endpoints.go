package main

import (
	"bufio"
	"bytes"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync/atomic"
	"time"

	"github.com/jackc/pgx/v5"
	"golang.org/x/sync/errgroup"

	"steadyferry/client"
	"steadyferry/internal/core/address"
	"steadyferry/internal/engine/postgres"
)

const (
	deliveries  = 100_000 // posted in one measurement
	tableRows   = 1_200_000
	atOnce      = 8 // deliveries
	mostWaiting = 5 * time.Minute
)

// measureEndpoints measures what a route delivers to an address against a bare client of
// the same library, and to a table against COPY of the same rows.
func (b *bench) measureEndpoints(rounds int) error {
	for round := range rounds {
		fmt.Fprintf(os.Stderr, "endpoints, round %d of %d\n", round+1, rounds)
		if err := b.posts(round); err != nil {
			return err
		}
		if err := b.tables(round); err != nil {
			return err
		}
	}
	fmt.Printf("\nendpoints, %d deliveries and %d rows of 6 partitions; medians of this run\n\n", deliveries, tableRows)
	row := func(name, value, compared string) { fmt.Printf("%-44s %18s   %s\n", name, value, compared) }
	row(fmt.Sprintf("reference: a bare client, same requests, %d at once", atOnce), fmt.Sprintf("%.0f/s", b.median("bare client")), "")
	row("the same with a body alone", fmt.Sprintf("%.0f/s", b.median("bare body")), "")
	row("route to an address", fmt.Sprintf("%.0f/s", b.median("posted")), fmt.Sprintf("%.0f%% of the reference, %.0f%% of that with a body alone", 100*b.median("posted")/b.median("bare client"), 100*b.median("posted")/b.median("bare body")))
	row("reference: COPY of the same text, made beforehand", fmt.Sprintf("%.0f/s", b.median("copied text")), "")
	row("the same in binary form", fmt.Sprintf("%.0f/s", b.median("copied rows")), "")
	row("route to a table", fmt.Sprintf("%.0f/s", b.median("rows")), fmt.Sprintf("%.0f%% of the reference, %.0f%% of that in binary form", 100*b.median("rows")/b.median("copied text"), 100*b.median("rows")/b.median("copied rows")))
	return nil
}

// serveSink counts what is posted to it, and tells it to who asks; it is a process of its
// own, as a place outside is.
func serveSink() error {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	fmt.Println("http://" + l.Addr().String() + "/")
	var count atomic.Int64
	return http.Serve(l, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method == http.MethodGet {
			fmt.Fprint(w, count.Load())
			return
		}
		_, _ = io.Copy(io.Discard, r.Body)
		count.Add(1)
		w.WriteHeader(http.StatusNoContent)
	}))
}

// sink is such a process.
type sink struct {
	process *exec.Cmd
	url     string
}

func newSink() (*sink, error) {
	self, err := os.Executable()
	if err != nil {
		return nil, err
	}
	s := &sink{process: exec.Command(self, "-part", "sink")}
	out, err := s.process.StdoutPipe()
	if err != nil {
		return nil, err
	}
	if err := s.process.Start(); err != nil {
		return nil, err
	}
	line, err := bufio.NewReader(out).ReadString('\n')
	s.url = strings.TrimSpace(line)
	return s, err
}

func (s *sink) close() {
	_ = s.process.Process.Kill()
	_ = s.process.Wait()
}

func (s *sink) count() (n int64, err error) {
	response, err := http.Get(s.url)
	if err != nil {
		return 0, err
	}
	defer response.Body.Close()
	_, err = fmt.Fscan(response.Body, &n)
	return n, err
}

func reading(i int) string {
	return fmt.Sprintf(`{"at":"2026-11-23T08:00:00Z","battery":%d,"box":"box-%04d","celsius":%.1f}`, i%100, i%48, float64(i%120)/10)
}

func (b *bench) posts(round int) error {
	s, err := newSink()
	if err != nil {
		return err
	}
	defer s.close()
	// As deliveries are, and with a body alone.
	for _, reference := range []struct {
		name    string
		headers []string
	}{{"bare body", nil}, {"bare client", []string{"Ce-Specversion", "Ce-Id", "Ce-Source", "Ce-Type", "Ce-Time", "Ce-Partitionkey", "Webhook-Id", "Ferry-Lane", "Ferry-Place", "Ferry-Header-Region", "Ferry-Header-Ferry-Route", "Ferry-Header-Ferry-Route-From", "Ferry-Header-Ferry-Hops"}}} {
		if err := b.bare(s.url, reference.name, reference.headers); err != nil {
			return err
		}
	}

	name := fmt.Sprintf("posted-%d", round)
	if err := b.filled(name, deliveries); err != nil {
		return err
	}
	endpoint := "bench/sink-" + fmt.Sprint(round)
	if err := b.api.Call(b.ctx, http.MethodPost, "/endpoints", nil, client.NewEndpoint{Address: endpoint, Settings: client.Settings{"url": s.url, "handshake": false, "parallel": atOnce}}, nil); err != nil {
		return err
	}
	before, err := s.count()
	if err != nil {
		return err
	}
	began := time.Now()
	if err := b.routeTo(name, endpoint); err != nil {
		return err
	}
	if err := until(s.count, before+deliveries); err != nil {
		return err
	}
	b.note("posted", deliveries/time.Since(began).Seconds())
	return nil
}

// bare measures a client that does nothing else.
func (b *bench) bare(url, name string, headers []string) error {
	transport := &http.Transport{MaxIdleConnsPerHost: atOnce, MaxConnsPerHost: atOnce}
	defer transport.CloseIdleConnections()
	bare := &http.Client{Transport: transport}
	began := time.Now()
	var all errgroup.Group
	for n := range atOnce {
		all.Go(func() error {
			for i := range deliveries / atOnce {
				r, err := http.NewRequestWithContext(b.ctx, http.MethodPost, url, bytes.NewReader([]byte(reading(i*atOnce+n))))
				if err != nil {
					return err
				}
				r.Header.Set("Content-Type", "application/json")
				for _, h := range headers {
					r.Header[h] = []string{"1a486066-2f11-4bc3-9395-b058fa2d16c0"}
				}
				response, err := bare.Do(r)
				if err != nil {
					return err
				}
				_, _ = io.Copy(io.Discard, response.Body)
				response.Body.Close()
			}
			return nil
		})
	}
	err := all.Wait()
	b.note(name, deliveries/time.Since(began).Seconds())
	return err
}

// filled makes a topic of 6 partitions with readings.
func (b *bench) filled(name string, count int) error {
	if err := b.newTopic(name, 6); err != nil {
		return err
	}
	var all errgroup.Group
	for p := range 6 {
		all.Go(func() error {
			publisher := b.api.FastPublisher(address.Channel("bench", name))
			share := count / 6
			if p == 0 {
				share += count % 6
			}
			return routed(p, share, func(batch []byte) error { return publisher.Publish(p, batch) })
		})
	}
	return all.Wait()
}

func (b *bench) routeTo(name, target string) error {
	return b.api.Call(b.ctx, http.MethodPost, client.ChannelPath(address.Channel("bench", name))+"/groups", nil,
		client.NewGroup{Group: "out", Kind: "route", From: "first", Settings: client.Settings{"to": target}}, nil)
}

// until waits until there are so many.
func until(count func() (int64, error), wanted int64) error {
	for end := time.Now().Add(mostWaiting); time.Now().Before(end); time.Sleep(10 * time.Millisecond) {
		n, err := count()
		if err != nil || n >= wanted {
			return err
		}
	}
	return fmt.Errorf("%d did not come within %s", wanted, mostWaiting)
}

func (b *bench) tables(round int) error {
	text, err := os.ReadFile(filepath.Join(b.dir, "database.url"))
	if err != nil {
		return err
	}
	direct := strings.TrimSpace(string(text))
	u, err := url.Parse(direct)
	if err != nil {
		return err
	}
	host, err := postgres.Loopback(b.ctx, direct)
	if err != nil {
		return err
	}
	password, _ := u.User.Password()
	outside := (&url.URL{Scheme: "postgresql", User: url.User(u.User.Username()), Host: host, Path: u.Path, RawQuery: "sslmode=disable"}).String()
	conn, err := pgx.Connect(b.ctx, direct)
	if err != nil {
		return err
	}
	defer conn.Close(b.ctx)
	create := func() (err error) {
		for _, s := range []string{"CREATE SCHEMA IF NOT EXISTS bench", "DROP TABLE IF EXISTS bench.copied", "CREATE TABLE bench.copied (box text, celsius double precision, battery bigint, at timestamptz)"} {
			if _, err := conn.Exec(b.ctx, s); err != nil {
				return err
			}
		}
		return nil
	}
	if err := create(); err != nil {
		return err
	}
	var rows bytes.Buffer
	for i := range tableRows {
		fmt.Fprintf(&rows, "box-%04d\t%.1f\t%d\t2026-11-23T08:00:00Z\n", i%48, float64(i%120)/10, i%100)
	}
	began := time.Now()
	if _, err := conn.PgConn().CopyFrom(b.ctx, &rows, "COPY bench.copied FROM STDIN"); err != nil {
		return err
	}
	b.note("copied text", tableRows/time.Since(began).Seconds())
	if err := create(); err != nil {
		return err
	}
	at, i := time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC), 0
	began = time.Now()
	if _, err := conn.CopyFrom(b.ctx, pgx.Identifier{"bench", "copied"}, []string{"box", "celsius", "battery", "at"}, pgx.CopyFromFunc(func() ([]any, error) {
		if i == tableRows {
			return nil, nil
		}
		i++
		return []any{fmt.Sprintf("box-%04d", i%48), float64(i%120) / 10, int64(i % 100), at}, nil
	})); err != nil {
		return err
	}
	b.note("copied rows", tableRows/time.Since(began).Seconds())

	name := fmt.Sprintf("rows-%d", round)
	if err := b.filled(name, tableRows); err != nil {
		return err
	}
	endpoint, table := "bench/table-"+fmt.Sprint(round), fmt.Sprintf("bench.rows_%d", round)
	if err := b.api.Call(b.ctx, http.MethodPost, "/endpoints", nil, client.NewEndpoint{Address: endpoint, Secrets: map[string]string{"password": password},
		Settings: client.Settings{"url": outside, "table": table, "columns": map[string]string{"box": "/box", "celsius": "/celsius", "battery": "/battery", "at": "/at"}}}, nil); err != nil {
		return err
	}
	if _, err := conn.Exec(b.ctx, "CREATE TABLE "+table+" (LIKE bench.copied)"); err != nil {
		return err
	}
	if err := b.api.Call(b.ctx, http.MethodPost, "/endpoints/"+endpoint+"/table", nil, nil, nil); err != nil {
		return err
	}
	// The places, since counting the rows again and again would be most of the work.
	places := func() (n int64, err error) {
		return n, conn.QueryRow(b.ctx, "SELECT coalesce(sum(place), 0) FROM bench.ferry_places").Scan(&n)
	}
	before, err := places()
	if err != nil {
		return err
	}
	began = time.Now()
	if err := b.routeTo(name, endpoint); err != nil {
		return err
	}
	if err := until(places, before+tableRows); err != nil {
		return err
	}
	b.note("rows", tableRows/time.Since(began).Seconds())
	var there int64
	if err := conn.QueryRow(b.ctx, "SELECT count(*) FROM "+table).Scan(&there); err != nil || there != tableRows {
		return fmt.Errorf("%d rows of %d: %w", there, tableRows, err)
	}
	return nil
}
