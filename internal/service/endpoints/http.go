package endpoints

import (
	"bytes"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"sync"
	"time"

	"golang.org/x/net/http/httpguts"

	"steadyferry/internal/core/cloudevent"
	"steadyferry/internal/core/endpoint"
	"steadyferry/internal/core/message"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/engine/catalog"
)

// sender posts to a place outside, as it is set at one time. It may be used by many at
// once.
type sender struct {
	es     *Endpoints
	record *catalog.Endpoint
	slots  chan struct{} // one for each delivery that is under way
	keys   [][]byte      // by which it signs
	bearer string
	client *http.Client
	broken error   // why nothing can be sent at all
	rows   *rows   // of a table
	copies *copies // of another Steady Ferry

	mu       sync.Mutex // guards the rest
	welcome  bool       // the place has said that it wants deliveries
	every    time.Duration
	nextTurn time.Time // by the rate that it has said
}

// Bounds of what a place outside may cost.
const (
	maxAnswerHeaders = 16 << 10
	drained          = 64 << 10 // of an answer, so that the connection can be used again
	idleConnection   = 90 * time.Second
)

func (es *Endpoints) newSender(record *catalog.Endpoint, s secrets) *sender {
	n := map[string]int{setting.HTTP: max(record.Parallel, 1), setting.InTable: tableConnections, setting.Ferry: copyConnections}[record.Kind()]
	to := &sender{es: es, record: record, slots: make(chan struct{}, n), keys: s.keys(), bearer: s[bearer]}
	u, err := url.Parse(record.URL)
	if err != nil {
		to.broken = err
		return to
	}
	var secured *tls.Config
	if secured, to.broken = s.tls(u.Hostname()); to.broken != nil {
		return to
	}
	if record.Kind() == setting.InTable {
		to.rows, to.broken = es.newRows(record, u, s[password], secured)
		return to
	}
	transport := &http.Transport{
		Proxy:       nil, // what is dialled is what is checked
		DialContext: es.dial, TLSClientConfig: secured, ForceAttemptHTTP2: true,
		MaxIdleConns: n, MaxIdleConnsPerHost: n, MaxConnsPerHost: n, IdleConnTimeout: idleConnection, TLSHandshakeTimeout: dialTime,
		MaxResponseHeaderBytes: maxAnswerHeaders, DisableCompression: true,
	}
	to.client = &http.Client{Transport: transport, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	if record.Kind() == setting.Ferry {
		to.bearer = s[token]
		to.copies, to.broken = newCopies(to, u)
	}
	return to
}

func (to *sender) close() {
	if to.client != nil {
		to.client.CloseIdleConnections()
	}
	if to.rows != nil {
		to.rows.close()
	}
}

// Item is a message on its way to a place outside.
type Item struct {
	message.Message
	Original  message.Message // before the route's edits
	Source    string          // address of the channel
	Partition int
	Offset    int64
	StoredAt  time.Time
	At        message.Place // the place of the route before it
	UpTo      message.Place // and behind it
}

// Lane is messages of a route that are delivered one after the other.
type Lane struct {
	Route     string        // id
	Source    string        // address of the channel
	Partition int           // of the source
	Number    int           // from 1
	Recovered uint64        // how often the place was recovered by force, if it says
	After     message.Place // up to which the place must have the lane's messages, if it keeps that
}

// id is that of a delivery: it is the same each time that it is tried.
func (ln *Lane) id(i *Item) string {
	return fmt.Sprintf("%s-%d-%d-%d-%d", ln.Route, i.At.Epoch, i.At.Cut, ln.Partition, i.At.Offset)
}

// The headers of a delivery by which a receiver that keeps one place a lane takes each
// message once.
const (
	headerLane  = "Ferry-Lane"
	headerPlace = "Ferry-Place"
)

// send delivers messages of a lane. It returns *route.NotBehind when the place has others
// than those that lie before them.
func (to *sender) send(ctx context.Context, lane *Lane, items []Item) (*endpoint.Answer, error) {
	switch {
	case to.broken != nil:
		return &endpoint.Answer{At: time.Now(), Error: to.broken.Error(), Means: endpoint.Again}, nil
	case to.rows != nil:
		return to.rows.post(ctx, lane, items)
	case to.copies != nil:
		return to.copies.post(ctx, lane, items)
	}
	return to.post(ctx, lane, items), nil
}

// limit is how long an answer may take.
func (to *sender) limit() time.Duration {
	return time.Duration(to.record.TimeLimitMS) * time.Millisecond
}

// passed tells a place which keeps what it has that a message will not come.
func (to *sender) passed(ctx context.Context, lane *Lane, i *Item) {
	if to.rows != nil {
		_ = to.rows.write(ctx, lane, nil, i.UpTo) // else the next ones find out
	}
}

// post delivers messages of a lane, as one request: several only in batches.
func (to *sender) post(ctx context.Context, lane *Lane, items []Item) *endpoint.Answer {
	begun := time.Now()
	failed := func(err error) *endpoint.Answer {
		return &endpoint.Answer{At: time.Now(), Took: time.Since(begun), Error: to.explain(err), Means: endpoint.Again}
	}
	if err := to.keepRate(ctx); err != nil {
		return failed(err)
	}
	ctx, cancel := context.WithTimeout(ctx, to.limit())
	defer cancel()
	if err := to.greet(ctx); err != nil {
		return failed(err)
	}
	begun = time.Now()
	r, err := to.request(ctx, lane, items)
	if err != nil { // it is no request at all
		a := failed(err)
		a.Means = endpoint.Refused
		return a
	}
	answer, err := to.do(r, begun)
	if err != nil {
		return failed(err)
	}
	return answer
}

// do sends a request, and reads what of its answer is kept.
func (to *sender) do(r *http.Request, begun time.Time) (*endpoint.Answer, error) {
	response, err := to.client.Do(r)
	if err != nil {
		return nil, err
	}
	defer response.Body.Close()
	a := &endpoint.Answer{Status: response.StatusCode, Means: endpoint.Judge(response.StatusCode)}
	body := make([]byte, endpoint.MaxAnswer)
	n, err := io.ReadFull(response.Body, body)
	if err == nil {
		_, _ = io.CopyN(io.Discard, response.Body, drained)
	}
	a.Body = strings.ToValidUTF8(strings.ReplaceAll(string(body[:n]), "\x00", ""), "�")
	a.At = time.Now()
	a.Took = a.At.Sub(begun)
	if a.Status == http.StatusTooManyRequests || a.Status == http.StatusServiceUnavailable {
		a.After = endpoint.RetryAfter(response.Header.Get("Retry-After"), a.At)
	}
	if a.Status >= 300 && a.Status < 400 {
		a.Error = fmt.Sprintf("redirects are not followed; it sends to %q", response.Header.Get("Location"))
	}
	return a, nil
}

// explain says why there was no answer, without what only programs need.
func (to *sender) explain(err error) string {
	var wrapped *url.Error
	if errors.As(err, &wrapped) {
		err = wrapped.Err
	}
	var timeout net.Error
	if errors.Is(err, context.DeadlineExceeded) || errors.As(err, &timeout) && timeout.Timeout() {
		return fmt.Sprintf("no answer within %s", to.limit())
	}
	return err.Error()
}

// batchType is what a list of events is, by the binding of CloudEvents to HTTP.
const (
	eventType = "application/cloudevents+json; charset=utf-8"
	batchType = "application/cloudevents-batch+json; charset=utf-8"
)

func (to *sender) request(ctx context.Context, lane *Lane, items []Item) (*http.Request, error) {
	first := &items[0]
	body, contentType := first.Body, first.ContentType
	var headers [][2]string
	switch to.record.Format {
	case setting.Structured:
		event, err := cloudevent.Encode(lane.Source, event(lane, first))
		if err != nil {
			return nil, err
		}
		body, contentType = event, eventType
	case setting.Batched:
		var b bytes.Buffer
		for i := range items {
			event, err := cloudevent.Encode(lane.Source, event(lane, &items[i]))
			if err != nil {
				return nil, err
			}
			b.WriteByte("[,"[min(i, 1)])
			b.Write(event)
		}
		b.WriteByte(']')
		body, contentType = b.Bytes(), batchType
	case setting.Raw:
		headers = cloudevent.Plain(&first.Message)
	default:
		headers = cloudevent.Binary(lane.Source, event(lane, first))
	}
	r, err := http.NewRequestWithContext(ctx, http.MethodPost, to.record.URL, bytes.NewReader(body))
	if err != nil {
		return nil, err
	}
	for name, value := range to.record.Headers {
		r.Header.Set(name, value)
	}
	for _, h := range headers {
		if !httpguts.ValidHeaderFieldName(h[0]) {
			return nil, fmt.Errorf("its header %q cannot be one of HTTP", h[0])
		}
		r.Header.Set(h[0], h[1])
	}
	if contentType != "" {
		r.Header.Set("Content-Type", contentType)
	}
	to.sign(r, lane.id(first), body)
	last := &items[len(items)-1]
	r.Header.Set(headerLane, fmt.Sprintf("%s-%d-%d", lane.Route, lane.Partition, lane.Number))
	r.Header.Set(headerPlace, fmt.Sprintf("%d.%d.%d", last.At.Epoch, last.At.Cut, last.At.Offset))
	return r, nil
}

// event is a message with what an event must have.
func event(lane *Lane, i *Item) *message.Message {
	m := i.Message
	if m.ID == "" {
		m.ID = lane.id(i)
	}
	if m.Time.IsZero() {
		m.Time = i.StoredAt
	}
	return &m
}

// sign says who sends, and signs it.
func (to *sender) sign(r *http.Request, id string, body []byte) {
	now := time.Now()
	r.Header.Set("User-Agent", to.es.config.Agent)
	r.Header.Set(endpoint.HeaderID, id)
	r.Header.Set(endpoint.HeaderTimestamp, strconv.FormatInt(now.Unix(), 10))
	if len(to.keys) > 0 {
		r.Header.Set(endpoint.HeaderSignature, endpoint.Sign(to.keys, id, now, body))
	}
	if to.bearer != "" {
		r.Header.Set("Authorization", "Bearer "+to.bearer)
	}
}

// The headers of the question whether a place wants deliveries, by CloudEvents' HTTP 1.1
// Web Hooks for Event Delivery (section 4).
const (
	headerOrigin        = "WebHook-Request-Origin"
	headerAllowedOrigin = "WebHook-Allowed-Origin"
	headerAllowedRate   = "WebHook-Allowed-Rate"
)

// greet asks the place whether it wants deliveries, before the first one.
func (to *sender) greet(ctx context.Context) error {
	to.mu.Lock()
	defer to.mu.Unlock()
	if to.welcome || !to.record.Handshake {
		return nil
	}
	if err := to.ask(ctx); err != nil {
		return err
	}
	to.welcome = true
	return nil
}

// keepRate waits for as long as the rate asks for that the place has named.
func (to *sender) keepRate(ctx context.Context) error {
	to.mu.Lock()
	wait := time.Until(to.nextTurn)
	if to.every > 0 {
		to.nextTurn = to.nextTurn.Add(to.every)
		if wait < 0 {
			to.nextTurn = time.Now().Add(to.every)
		}
	}
	to.mu.Unlock()
	if wait <= 0 {
		return ctx.Err()
	}
	timer := time.NewTimer(wait)
	defer timer.Stop()
	select {
	case <-timer.C:
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

func (to *sender) ask(ctx context.Context) error {
	r, err := http.NewRequestWithContext(ctx, http.MethodOptions, to.record.URL, nil)
	if err != nil {
		return err
	}
	r.Header.Set(headerOrigin, to.es.config.Origin)
	r.Header.Set("User-Agent", to.es.config.Agent)
	if to.bearer != "" {
		r.Header.Set("Authorization", "Bearer "+to.bearer)
	}
	response, err := to.client.Do(r)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	_, _ = io.CopyN(io.Discard, response.Body, drained)
	origin := response.Header.Get(headerAllowedOrigin)
	if response.StatusCode >= 300 || origin != "*" && !strings.EqualFold(origin, to.es.config.Origin) {
		return fmt.Errorf("asked with OPTIONS whether it wants deliveries from %s, it answered %d with %s %q; if it knows no such question, leave it out with -handshake=false", to.es.config.Origin, response.StatusCode, headerAllowedOrigin, origin)
	}
	if perMinute, err := strconv.Atoi(response.Header.Get(headerAllowedRate)); err == nil && perMinute > 0 {
		to.every = time.Minute / time.Duration(perMinute)
	}
	return nil
}
