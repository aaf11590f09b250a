package client

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"time"

	"github.com/valyala/fasthttp"

	"steadyferry/internal/core/address"
)

// FastPublisher sends batches to the leaders of a topic's partitions with
// little work a request: for measuring the service, not the client. It tries
// nothing again, but asks other nodes after an error. It is for one goroutine.
type FastPublisher struct {
	client  *Client
	address address.Address
	hosts   map[string]*fasthttp.HostClient
	leaders map[int]string
	nodes   []string
	turn    int
}

// FastPublisher returns a fast publisher for a topic, which asks the server
// that answered last.
func (c *Client) FastPublisher(a address.Address) *FastPublisher {
	return &FastPublisher{client: c, address: a, hosts: map[string]*fasthttp.HostClient{}, leaders: map[int]string{}, nodes: []string{c.Server()}}
}

// Learn finds the other nodes, and who leads which partition.
func (p *FastPublisher) Learn(ctx context.Context) error {
	var servers Page[Server]
	var t Channel
	if err := p.client.Call(ctx, http.MethodGet, "/servers", nil, nil, &servers); err != nil {
		return err
	}
	if err := p.client.Call(ctx, http.MethodGet, ChannelPath(p.address), nil, nil, &t); err != nil {
		return err
	}
	urls := map[string]string{}
	p.nodes = p.nodes[:1]
	for _, n := range servers.Items {
		if !p.client.allows(n.URL) {
			continue
		}
		urls[n.Node] = n.URL
		if n.Up && n.URL != p.nodes[0] && len(servers.Items) > 1 {
			p.nodes = append(p.nodes, n.URL)
		}
	}
	for _, each := range t.Each {
		if u := urls[each.Leader]; u != "" && len(servers.Items) > 1 {
			p.leaders[each.Partition] = u
		}
	}
	return nil
}

// Publish sends a batch. After an error the next call asks another node.
func (p *FastPublisher) Publish(partition int, batch []byte) error {
	server := p.leaders[partition]
	if server == "" {
		server = p.nodes[p.turn%len(p.nodes)]
	}
	host, err := p.host(server)
	if err != nil {
		return err
	}
	request, response := fasthttp.AcquireRequest(), fasthttp.AcquireResponse()
	defer fasthttp.ReleaseRequest(request)
	defer fasthttp.ReleaseResponse(response)
	request.Header.SetMethod(http.MethodPost)
	request.Header.SetContentType(BatchType)
	if p.client.token != "" {
		request.Header.Set("Authorization", "Bearer "+p.client.token)
	}
	if p.client.Program != "" {
		request.Header.Set(HeaderProgram, p.client.Program)
	}
	request.SetRequestURI(fmt.Sprint(server, "/api/v1", ChannelPath(p.address), "/messages?partition=", partition))
	request.SetBodyRaw(batch)
	if err := host.Do(request, response); err != nil {
		delete(p.leaders, partition)
		p.turn++
		return fmt.Errorf("%w: %w", ErrUnreachable, err)
	}
	if leader := response.Header.Peek("Ferry-Leader"); p.client.allows(string(leader)) {
		p.leaders[partition] = string(leader)
	}
	if response.StatusCode() == http.StatusOK {
		return nil
	}
	refused := &Problem{Status: response.StatusCode(), Detail: fmt.Sprintf("the server answered %d", response.StatusCode())}
	json.Unmarshal(response.Body(), refused)
	return refused
}

func (p *FastPublisher) host(server string) (*fasthttp.HostClient, error) {
	if h := p.hosts[server]; h != nil {
		return h, nil
	}
	u, err := url.Parse(server)
	if err != nil {
		return nil, err
	}
	h := &fasthttp.HostClient{Addr: u.Host, IsTLS: u.Scheme == "https", TLSConfig: p.client.tls, MaxConns: 1, ReadBufferSize: 16 << 10, WriteBufferSize: 64 << 10,
		ReadTimeout: silentPublish, WriteTimeout: time.Minute, MaxIdemponentCallAttempts: 1}
	p.hosts[server] = h
	return h, nil
}
