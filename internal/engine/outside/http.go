package outside

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"golang.org/x/net/http/httpguts"

	"steadyferry/internal/core/clock"
	"steadyferry/internal/core/cloudevent"
	"steadyferry/internal/core/endpoint"
	"steadyferry/internal/core/message"
	"steadyferry/internal/core/setting"
)

// id is that of a delivery: it is the same each time that it is tried.
func (ln *Lane) id(i *Item) string {
	b := append(make([]byte, 0, 64), ln.Route...)
	for _, n := range []uint64{i.At.Epoch, i.At.Cut, uint64(ln.Partition), uint64(i.At.Offset)} {
		b = strconv.AppendUint(append(b, '-'), n, 10)
	}
	return string(b)
}

// name is that of the lane, for receivers.
func (ln *Lane) name() string {
	return ln.Route + "-" + strconv.Itoa(ln.Partition) + "-" + strconv.Itoa(ln.Number)
}

// The headers of a delivery by which a receiver that keeps one place a lane takes each
// message once.
const (
	headerLane  = "Ferry-Lane"
	headerPlace = "Ferry-Place"
)

// post delivers messages of a lane, as one request: several only in batches.
func (to *Sender) post(ctx context.Context, lane *Lane, items []Item) *endpoint.Answer {
	begun := time.Now()
	failed := func(err error) *endpoint.Answer {
		return &endpoint.Answer{At: time.Now(), Took: time.Since(begun), Error: to.explain(err), Means: endpoint.Again}
	}
	if err := to.greet(ctx); err != nil {
		return failed(err)
	}
	if err := to.keepRate(ctx); err != nil {
		return failed(err)
	}
	ctx, cancel := context.WithTimeout(ctx, to.limit())
	defer cancel()
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
func (to *Sender) do(r *http.Request, begun time.Time) (*endpoint.Answer, error) {
	response, err := to.client.Do(r)
	if err != nil {
		return nil, err
	}
	defer response.Body.Close()
	a := &endpoint.Answer{Status: response.StatusCode, Phrase: http.StatusText(response.StatusCode), Means: endpoint.Judge(response.StatusCode), Ends: shownEnds(response)}
	body := make([]byte, endpoint.MaxAnswer)
	n, err := io.ReadFull(response.Body, body)
	if err == nil {
		_, _ = io.CopyN(io.Discard, response.Body, drained)
	}
	a.Body = strings.ToValidUTF8(strings.ReplaceAll(string(body[:n]), "\x00", ""), "�")
	a.At = time.Now()
	a.Took = a.At.Sub(begun)
	if a.Status == http.StatusTooManyRequests || a.Status == http.StatusServiceUnavailable {
		a.After = retryAfter(response.Header.Get("Retry-After"), a.At)
	}
	if a.Status >= 300 && a.Status < 400 {
		a.Error = fmt.Sprintf("redirects are not followed; it sends to %q", response.Header.Get("Location"))
	}
	return a, nil
}

// shownEnds is when the certificate ends that the other side has shown; zero: it has shown none.
func shownEnds(response *http.Response) (end time.Time) {
	if c := response.TLS; c != nil && len(c.PeerCertificates) > 0 {
		end = c.PeerCertificates[0].NotAfter
	}
	return end
}

// explain says why there was no answer, without what only programs need.
func (to *Sender) explain(err error) string {
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

// MostInBatch is how many messages go in one request, of those places that take several.
const MostInBatch = 100

// batchType is what a list of events is, by the binding of CloudEvents to HTTP.
const (
	eventType = "application/cloudevents+json; charset=utf-8"
	batchType = "application/cloudevents-batch+json; charset=utf-8"
)

func (to *Sender) request(ctx context.Context, lane *Lane, items []Item) (*http.Request, error) {
	first := &items[0]
	body, contentType := first.Body, first.ContentType
	h := make(http.Header, 24)
	var err error
	own := func(name, value string) {
		if canonical := to.canonical("ferry-header-" + name); canonical != "" {
			h[canonical] = []string{value}
		} else {
			err = fmt.Errorf("its header %q cannot be one of HTTP", name)
		}
	}
	switch to.Place.Format {
	case setting.Structured:
		if body, err = cloudevent.Encode(lane.Source, event(lane, first)); err != nil {
			return nil, err
		}
		contentType = eventType
	case setting.Batched:
		if body, err = batch(lane, items); err != nil {
			return nil, err
		}
		contentType = batchType
	case setting.Raw:
		for _, one := range first.Headers {
			own(one.Name, cloudevent.Escape(one.Value))
		}
		for _, one := range []message.Header{{Name: "Ferry-Key", Value: first.Key}, {Name: "Ferry-Id", Value: first.ID}} {
			if one.Value != "" {
				h[one.Name] = []string{cloudevent.Escape(one.Value)}
			}
		}
		if !first.Time.IsZero() {
			h["Ferry-Publisher-Time"] = []string{first.Time.UTC().Format(time.RFC3339Nano)}
		}
	default:
		cloudevent.Binary(lane.Source, event(lane, first), cloudevent.Headers{Own: own, Attribute: func(name, value string) {
			if canonical := to.canonical("ce-" + name); canonical != "" {
				h[canonical] = []string{value}
			} else {
				err = fmt.Errorf("its attribute %q cannot be a header of HTTP", name)
			}
		}})
	}
	if err != nil {
		return nil, err
	}
	if contentType != "" {
		h["Content-Type"] = []string{contentType}
	}
	for name, value := range to.Place.Headers {
		h.Set(name, value)
	}
	to.sign(h, lane.id(first), body)
	h[headerLane] = []string{lane.name()}
	h[headerPlace] = []string{items[len(items)-1].At.String()}
	r := &http.Request{Method: http.MethodPost, URL: to.url, Host: to.url.Host, Proto: "HTTP/1.1", ProtoMajor: 1, ProtoMinor: 1, Header: h,
		ContentLength: int64(len(body)), Body: http.NoBody}
	if len(body) > 0 {
		r.Body = io.NopCloser(bytes.NewReader(body))
		r.GetBody = func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(body)), nil }
	}
	return r.WithContext(ctx), nil
}

// batch is messages as a list of events.
func batch(lane *Lane, items []Item) ([]byte, error) {
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
	return b.Bytes(), nil
}

// mostNames bounds the names of headers that a sender remembers.
const mostNames = 1000

// canonical returns the name of a header as HTTP has it; nothing, if it cannot be one.
func (to *Sender) canonical(name string) string {
	if known, ok := to.names.Load(name); ok {
		return known.(string)
	}
	if !httpguts.ValidHeaderFieldName(name) {
		return ""
	}
	canonical := http.CanonicalHeaderKey(name)
	if to.named.Add(1) < mostNames {
		to.names.Store(name, canonical)
	}
	return canonical
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
func (to *Sender) sign(h http.Header, id string, body []byte) {
	h["User-Agent"] = []string{to.config.Agent}
	h[endpoint.HeaderID] = []string{id}
	if len(to.keys) > 0 {
		now := time.Now()
		h[endpoint.HeaderTimestamp] = []string{strconv.FormatInt(now.Unix(), 10)}
		h[endpoint.HeaderSignature] = []string{endpoint.Sign(to.keys, id, now, body)}
	}
	if to.bearer != "" {
		h["Authorization"] = []string{"Bearer " + to.bearer}
	}
}

// The headers of the question whether a place wants deliveries, by CloudEvents' HTTP 1.1
// Web Hooks for Event Delivery (section 4).
const (
	headerOrigin        = "WebHook-Request-Origin"
	headerAllowedOrigin = "WebHook-Allowed-Origin"
	headerAllowedRate   = "WebHook-Allowed-Rate"
)

// greet asks the place whether it wants deliveries, before the first one. That is before a
// delivery takes its turn too: how often it may come, the place says in its answer.
func (to *Sender) greet(ctx context.Context) error {
	to.mu.Lock()
	defer to.mu.Unlock()
	if to.welcome || !to.Place.Handshake {
		return nil
	}
	ctx, cancel := context.WithTimeout(ctx, to.limit())
	defer cancel()
	if err := to.ask(ctx); err != nil {
		return err
	}
	to.welcome = true
	return nil
}

// keepRate waits for as long as the rate asks for that the place has named.
func (to *Sender) keepRate(ctx context.Context) error {
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
	clock.Wait(ctx, wait)
	return ctx.Err()
}

func (to *Sender) ask(ctx context.Context) error {
	r, err := http.NewRequestWithContext(ctx, http.MethodOptions, to.Place.URL, nil)
	if err != nil {
		return err
	}
	r.Header.Set(headerOrigin, to.config.Origin)
	r.Header.Set("User-Agent", to.config.Agent)
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
	if response.StatusCode >= 300 || origin != "*" && !strings.EqualFold(origin, to.config.Origin) {
		return fmt.Errorf("asked with OPTIONS whether it wants deliveries from %s, it answered %d with %s %q; if it knows no such question, leave it out with -handshake=false", to.config.Origin, response.StatusCode, headerAllowedOrigin, origin)
	}
	if perMinute, err := strconv.Atoi(response.Header.Get(headerAllowedRate)); err == nil && perMinute > 0 {
		to.every = time.Minute / time.Duration(perMinute)
	}
	return nil
}

// maxAfter bounds how long a place may ask to be left alone.
const maxAfter = 24 * time.Hour

// retryAfter reads the header of that name (RFC 9110, section 10.2.3): seconds, or a
// time. It returns 0 without one that can be read.
func retryAfter(text string, now time.Time) time.Duration {
	if seconds, err := strconv.ParseInt(text, 10, 32); err == nil {
		return min(max(time.Duration(seconds)*time.Second, 0), maxAfter)
	}
	if at, err := http.ParseTime(text); err == nil {
		return min(max(at.Sub(now), 0), maxAfter)
	}
	return 0
}
