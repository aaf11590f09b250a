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
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"steadyferry/internal/core/address"
)

// Client talks to the nodes of a cluster. It can be used by many goroutines.
type Client struct {
	// Waiting, if set, is told when no node can do what is asked now, before
	// it is tried again.
	Waiting func(err error, wait time.Duration)
	// Patience is how long what can safely be repeated is tried again.
	Patience time.Duration

	token   string
	secure  bool // the token goes over TLS only
	http    *http.Client
	publish *http.Client // gives up sooner when a node says nothing

	mu      sync.Mutex
	servers []string          // those that were named, then those that were learned
	turn    int               // the server that answered last
	leaders map[string]string // of partitions, by their addresses, as servers have told
	learned time.Time
}

// Times of the client.
const (
	defaultPatience = 10 * time.Second
	learnEvery      = 30 * time.Second
	silentPublish   = 2 * time.Second // after which another node is asked
	silentTail      = 8 * time.Second // a living tail says something every few seconds
)

// New returns a client for servers (host:port or URLs, separated by commas)
// that are tried in turn. It learns of the other nodes from the first one
// that answers. When a server is named with https, no other is talked to
// without it, whatever servers say, and redirections are never followed.
func New(servers, token string) (*Client, error) {
	transport := func(silent time.Duration) *http.Client {
		return &http.Client{Transport: &http.Transport{
			MaxIdleConnsPerHost: 256, MaxIdleConns: 1024, WriteBufferSize: 64 << 10, ReadBufferSize: 64 << 10, ResponseHeaderTimeout: silent,
			DialContext: (&net.Dialer{Timeout: 2 * time.Second}).DialContext, DisableCompression: true,
		}, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	}
	c := &Client{token: token, http: transport(0), publish: transport(silentPublish), Patience: defaultPatience, leaders: map[string]string{}}
	for s := range strings.SplitSeq(servers, ",") {
		if s = strings.TrimSpace(s); s == "" {
			continue
		}
		if !strings.Contains(s, "://") {
			s = "http://" + s
		}
		u, err := url.Parse(s)
		if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" {
			return nil, fmt.Errorf("server %q: not an address such as 127.0.0.1:7350", s)
		}
		c.secure = c.secure || u.Scheme == "https"
		c.servers = append(c.servers, strings.TrimSuffix(s, "/"))
	}
	if len(c.servers) == 0 {
		return nil, errors.New("no server is named")
	}
	for _, s := range c.servers {
		if !c.allows(s) {
			return nil, fmt.Errorf("server %q: another is named with https, and the token is not sent without it", s)
		}
	}
	return c, nil
}

// allows reports whether the token may be sent to a server, which may have been
// named by another one.
func (c *Client) allows(server string) bool {
	return server != "" && (!c.secure || strings.HasPrefix(server, "https://"))
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

	leaderOf string // the partition, whose leader is asked first
	publish  bool
	once     bool // the caller tries again itself
}

// Do sends a request to the first server that answers. What can safely be
// repeated is sent again while nodes are away or elect a leader, for as long
// as Patience says. An answer that is not a success becomes a *Problem. The
// caller closes the body.
func (c *Client) Do(ctx context.Context, r Request) (*http.Response, error) {
	deadline := time.Now().Add(c.Patience)
	pause := 50 * time.Millisecond
	for {
		response, err, again := c.round(ctx, r)
		if err == nil || !again || r.once || ctx.Err() != nil || time.Now().After(deadline) {
			return response, err
		}
		wait := pause/2 + rand.N(pause)
		if c.Waiting != nil {
			c.Waiting(err, wait)
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(wait):
		}
		pause = min(2*pause, 2*time.Second)
	}
}

// round asks one server after another. again says that the same may be asked
// once more.
func (c *Client) round(ctx context.Context, r Request) (response *http.Response, err error, again bool) {
	safe := r.Method == http.MethodGet && r.Stream == nil
	order := c.order(r.leaderOf)
	for _, server := range order {
		response, err = c.send(ctx, server, r)
		if err == nil {
			c.answered(server, r.leaderOf, response)
			err = checkAnswer(response)
			var p *Problem
			if !errors.As(err, &p) || p.Type != unavailableType {
				return response, err, false
			}
			if !safe {
				return response, err, false // the service has tried already
			}
			again = true
			continue
		}
		c.failed(server, r.leaderOf)
		var dial *net.OpError
		notSent := errors.As(err, &dial) && dial.Op == "dial"
		if ctx.Err() != nil {
			return nil, ctx.Err(), false
		}
		if r.Stream != nil || !notSent && !safe {
			return nil, fmt.Errorf("%w: %w", ErrUnreachable, err), false // it may have been done
		}
		again = len(order) > 1
	}
	var p *Problem
	if !errors.As(err, &p) {
		err = fmt.Errorf("%w: %w", ErrUnreachable, err)
	}
	return nil, err, again
}

// unavailableType is the type of problems that pass.
const unavailableType = "urn:steady-ferry:problem:unavailable"

// order returns the servers in the order in which to ask them.
func (c *Client) order(leaderOf string) []string {
	c.mu.Lock()
	defer c.mu.Unlock()
	order := make([]string, 0, len(c.servers)+1)
	if leader := c.leaders[leaderOf]; leader != "" {
		order = append(order, leader)
	}
	for i := range c.servers {
		if s := c.servers[(c.turn+i)%len(c.servers)]; len(order) == 0 || s != order[0] {
			order = append(order, s)
		}
	}
	return order
}

func (c *Client) answered(server, leaderOf string, response *http.Response) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if leader := response.Header.Get("Ferry-Leader"); c.allows(leader) && leaderOf != "" {
		c.leaders[leaderOf] = strings.TrimSuffix(leader, "/")
	}
	if i := slices.Index(c.servers, server); i >= 0 && leaderOf == "" {
		c.turn = i
	}
	if time.Since(c.learned) > learnEvery {
		c.learned = time.Now()
		go c.learn(server)
	}
}

func (c *Client) failed(server, leaderOf string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.leaders[leaderOf] == server {
		delete(c.leaders, leaderOf)
	}
	if c.servers[c.turn] == server {
		c.turn = (c.turn + 1) % len(c.servers)
	}
}

// learn asks a server for the other nodes.
func (c *Client) learn(server string) {
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	response, err := c.send(ctx, server, Request{Method: http.MethodGet, Path: "/nodes"})
	if err != nil || checkAnswer(response) != nil {
		return
	}
	defer response.Body.Close()
	var cluster Cluster
	if json.NewDecoder(response.Body).Decode(&cluster) != nil || len(cluster.Nodes) < 2 {
		return
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, n := range cluster.Nodes {
		if c.allows(n.URL) && !slices.Contains(c.servers, n.URL) {
			c.servers = append(c.servers, n.URL)
		}
	}
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
	if r.publish {
		return c.publish.Do(request)
	}
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
	return c.sendMessages(ctx, a, partition, mediaType, Request{Header: header, Body: body, publish: true})
}

// PublishStream sends NDJSON as it is read.
func (c *Client) PublishStream(ctx context.Context, a address.Address, partition int, lines io.Reader) (Published, error) {
	return c.sendMessages(ctx, a, partition, NDJSONType, Request{Stream: lines})
}

func (c *Client) sendMessages(ctx context.Context, a address.Address, partition int, mediaType string, r Request) (Published, error) {
	r.Method, r.Path = http.MethodPost, ChannelPath(a)+"/messages"
	if r.Header == nil {
		r.Header = http.Header{}
	}
	r.Header.Set("Content-Type", mediaType)
	if partition >= 0 {
		r.Query = url.Values{"partition": {strconv.Itoa(partition)}}
		a.Partition = partition
		r.leaderOf = a.String()
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
	at := a
	at.Partition = partition
	response, err := c.Do(ctx, Request{Method: http.MethodGet, Path: fmt.Sprintf("%s/partitions/%d/records", ChannelPath(a), partition), leaderOf: at.String(),
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

// Server returns the server that answered last.
func (c *Client) Server() string {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.servers[c.turn]
}
