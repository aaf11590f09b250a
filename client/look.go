package client

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"net/url"
	"strconv"
	"time"

	"steadyferry/internal/core/address"
)

// Query is a selection as the API takes it; empty fields are left out.
type Query struct {
	Partitions []int
	From, To   string // positions
	Where      string
	Limit      int
	Take       string // first or recent
	Order      string // oldest or newest
	Any        bool   // from any replica, also one that may be behind
}

func (q Query) values() url.Values {
	v := url.Values{}
	for name, text := range map[string]string{"from": q.From, "to": q.To, "where": q.Where, "take": q.Take, "order": q.Order} {
		if text != "" {
			v.Set(name, text)
		}
	}
	if q.Any {
		v.Set("any", "true")
	}
	if q.Limit > 0 {
		v.Set("limit", strconv.Itoa(q.Limit))
	}
	for _, p := range q.Partitions {
		v.Add("partition", strconv.Itoa(p))
	}
	return v
}

// Browse looks through a selection and hands over what it finds, with
// progress between. An error of each ends it and is returned.
func (c *Client) Browse(ctx context.Context, a address.Address, q Query, each func(Event) error) error {
	response, err := c.Do(ctx, Request{Method: http.MethodGet, Path: ChannelPath(a) + "/messages", Query: q.values()})
	if err != nil {
		return err
	}
	defer response.Body.Close()
	d := json.NewDecoder(bufio.NewReaderSize(response.Body, 64<<10))
	for {
		var e Event
		if err := d.Decode(&e); err == io.EOF {
			return nil
		} else if err != nil {
			return err
		}
		if e.Problem != nil {
			return e.Problem
		}
		if err := each(e); err != nil {
			return err
		}
	}
}

// Tail hands over the messages of a selection as they arrive, until ctx ends
// or each returns an error. A connection that breaks is made again and goes on
// at the same place; waiting is told of each time that it has to wait.
func (c *Client) Tail(ctx context.Context, a address.Address, q Query, each func(Event) error, waiting func(err error, wait time.Duration)) error {
	t := tail{client: c, address: a, query: q, each: each, next: map[int]int64{}}
	pause := 100 * time.Millisecond
	for {
		connected, err := t.read(ctx)
		if t.failure != nil {
			return t.failure
		}
		if ctx.Err() != nil {
			return ctx.Err()
		}
		var p *Problem
		if errors.As(err, &p) && p.Status < 500 {
			return err
		}
		if connected {
			pause = 100 * time.Millisecond
		}
		wait := pause/2 + rand.N(pause)
		waiting(err, wait)
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(wait):
		}
		pause = min(2*pause, 5*time.Second)
	}
}

type tail struct {
	client  *Client
	address address.Address
	query   Query
	each    func(Event) error
	lastID  string
	next    map[int]int64 // offsets after what was handed over since lastID
	failure error         // of each
}

// read follows one connection to its end.
func (t *tail) read(ctx context.Context) (connected bool, err error) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	r := Request{Method: http.MethodGet, Path: ChannelPath(t.address) + "/tail", Query: t.query.values(), Header: http.Header{}, once: true}
	if t.lastID != "" {
		r.Header.Set("Last-Event-ID", t.lastID)
	}
	response, err := t.client.Do(ctx, r)
	if err != nil {
		return false, err
	}
	defer response.Body.Close()
	server := response.Request.URL.Scheme + "://" + response.Request.URL.Host
	// A node that was stopped in its tracks says nothing more.
	silent := time.AfterFunc(silentTail, cancel)
	defer silent.Stop()
	lines := bufio.NewReaderSize(response.Body, 64<<10)
	place := "" // after the event that is coming
	for {
		line, err := lines.ReadBytes('\n')
		silent.Reset(silentTail)
		if err != nil {
			t.client.failed(server, "")
			return true, fmt.Errorf("the stream ended: %w", err)
		}
		line = bytes.TrimSpace(line)
		if len(line) == 0 && place != "" {
			t.lastID = place // the event before is whole
		}
		if id, ok := bytes.CutPrefix(line, []byte("id: ")); ok {
			place = string(id)
			continue
		}
		data, ok := bytes.CutPrefix(line, []byte("data: "))
		if !ok {
			continue
		}
		var e Event
		if err := json.Unmarshal(data, &e); err != nil {
			return true, err
		}
		if e.Problem != nil {
			t.client.failed(server, "")
			return true, e.Problem
		}
		if m := e.Message; m != nil {
			// After a reconnect the stream begins at the last id, which may
			// lie some messages before the last one that was handed over.
			if m.Offset < t.next[m.Partition] {
				continue
			}
			t.next[m.Partition] = m.Offset + 1
		}
		if err := t.each(e); err != nil {
			t.failure = err
			return true, err
		}
	}
}
