package client

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"time"

	"github.com/valyala/fasthttp"

	"steadyferry/internal/core/address"
)

// FastPublish returns a function that sends batches to a topic over one
// connection to the server that answered last, with little work a request:
// for measuring the service, not the client. It tries nothing again. The
// function is for one goroutine.
func (c *Client) FastPublish(a address.Address) (func(partition int, batch []byte) error, error) {
	server, err := url.Parse(c.Server())
	if err != nil {
		return nil, err
	}
	host := &fasthttp.HostClient{Addr: server.Host, IsTLS: server.Scheme == "https", MaxConns: 1, ReadBufferSize: 16 << 10, WriteBufferSize: 64 << 10,
		ReadTimeout: time.Minute, WriteTimeout: time.Minute, MaxIdemponentCallAttempts: 1}
	base := c.Server() + "/api/v1" + ChannelPath(a) + "/messages?partition="
	return func(partition int, batch []byte) error {
		request, response := fasthttp.AcquireRequest(), fasthttp.AcquireResponse()
		defer fasthttp.ReleaseRequest(request)
		defer fasthttp.ReleaseResponse(response)
		request.Header.SetMethod(http.MethodPost)
		request.Header.SetContentType(BatchType)
		request.Header.Set("Authorization", "Bearer "+c.token)
		request.SetRequestURI(fmt.Sprint(base, partition))
		request.SetBodyRaw(batch)
		if err := host.Do(request, response); err != nil {
			return fmt.Errorf("%w: %w", ErrUnreachable, err)
		}
		if response.StatusCode() == http.StatusOK {
			return nil
		}
		p := &Problem{Status: response.StatusCode(), Detail: fmt.Sprintf("the server answered %d", response.StatusCode())}
		json.Unmarshal(response.Body(), p)
		return p
	}, nil
}
