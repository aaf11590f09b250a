package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync/atomic"
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
		r, err := b.load("bench/"+topic, "-count", "6000000", "-publishers", "4")
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
		r, err := b.load("bench/"+topic, "-count", "120000", "-publishers", "64", "-batch", "1")
		if err != nil {
			return err
		}
		b.note("one by one "+topic, r.Published.PerSecond)
	}
	return nil
}

func (b *bench) fetch() error {
	r, err := b.load("bench/six", "-publishers", "0", "-readers", "1", "-count", "6000000")
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
