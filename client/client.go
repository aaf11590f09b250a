// Package client talks to Steady Ferry over HTTP: it publishes and reads
// messages, and manages spaces and channels. Its types are the JSON that the
// service speaks (docs/http.md).
package client

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"net/url"
	"slices"
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
	// Program, if set, is the name by which the program is known to those who look who
	// publishes: 1 to 100 of a-z 0-9 . _ -.
	Program string
	// Patience is how long what can safely be repeated is tried again.
	Patience time.Duration

	token   string
	secure  bool // the token goes over TLS only
	tls     *tls.Config
	http    *http.Client
	publish *http.Client // gives up sooner when a node says nothing

	mu      sync.Mutex
	servers []string          // those that were named, then those that were learned
	turn    int               // the server that answered last
	leaders map[string]string // of partitions, by their addresses, as servers have told
	part    bool              // an answer left out what may not be seen
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
	secured := &tls.Config{MinVersion: tls.VersionTLS12}
	transport := func(silent time.Duration) *http.Client {
		return &http.Client{Transport: &http.Transport{
			TLSClientConfig:     secured,
			MaxIdleConnsPerHost: 256, MaxIdleConns: 1024, WriteBufferSize: 64 << 10, ReadBufferSize: 64 << 10, ResponseHeaderTimeout: silent,
			DialContext: (&net.Dialer{Timeout: 2 * time.Second}).DialContext, DisableCompression: true,
		}, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	}
	c := &Client{token: token, tls: secured, http: transport(0), publish: transport(silentPublish), Patience: defaultPatience, leaders: map[string]string{}}
	for s := range strings.SplitSeq(servers, ",") {
		if s = strings.TrimSpace(s); s == "" {
			continue
		}
		if !strings.Contains(s, "://") {
			s = "http://" + s
		}
		u, err := url.Parse(s)
		if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" {
			return nil, fmt.Errorf("server %q: not an address such as 127.0.0.1:14720", s)
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

// Trust has certificates of servers be those of authorities in PEM too, besides those of this
// machine. It is called before the client is used.
func (c *Client) Trust(authorities []byte) error {
	pool, err := x509.SystemCertPool()
	if err != nil {
		pool = x509.NewCertPool()
	}
	if !pool.AppendCertsFromPEM(authorities) {
		return errors.New("there is no certificate in it")
	}
	c.tls.RootCAs = pool
	return nil
}

// Present has the client come with a certificate, which stands for somebody where no token does. It is
// called before the client is used.
func (c *Client) Present(cert tls.Certificate) { c.tls.Certificates = []tls.Certificate{cert} }

// As is a client of the same servers that comes with another token.
func (c *Client) As(token string) *Client {
	c.mu.Lock()
	defer c.mu.Unlock()
	return &Client{token: token, secure: c.secure, tls: c.tls, http: c.http, publish: c.publish, Patience: c.Patience, Program: c.Program, servers: slices.Clone(c.servers), leaders: map[string]string{}}
}

// HTTP is by what requests are sent, for those that are not of the API.
func (c *Client) HTTP() *http.Client { return c.http }

// Servers are those that were named, as URLs.
func (c *Client) Servers() []string {
	c.mu.Lock()
	defer c.mu.Unlock()
	return slices.Clone(c.servers)
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

// headerShown is "part" where a list leaves out what whoever asks may not see.
const headerShown = "Ferry-Shown"

// Part reports whether some answer may have left out what whoever asks may not see.
func (c *Client) Part() bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.part
}

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
	c.part = c.part || response.Header.Get(headerShown) == "part"
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
	response, err := c.send(ctx, server, Request{Method: http.MethodGet, Path: "/servers"})
	if err != nil || checkAnswer(response) != nil {
		return
	}
	defer response.Body.Close()
	var all Page[Server]
	if json.NewDecoder(response.Body).Decode(&all) != nil || len(all.Items) < 2 {
		return
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, n := range all.Items {
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
	if c.token != "" {
		request.Header.Set("Authorization", "Bearer "+c.token)
	}
	if c.Program != "" {
		request.Header.Set(HeaderProgram, c.Program)
	}
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

// Server returns the server that answered last.
func (c *Client) Server() string {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.servers[c.turn]
}
