package main

import (
	"bytes"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"os"
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
	tableRows   = 300_000
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
	row(fmt.Sprintf("reference: a bare client, %d at once", atOnce), fmt.Sprintf("%.0f/s", b.median("bare client")), "")
	row("route to an address", fmt.Sprintf("%.0f/s", b.median("posted")), fmt.Sprintf("%.0f%% of the reference", 100*b.median("posted")/b.median("bare client")))
	row("reference: COPY", fmt.Sprintf("%.0f/s", b.median("copied rows")), "")
	row("route to a table", fmt.Sprintf("%.0f/s", b.median("rows")), fmt.Sprintf("%.0f%% of the reference", 100*b.median("rows")/b.median("copied rows")))
	return nil
}

// sink counts what is posted to it.
type sink struct {
	count atomic.Int64
	url   string
	close func() error
}

func newSink() (*sink, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	s := &sink{url: "http://" + l.Addr().String() + "/"}
	server := &http.Server{Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		_, _ = io.Copy(io.Discard, r.Body)
		s.count.Add(1)
		w.WriteHeader(http.StatusNoContent)
	})}
	s.close = server.Close
	go func() { _ = server.Serve(l) }() // it ends when it is closed
	return s, nil
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
	transport := &http.Transport{MaxIdleConnsPerHost: atOnce, MaxConnsPerHost: atOnce}
	defer transport.CloseIdleConnections()
	bare := &http.Client{Transport: transport}
	began := time.Now()
	var all errgroup.Group
	for n := range atOnce {
		all.Go(func() error {
			for i := range deliveries / atOnce {
				r, err := http.NewRequestWithContext(b.ctx, http.MethodPost, s.url, bytes.NewReader([]byte(reading(i*atOnce+n))))
				if err != nil {
					return err
				}
				r.Header.Set("Content-Type", "application/json")
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
	if err := all.Wait(); err != nil {
		return err
	}
	b.note("bare client", deliveries/time.Since(began).Seconds())

	name := fmt.Sprintf("posted-%d", round)
	if err := b.filled(name, deliveries); err != nil {
		return err
	}
	endpoint := "bench/sink-" + fmt.Sprint(round)
	if err := b.api.Call(b.ctx, http.MethodPost, "/endpoints", nil, client.NewEndpoint{Address: endpoint, Settings: client.Settings{"url": s.url, "handshake": false, "parallel": atOnce}}, nil); err != nil {
		return err
	}
	s.count.Store(0)
	began = time.Now()
	if err := b.routeTo(name, endpoint); err != nil {
		return err
	}
	if err := until(func() (int64, error) { return s.count.Load(), nil }, deliveries); err != nil {
		return err
	}
	b.note("posted", deliveries/time.Since(began).Seconds())
	return nil
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
	for _, s := range []string{"CREATE SCHEMA IF NOT EXISTS bench", "DROP TABLE IF EXISTS bench.copied", "CREATE TABLE bench.copied (box text, celsius double precision, battery bigint, at timestamptz)"} {
		if _, err := conn.Exec(b.ctx, s); err != nil {
			return err
		}
	}
	at, began, i := time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC), time.Now(), 0
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
	began = time.Now()
	if err := b.routeTo(name, endpoint); err != nil {
		return err
	}
	if err := until(func() (n int64, err error) {
		return n, conn.QueryRow(b.ctx, "SELECT count(*) FROM "+table).Scan(&n)
	}, tableRows); err != nil {
		return err
	}
	b.note("rows", tableRows/time.Since(began).Seconds())
	return nil
}
