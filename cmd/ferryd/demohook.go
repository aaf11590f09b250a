package main

import (
	"context"
	"crypto/rand"
	"errors"
	"io/fs"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"time"

	"steadyferry/client"
	"steadyferry/cmd/ferryd/clinic"
)

// clinicHook is the endpoint of the demo that stands for a place outside.
const clinicHook = "coldchain/clinic-hook"

// hookAddress is where the stand-in serves, if that is free.
const hookAddress = "127.0.0.1:14729"

// hook is the stand-in, where it serves.
type hook struct {
	url    string
	secret string
}

// openHook serves the stand-in until the context ends. Its secret stays the same in the
// demo's directory.
func (c *config) openHook(ctx context.Context) (*hook, error) {
	path := filepath.Join(c.dir, "clinic.secret")
	b, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		b = []byte("northlight-" + rand.Text())
		err = os.WriteFile(path, b, 0o600)
	}
	if err != nil {
		return nil, err
	}
	h := &hook{secret: strings.TrimSpace(string(b))}
	listener, err := net.Listen("tcp", hookAddress)
	if err != nil { // another demo has it
		if listener, err = net.Listen("tcp", "127.0.0.1:0"); err != nil {
			return nil, err
		}
	}
	h.url = "http://" + listener.Addr().String() + "/"
	server := &http.Server{Handler: clinic.New(h.secret), ReadHeaderTimeout: 5 * time.Second, ReadTimeout: 10 * time.Second, IdleTimeout: 2 * time.Minute}
	go func() { _ = server.Serve(listener) }() // it ends when it is closed
	context.AfterFunc(ctx, func() { server.Close() })
	return h, nil
}

func (h *hook) secrets() map[string]string { return map[string]string{"signing": h.secret} }

// moved tells the endpoint where the stand-in is now.
func (h *hook) moved(ctx context.Context, api *client.Client) error {
	return api.Call(ctx, http.MethodPatch, "/endpoints/"+clinicHook, nil, map[string]any{"url": h.url, "secrets": h.secrets()}, nil)
}
