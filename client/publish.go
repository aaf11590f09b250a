package client

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"time"

	"steadyferry/internal/core/address"
)

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
