package main

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"

	"steadyferry/client"
	"steadyferry/cmd/ferryd/clinic"
	"steadyferry/cmd/ferryd/desk"
	"steadyferry/internal/core/address"
	"steadyferry/internal/engine/outside/gatehouse"
	"steadyferry/internal/engine/outside/postbox"
	"steadyferry/internal/engine/postgres"
)

// The endpoints of the demo.
const (
	clinicHook  = "coldchain/clinic-hook"
	clinicTable = "coldchain/clinic-table"
	dutyDesk    = "coldchain/duty-desk"
	dutyMail    = "coldchain/duty-mail"
)

// hookAddress is where the stand-in serves, if that is free.
const hookAddress = "127.0.0.1:14729"

// outside is the places outside of the demo: the stand-in, and a database.
type outside struct {
	hook, secret       string // the stand-in's address, and what signs deliveries to it
	database, password string // address of a database; empty: none of the demo's own
	box                *postbox.Box
}

// openOutside serves the stand-in, and the demo's own database on loopback, until the
// context ends. The stand-in's secret stays the same in the demo's directory.
func (c *config) openOutside(ctx context.Context, listener net.Listener, database string) (*outside, error) {
	path := filepath.Join(c.dir, "clinic.secret")
	b, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		b = []byte("northlight-" + rand.Text())
		err = os.WriteFile(path, b, 0o600)
	}
	if err != nil {
		return nil, err
	}
	o := &outside{secret: strings.TrimSpace(string(b))}
	o.hook = "http://" + listener.Addr().String() + "/"
	if o.box, err = postbox.Open("", "", ""); err != nil {
		return nil, err
	}
	context.AfterFunc(ctx, o.box.Close)
	server := &http.Server{Handler: o.places(gatehouse.New(gateIssuer(listener), gateClient, demoPeople)), ReadHeaderTimeout: 5 * time.Second, ReadTimeout: 10 * time.Second, IdleTimeout: 2 * time.Minute}
	go func() { _ = server.Serve(listener) }() // it ends when it is closed
	context.AfterFunc(ctx, func() { server.Close() })
	u, err := url.Parse(database)
	if err != nil {
		return nil, err
	}
	at, err := postgres.Loopback(ctx, database)
	if err != nil && c.database != "" {
		return o, nil // one that is elsewhere is not the demo's to write into
	}
	if err != nil {
		return nil, err
	}
	o.password, _ = u.User.Password()
	o.database = (&url.URL{Scheme: "postgresql", User: url.User(u.User.Username()), Host: at, Path: u.Path, RawQuery: "sslmode=disable"}).String()
	return o, nil
}

// deskPath is where the desk that is told of incidents is, beside the hook.
const deskPath = "desk/"

// mailPath is where the mail that came is shown, beside the hook.
const mailPath = "mail/"

// places are the stand-ins by their paths.
func (o *outside) places(gate *gatehouse.House) http.Handler {
	mux := http.NewServeMux()
	mux.Handle("/", clinic.New(o.secret))
	mux.Handle("/"+deskPath, desk.New(o.secret))
	mux.Handle("/"+mailPath, o.box.Page())
	mux.Handle("/"+gatePath+"/", gate.Handler())
	return mux
}

// watch has the desk be told of what fails and of what will be lost.
func (o *outside) watch(ctx context.Context, api *client.Client, inspections address.Address) error {
	err := api.Call(ctx, http.MethodPost, "/watches", nil, map[string]any{"address": "coldchain/dead-inspections", "of": inspections.String(), "value": "dead", "warn": "5", "alarm": "10",
		"tell": []string{dutyDesk, dutyMail}, "description": "Inspectors look at what could not be judged"}, nil)
	if err != nil {
		return err
	}
	return api.Call(ctx, http.MethodPatch, "/watches/coldchain/losing", nil, map[string]any{"tell": []string{dutyDesk}}, nil)
}

// make makes the endpoints, or tells them where the places are now.
func (o *outside) make(ctx context.Context, api *client.Client) error {
	all := []map[string]any{{"address": clinicHook, "url": o.hook, "secrets": map[string]string{"signing": o.secret}, "backoff": "1s..30s", "attempts": 4, "timeLimit": "5s",
		"description": "Where clinics hear of boxes that must come back"},
		{"address": dutyDesk, "url": o.hook + deskPath, "secrets": map[string]string{"signing": o.secret}, "description": "Who is told of incidents"},
		{"address": dutyMail, "url": o.box.URL(), "secrets": map[string]string{"authority": o.box.Authority}, "mailFrom": "ferry@northlight.example", "mailTo": []string{"duty@northlight.example"}, "description": "Mail to whoever is on call"}}
	if o.database != "" {
		all = append(all, map[string]any{"address": clinicTable, "url": o.database, "secrets": map[string]string{"password": o.password}, "table": "clinic.readings",
			"columns": map[string]string{"box": "key", "celsius": "/celsius", "battery": "/battery", "at": "/at", "place": "offset", "partition": "partition"}, "description": "Readings as rows, for the clinics' reports"})
	}
	for _, e := range all {
		err := api.Call(ctx, http.MethodPost, "/endpoints", nil, e, nil)
		var p *client.Problem
		if errors.As(err, &p) && p.Status == http.StatusConflict {
			err = api.Call(ctx, http.MethodPatch, "/endpoints/"+fmt.Sprint(e["address"]), nil, map[string]any{"url": e["url"], "secrets": e["secrets"]}, nil)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// archive has readings go into the table from now on.
func (o *outside) archive(ctx context.Context, api *client.Client, readings address.Address) error {
	if o.database == "" {
		return nil
	}
	settings := map[string]any{"group": "archive", "kind": "route", "to": clinicTable, "from": "ago:1m", "description": "Readings for the clinics' reports"}
	err := api.Call(ctx, http.MethodPost, client.ChannelPath(readings)+"/groups", nil, settings, nil)
	if err != nil {
		return err
	}
	// The types of its columns are those of what the route would bring.
	return api.Call(ctx, http.MethodPost, "/endpoints/"+clinicTable+"/table", nil, nil, nil)
}
