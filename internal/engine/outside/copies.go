package outside

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"steadyferry/internal/core/endpoint"
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/message"
	"steadyferry/internal/core/route"
)

// copies sends messages to a channel of another Steady Ferry, which keeps the place up to
// which each of its partitions has a route's messages: so each is there once. A lane is
// one of its partitions.
type copies struct {
	to      *Sender
	channel string // address of the channel's path, without a slash at its end
}

const (
	maxProblem      = 64 << 10 // bytes that are read of an answer
	copyConnections = 16
)

// newCopies returns what sends to the channel that an address ends with.
func newCopies(to *Sender, u *url.URL) (*copies, error) {
	space, channel, ok := strings.Cut(strings.Trim(u.Path, "/"), "/")
	if !ok || strings.Contains(channel, "/") {
		return nil, errors.New("the address ends with no channel: ferry+https://HOST/SPACE/CHANNEL is expected")
	}
	base := url.URL{Scheme: strings.TrimPrefix(u.Scheme, "ferry+"), Host: u.Host}
	return &copies{to, base.String() + "/api/v1/channels/" + url.PathEscape(space) + "/" + url.PathEscape(channel)}, nil
}

// call asks the other Steady Ferry, and reads its answer into out.
func (c *copies) call(ctx context.Context, method, path string, body []byte, out any) (*endpoint.Answer, error) {
	begun := time.Now()
	r, err := http.NewRequestWithContext(ctx, method, c.channel+path, bytes.NewReader(body))
	if err != nil {
		return nil, err
	}
	r.Header.Set("User-Agent", c.to.config.Agent)
	r.Header.Set("Authorization", "Bearer "+c.to.bearer)
	if body != nil {
		r.Header.Set("Content-Type", form.BatchType)
	}
	response, err := c.to.client.Do(r)
	if err != nil {
		return nil, err
	}
	defer response.Body.Close()
	b, err := io.ReadAll(io.LimitReader(response.Body, maxProblem))
	a := &endpoint.Answer{At: time.Now(), Took: time.Since(begun), Status: response.StatusCode, Phrase: http.StatusText(response.StatusCode), Means: endpoint.Judge(response.StatusCode), Ends: shownEnds(response)}
	if err != nil {
		return nil, err
	}
	if a.Means == endpoint.Done {
		return a, json.Unmarshal(b, out)
	}
	a.After = retryAfter(response.Header.Get("Retry-After"), a.At)
	var said form.Problem
	if json.Unmarshal(b, &said) == nil {
		a.Body = said.Detail
	}
	// What is wrong with the token or the channel is no message's fault.
	if a.Status != http.StatusBadRequest && a.Status != http.StatusRequestEntityTooLarge {
		a.Means = endpoint.Again
	}
	return a, nil
}

// partitions asks how many partitions the channel has.
func (c *copies) partitions(ctx context.Context) (int, *endpoint.Answer, error) {
	var ch form.Channel
	a, err := c.call(ctx, http.MethodGet, "", nil, &ch)
	return ch.Partitions, a, err
}

func (c *copies) path(lane *Lane) string {
	return fmt.Sprintf("/partitions/%d/copies/%s?source=%d", lane.Number-1, lane.Route, lane.Partition)
}

// origin tells up to which place a partition has the messages of a route.
func (c *copies) origin(ctx context.Context, lane *Lane) (told route.NotBehind, err error) {
	ctx, cancel := context.WithTimeout(ctx, c.to.limit())
	defer cancel()
	var has form.Copied
	a, err := c.call(ctx, http.MethodGet, c.path(lane), nil, &has)
	if err != nil {
		return told, errors.New(c.to.explain(err))
	}
	if a.Means != endpoint.Done {
		return told, errors.New(a.Says())
	}
	return toldBy(&has)
}

func toldBy(has *form.Copied) (told route.NotBehind, err error) {
	told.Recovered = has.Recovered
	told.Origin, err = message.ParsePlace(has.Place)
	return told, err
}

// post sends messages of a lane as one batch.
func (c *copies) post(ctx context.Context, lane *Lane, items []Item) (*endpoint.Answer, error) {
	ctx, cancel := context.WithTimeout(ctx, c.to.limit())
	defer cancel()
	begun := time.Now()
	var b message.Builder
	for i := range items {
		b.Add(&items[i].Message)
	}
	upTo := items[len(items)-1].UpTo
	var has form.Copied
	a, err := c.call(ctx, http.MethodPost, c.path(lane)+"&after="+lane.After.String()+"&upTo="+upTo.String()+"&recovered="+strconv.FormatUint(lane.Recovered, 10), b.Build(message.Plain, nil), &has)
	if err != nil {
		return &endpoint.Answer{At: time.Now(), Took: time.Since(begun), Error: c.to.explain(err), Means: endpoint.Again}, nil
	}
	if a.Means != endpoint.Done {
		return a, nil
	}
	if !has.Taken {
		told, err := toldBy(&has)
		if err != nil {
			return nil, err
		}
		return nil, &told
	}
	lane.After = upTo
	return a, nil
}

// Partitions asks another Steady Ferry how many partitions the channel has.
func (to *Sender) Partitions(ctx context.Context) (int, error) {
	if to.broken != nil {
		return 0, to.broken
	}
	ctx, cancel := context.WithTimeout(ctx, to.limit())
	defer cancel()
	n, a, err := to.copies.partitions(ctx)
	switch {
	case err != nil:
		return 0, errors.New(to.explain(err))
	case a.Means != endpoint.Done:
		return 0, errors.New(a.Says())
	}
	return n, nil
}
