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
	"net"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"steadyferry/internal/core/address"
)

// Client talks to one or more servers. It can be used by many goroutines.
type Client struct {
	servers []string
	token   string
	http    *http.Client
	turn    atomic.Uint32 // the server that answered last
}

// New returns a client for servers (host:port or URLs, separated by commas)
// that are tried in turn.
func New(servers, token string) (*Client, error) {
	c := &Client{token: token, http: &http.Client{Transport: &http.Transport{
		MaxIdleConnsPerHost: 256, MaxIdleConns: 1024, WriteBufferSize: 64 << 10, ReadBufferSize: 64 << 10,
		DialContext: (&net.Dialer{Timeout: 5 * time.Second}).DialContext, DisableCompression: true,
	}}}
	for s := range strings.SplitSeq(servers, ",") {
		if s = strings.TrimSpace(s); s == "" {
			continue
		}
		if !strings.Contains(s, "://") {
			s = "http://" + s
		}
		u, err := url.Parse(s)
		if err != nil || u.Host == "" {
			return nil, fmt.Errorf("server %q: not an address such as 127.0.0.1:7350", s)
		}
		c.servers = append(c.servers, strings.TrimSuffix(s, "/"))
	}
	if len(c.servers) == 0 {
		return nil, errors.New("no server is named")
	}
	return c, nil
}

// ErrUnreachable is wrapped when no server answers.
var ErrUnreachable = errors.New("no server answers")

// Request is one call of the API.
type Request struct {
	Method string
	Path   string // below /api/v1
	Query  url.Values
	Header http.Header
	Body   []byte
	Stream io.Reader // instead of Body; it is sent once, to one server
}

// Do sends a request to the first server that answers. An answer that is not
// a success becomes a *Problem. The caller closes the body.
func (c *Client) Do(ctx context.Context, r Request) (*http.Response, error) {
	var failure error
	start := int(c.turn.Load())
	for i := range c.servers {
		at := (start + i) % len(c.servers)
		response, err := c.send(ctx, c.servers[at], r)
		if err == nil {
			c.turn.Store(uint32(at))
			return response, checkAnswer(response)
		}
		failure = err
		var dial *net.OpError
		if ctx.Err() != nil || r.Stream != nil || !(errors.As(err, &dial) && dial.Op == "dial") && r.Method != http.MethodGet {
			break // it may have been done
		}
	}
	if ctx.Err() != nil {
		return nil, ctx.Err()
	}
	return nil, fmt.Errorf("%w: %w", ErrUnreachable, failure)
}

func (c *Client) send(ctx context.Context, server string, r Request) (*http.Response, error) {
	target := server + "/api/v1" + r.Path
	if len(r.Query) > 0 {
		target += "?" + r.Query.Encode()
	}
	body := r.Stream
	if body == nil && r.Body != nil {
		body = bytes.NewReader(r.Body)
	}
	request, err := http.NewRequestWithContext(ctx, r.Method, target, body)
	if err != nil {
		return nil, err
	}
	for name, values := range r.Header {
		request.Header[name] = values
	}
	request.Header.Set("Authorization", "Bearer "+c.token)
	return c.http.Do(request)
}

func checkAnswer(response *http.Response) error {
	if response.StatusCode < 300 {
		return nil
	}
	defer response.Body.Close()
	b, _ := io.ReadAll(io.LimitReader(response.Body, 64<<10))
	p := &Problem{}
	if json.Unmarshal(b, p) != nil || p.Detail == "" {
		p = &Problem{Status: response.StatusCode, Detail: fmt.Sprintf("the server answered %s, which Steady Ferry does not", response.Status)}
	}
	return p
}

// Call sends JSON and reads the JSON answer into out, unless it is nil.
func (c *Client) Call(ctx context.Context, method, path string, query url.Values, in, out any) error {
	r := Request{Method: method, Path: path, Query: query}
	if in != nil {
		b, err := json.Marshal(in)
		if err != nil {
			return err
		}
		r.Body = b
		r.Header = http.Header{"Content-Type": {"application/json"}}
	}
	response, err := c.Do(ctx, r)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	if out == nil {
		_, err = io.Copy(io.Discard, response.Body)
		return err
	}
	return json.NewDecoder(response.Body).Decode(out)
}

// ChannelPath returns the path of a channel below /api/v1.
func ChannelPath(a address.Address) string {
	return "/channels/" + url.PathEscape(a.Space) + "/" + url.PathEscape(a.Channel)
}

// Publish sends a body of a media type to a channel; a negative partition
// leaves the choice to the service.
func (c *Client) Publish(ctx context.Context, a address.Address, partition int, mediaType string, header http.Header, body []byte) (Published, error) {
	return c.publish(ctx, a, partition, mediaType, Request{Header: header, Body: body})
}

// PublishStream sends NDJSON as it is read.
func (c *Client) PublishStream(ctx context.Context, a address.Address, partition int, lines io.Reader) (Published, error) {
	return c.publish(ctx, a, partition, NDJSONType, Request{Stream: lines})
}

func (c *Client) publish(ctx context.Context, a address.Address, partition int, mediaType string, r Request) (Published, error) {
	r.Method, r.Path = http.MethodPost, ChannelPath(a)+"/messages"
	if r.Header == nil {
		r.Header = http.Header{}
	}
	r.Header.Set("Content-Type", mediaType)
	if partition >= 0 {
		r.Query = url.Values{"partition": {strconv.Itoa(partition)}}
	}
	var out Published
	response, err := c.Do(ctx, r)
	if err != nil {
		return out, err
	}
	defer response.Body.Close()
	return out, json.NewDecoder(response.Body).Decode(&out)
}

// Fetched is a stretch of a partition as it is stored: see
// message.ReadRecord.
type Fetched struct {
	Records []byte
	Next    int64 // offset to go on from
	First   int64
	End     int64
	Count   int
}

// Fetch reads a partition from a position on, into the buffer if it is large
// enough, waiting up to wait for the first message.
func (c *Client) Fetch(ctx context.Context, a address.Address, partition int, from address.Position, maxBytes int, wait time.Duration, buffer []byte) (Fetched, error) {
	response, err := c.Do(ctx, Request{Method: http.MethodGet, Path: fmt.Sprintf("%s/partitions/%d/records", ChannelPath(a), partition),
		Query:  url.Values{"from": {from.String()}, "maxBytes": {strconv.Itoa(maxBytes)}, "wait": {wait.String()}},
		Header: http.Header{"Accept": {RecordsType}}})
	if err != nil {
		return Fetched{}, err
	}
	defer response.Body.Close()
	var f Fetched
	for name, to := range map[string]*int64{"Ferry-Next": &f.Next, "Ferry-First": &f.First, "Ferry-End": &f.End} {
		if *to, err = strconv.ParseInt(response.Header.Get(name), 10, 64); err != nil {
			return f, fmt.Errorf("header %s: %w", name, err)
		}
	}
	f.Count, _ = strconv.Atoi(response.Header.Get("Ferry-Count"))
	length := int(response.ContentLength)
	if length < 0 || length > 512<<20 {
		return f, fmt.Errorf("the answer has %d bytes", length)
	}
	if length > cap(buffer) {
		buffer = make([]byte, length)
	}
	f.Records = buffer[:length]
	_, err = io.ReadFull(response.Body, f.Records)
	return f, err
}

// Query is a selection as the API takes it; empty fields are left out.
type Query struct {
	Partitions []int
	From, To   string // positions
	Where      string
	Limit      int
	Take       string // first or recent
	Order      string // oldest or newest
}

func (q Query) values() url.Values {
	v := url.Values{}
	for name, text := range map[string]string{"from": q.From, "to": q.To, "where": q.Where, "take": q.Take, "order": q.Order} {
		if text != "" {
			v.Set(name, text)
		}
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
	r := Request{Method: http.MethodGet, Path: ChannelPath(t.address) + "/tail", Query: t.query.values(), Header: http.Header{}}
	if t.lastID != "" {
		r.Header.Set("Last-Event-ID", t.lastID)
	}
	response, err := t.client.Do(ctx, r)
	if err != nil {
		return false, err
	}
	defer response.Body.Close()
	lines := bufio.NewReaderSize(response.Body, 64<<10)
	for {
		line, err := lines.ReadBytes('\n')
		if err != nil {
			return true, fmt.Errorf("the stream ended: %w", err)
		}
		line = bytes.TrimSpace(line)
		if id, ok := bytes.CutPrefix(line, []byte("id: ")); ok {
			t.lastID = string(id)
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

// Server returns the server that answered last.
func (c *Client) Server() string { return c.servers[c.turn.Load()] }
